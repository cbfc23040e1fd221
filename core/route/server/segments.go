package server

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"errors"
	"hash/crc32"
	"math"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media/stream"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// kindOf returns what an answer is, from its first bytes.
func kindOf(head []byte) int {
	text := strings.TrimLeft(strings.TrimPrefix(string(head), "\ufeff"), " \t\r\n")
	switch {
	case strings.HasPrefix(text, "#EXTM3U"):
		return aPlaylist
	case strings.HasPrefix(text, "<") && strings.Contains(text, "<MPD"):
		return aManifest
	}
	return aFilm
}

// segmented is a film in segments.
type segmented struct {
	server  *Server
	address string // of the playlist
	reload  func(data []byte, base *url.URL) (*stream.Playlist, error)

	mu   sync.Mutex
	list *stream.Playlist
}

func (s *Server) reloadHLS(data []byte, base *url.URL) (*stream.Playlist, error) {
	list, _, err := s.checks.parseHLS(data, base)
	if err == nil && list == nil {
		err = &stream.PlaylistError{What: "it has become a playlist of variants"}
	}
	return list, err
}

// leastSegments is how many segments an attempt must watch, and a film must have, to measure how
// fast segments arrive.
const leastSegments = 3

// long returns an error if the segments are too long for the hold, or too few.
func (s *segmented) long(hold time.Duration) error {
	list := s.now()
	var longest time.Duration
	for _, p := range list.Segments {
		longest = max(longest, p.Duration)
	}
	if list.Ended && len(list.Segments) < 2 {
		return &route.UnfitError{Unfit: route.TooShort, Err: &FetchError{s.address, errors.New("the film has only one segment, too few to measure how fast segments come")}}
	}
	if need := leastSegments * longest; need > hold {
		return &route.ShortHoldError{Need: need.Round(time.Second)}
	}
	return nil
}

func (s *segmented) now() *stream.Playlist {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list
}

func (s *segmented) length() (total time.Duration) {
	list := s.now()
	if !list.Ended {
		return 0
	}
	for _, p := range list.Segments {
		total += p.Duration
	}
	return total
}

// begins returns where segment number of a finished film begins, as the playlist says.
func begins(list *stream.Playlist, number int) (at time.Duration) {
	for _, p := range list.Segments[:number-list.First] {
		at += p.Duration
	}
	return at
}

// fromEnd is how many segments before the end of a live film viewers start (RFC 8216, 6.3.3).
const fromEnd = 3

// run fetches segment after segment; at the end of the film it starts again.
func (s *segmented) run(ctx context.Context, v *viewer, at time.Duration) error {
	list := s.now()
	number, skipped := list.First, time.Duration(0)
	if list.Ended {
		for i := 0; i < len(list.Segments)-1 && skipped+list.Segments[i].Duration <= at; i++ {
			skipped += list.Segments[i].Duration
			number++
		}
	} else {
		number = max(list.First, list.First+len(list.Segments)-fromEnd)
	}
	v.mu.Lock()
	v.film, v.offset = s.length(), skipped
	v.mu.Unlock()
	have, end := time.Duration(0), math.NaN()
	stretch := 1.0 // ratio of real durations to those in the playlist
	for {
		p, round, err := s.segment(ctx, v, &number)
		if err != nil {
			return err
		}
		if round {
			end = math.NaN()
		}
		if err := v.room(ctx); err != nil {
			return err
		}
		found, err := v.fetch(ctx, p, have, time.Duration(stretch*float64(p.Duration)))
		if err != nil {
			return err
		}
		if p.Duration > 0 {
			stretch = found.lasts.Seconds() / p.Duration.Seconds()
		}
		missing := found.missing
		if gap := found.from - end; found.timed && !p.Discontinuity && gap > 0.6/v.hz && gap < 60 {
			missing += int(math.Round(gap * v.hz))
		}
		end = found.to
		if found.odd != "" {
			v.note("%s", found.odd)
		}
		if list := s.now(); list.Ended && found.size > 0 {
			v.stamped(found.stamp - begins(list, number).Seconds())
		}
		have += found.lasts
		v.arrived(have, missing)
		number++
	}
}

// segment returns a segment by number, and waits for it where the film is live; round means that
// the film starts again with it.
func (s *segmented) segment(ctx context.Context, v *viewer, number *int) (p stream.Segment, round bool, err error) {
	for waited := time.Duration(0); ; {
		list := s.now()
		i := *number - list.First
		switch {
		case i < 0: // it is gone; the oldest one is the nearest
			v.note("segments were gone before they were fetched")
			*number = list.First
			continue
		case i < len(list.Segments):
			return list.Segments[i], round, nil
		case list.Ended && len(list.Segments) == 0:
			return p, false, &FetchError{s.address, &stream.PlaylistError{What: "it lists nothing"}}
		case list.Ended:
			*number, round = list.First, true
			continue
		case waited > max(s.server.options.Timeout, 3*list.Refresh):
			return p, false, &FetchError{s.address, errors.New("the live playlist has stopped growing")}
		}
		wait := list.Refresh / 2
		waited += wait
		v.rest()
		if err := (clock.Real{}).Sleep(ctx, wait); err != nil {
			return p, false, context.Cause(ctx)
		}
		if err := s.look(ctx, v); err != nil {
			return p, false, err
		}
	}
}

// rest reports that nothing is being fetched.
func (v *viewer) rest() {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.fetching {
		v.buffer.Rest(time.Since(v.ordered))
		v.fetching = false
	}
}

// stamped compares how far time stamps are from their places in the playlist with the segments
// before: a server that begins anew after a jump often counts from zero again.
func (v *viewer) stamped(offset float64) {
	const apart = 1 // seconds, more than segments differ from their stated durations
	if v.offsetKnown && abs(offset-v.stampOffset) > apart {
		v.do(func(b *tally.Viewer, _ time.Duration) { b.BeganAnew(tally.ByTimeStamps) })
	}
	v.stampOffset, v.offsetKnown = offset, true
}

// changed fetches the playlist of a finished film again and reports whether it has become another
// one, as that of a server that began anew.
func (s *segmented) changed(ctx context.Context, v *viewer) bool {
	before := s.now()
	if s.reload == nil || !before.Ended || s.look(ctx, v) != nil {
		return false
	}
	after := s.now()
	return before.First != after.First || !slices.EqualFunc(before.Segments, after.Segments, func(a, b stream.Segment) bool {
		return a.URL == b.URL && a.Bytes == b.Bytes && a.Discontinuity == b.Discontinuity
	})
}

// look fetches the playlist again.
func (s *segmented) look(ctx context.Context, v *viewer) error {
	data, from, err := v.client.whole(ctx, s.address, stream.Span{}, maxPlaylist)
	if err != nil {
		return err
	}
	list, err := s.reload(data, from)
	if err != nil {
		return &FetchError{s.address, err}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if list.ByURL {
		list.Follow(s.list)
	}
	s.list = list
	return nil
}

// fetch fetches a segment and examines it, or compares it with what another viewer found; have
// is the duration of what came before, and the segment lasts about as long as stated.
func (v *viewer) fetch(ctx context.Context, p stream.Segment, have, lasts time.Duration) (*finding, error) {
	init, err := v.initSegment(ctx, p.Init)
	if err != nil {
		return nil, err
	}
	answer, err := v.client.open(ctx, p.URL, p.Bytes)
	if err != nil {
		return nil, err
	}
	name := checkName{p.URL, p.Bytes}
	c := v.server.checks
	known, mine := c.claim(name)
	var data []byte
	if mine {
		defer c.leave(name)
		data = make([]byte, 0, max(0, min(answer.ContentLength, maxExamined)))
	}
	var got int64
	sum := uint32(0)
	n, err := v.client.body(ctx, answer, stream.MaxSegmentBytes, func(part []byte) error {
		sum = crc32.Update(sum, castagnoli, part)
		if mine = mine && len(data)+len(part) <= maxExamined; mine {
			data = append(data, part...)
		} else {
			data = nil // too large to be kept; it is played, but not examined
		}
		if got += int64(len(part)); answer.ContentLength > got {
			share := float64(got) / float64(answer.ContentLength)
			v.do(func(b *tally.Viewer, now time.Duration) { b.Arriving(now, have+time.Duration(share*float64(lasts))) })
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if p.Bytes.Size > 0 && n != p.Bytes.Size || answer.ContentLength > 0 && n != answer.ContentLength {
		return nil, &FetchError{p.URL, errors.New("the server closed the connection")}
	}
	v.mu.Lock()
	v.sent.Bytes += n
	v.sent.Pieces++
	v.mu.Unlock()
	if mine {
		if data, err = v.decrypt(ctx, p, data); err != nil {
			return nil, err
		}
		known = v.examine(ctx, p, init, data)
		known.size, known.sum = n, sum
		c.put(name, known)
	}
	return v.judge(ctx, p, known, n, sum)
}

// judge returns what was found in a segment, by this viewer or another.
func (v *viewer) judge(ctx context.Context, p stream.Segment, known *finding, n int64, sum uint32) (*finding, error) {
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case known == nil: // another viewer is examining it
		return &finding{lasts: p.Duration}, nil
	case known.err != nil:
		return nil, &FetchError{p.URL, &contentError{known.err}}
	case known.size != n || known.sum != sum: // its content varies
		v.server.checks.forget(checkName{p.URL, p.Bytes})
		return &finding{lasts: p.Duration}, nil
	}
	v.mu.Lock()
	v.sent.Checked++
	v.buffer.Damaged(known.damaged)
	v.mu.Unlock()
	if err := v.match(known.track); err != nil {
		return nil, &FetchError{p.URL, err}
	}
	return known, nil
}

// maxExamined is the largest size of segments that are examined, in bytes; larger ones are only
// counted.
const maxExamined = 48 << 20

// maxHead is the largest size of what precedes the first segment, in bytes.
const maxHead = 4 << 20

// initSegment fetches an initialisation segment, once.
func (v *viewer) initSegment(ctx context.Context, r *stream.Reference) ([]byte, error) {
	if r == nil {
		return nil, nil
	}
	if data, fetched := v.inits[*r]; fetched {
		return data, nil
	}
	data, _, err := v.client.whole(ctx, r.URL, r.Bytes, maxHead)
	if err != nil {
		return nil, err
	}
	if len(v.inits) > 16 {
		clear(v.inits)
	}
	data = v.server.checks.init(data)
	v.inits[*r] = data
	return data, nil
}

// decrypt decrypts a segment.
func (v *viewer) decrypt(ctx context.Context, p stream.Segment, data []byte) ([]byte, error) {
	if p.Key == nil {
		return data, nil
	}
	secret, fetched := v.keys[p.Key.URL]
	if !fetched {
		var err error
		if secret, _, err = v.client.whole(ctx, p.Key.URL, stream.Span{}, 1<<10); err != nil {
			return nil, err
		}
		if len(secret) != 16 {
			return nil, &FetchError{p.Key.URL, errors.New("a key for AES-128 has 16 bytes")}
		}
		v.keys[p.Key.URL] = secret
	}
	block, err := aes.NewCipher(secret)
	if err != nil {
		return nil, err
	}
	if len(data) == 0 || len(data)%16 != 0 {
		return nil, &FetchError{p.URL, errors.New("it is not encrypted as the playlist says")}
	}
	cipher.NewCBCDecrypter(block, p.Key.IV[:]).CryptBlocks(data, data)
	padding := int(data[len(data)-1])
	if padding < 1 || padding > 16 || !bytes.Equal(data[len(data)-padding:], bytes.Repeat([]byte{byte(padding)}, padding)) {
		return nil, &FetchError{p.URL, errors.New("it is not encrypted as the playlist says")}
	}
	return data[:len(data)-padding], nil
}
