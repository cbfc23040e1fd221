package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/url"
	"slices"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/stream"
	"vividstrain/core/media/stream/dash"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// startTimeout is how long a viewer waits for its first picture: longer than any start that a
// verdict would accept. It also applies to jumps.
const startTimeout = 15 * time.Second

// afterJump is how long a viewer watches after a jump.
const afterJump = time.Second

// viewer watches one film.
type viewer struct {
	server *Server
	asked  load.Load
	hold   time.Duration // how long to watch
	plan   route.Plan
	from   float64 // where in the film to start, 0 to 1
	random *rand.Rand
	client *client

	mu       sync.Mutex
	buffer   *tally.Viewer
	ordered  time.Time
	ends     *time.Timer // ends watching
	fetching bool
	film     time.Duration // its length, 0: not known
	offset   time.Duration // position in the film of the buffer's time zero
	hz       float64
	sent     tally.Delivered
	media    time.Duration // duration of what was sent

	// Used by the fetching goroutine.
	inits   map[stream.Reference][]byte
	keys    map[string][]byte
	matched bool
	pending []verification
	// stampOffset is how far the last time stamps were from their place in the playlist, in seconds.
	stampOffset float64
	offsetKnown bool

	began   time.Time
	account *tally.Tally // set when it has been watched
	first   bool         // the first one to fail
	err     error
}

// errEnough ends watching after the planned time.
var errEnough = errors.New("watched for long enough")

// do calls f with the buffer and the current time.
func (v *viewer) do(f func(b *tally.Viewer, now time.Duration)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	now := time.Since(v.ordered)
	v.buffer.Advance(now)
	f(v.buffer, now)
}

// watch watches the film as the plan says, and then jumps in it.
func (v *viewer) watch(ctx context.Context) error {
	defer v.client.close()
	defer v.letGo()
	v.inits, v.keys = map[stream.Reference][]byte{}, map[string][]byte{}
	v.mu.Lock()
	v.ordered = time.Now()
	v.mu.Unlock()
	var f feed
	err := v.during(ctx, func(ctx context.Context) (err error) {
		if f, err = v.open(ctx); err != nil {
			return err
		}
		if s, is := f.(*segmented); is {
			if err := s.long(v.plan.Hold); err != nil {
				return err
			}
		}
		return f.run(ctx, v, time.Duration(v.from*float64(f.length())))
	})
	for range v.server.options.Jumps {
		if err != nil || f == nil || f.length() == 0 {
			break
		}
		err = v.jump(ctx, f)
	}
	if err == nil {
		err = v.verifyPending(ctx)
	}
	v.finish()
	return err
}

// during runs work until the buffer has been watched long enough, or playing does not begin in
// time.
func (v *viewer) during(ctx context.Context, work func(ctx context.Context) error) error {
	inner, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	v.mu.Lock()
	v.ends = time.AfterFunc(startTimeout, func() { cancel(errEnough) })
	v.mu.Unlock()
	err := work(inner)
	v.mu.Lock()
	v.ends.Stop()
	v.mu.Unlock()
	if errors.Is(err, errEnough) || err != nil && context.Cause(inner) == errEnough {
		return nil
	}
	return err
}

// jump goes forwards, back, and to where the film was fetched but not played, in turn; then to
// random positions.
func (v *viewer) jump(ctx context.Context, f feed) error {
	place, film := 0.5, f.length()
	v.do(func(b *tally.Viewer, now time.Duration) {
		at, fetched := share(v.offset+b.Played(), film), share(v.offset+b.Have(), film)
		switch b.Jumps() {
		case 0:
			place = (1 + fetched) / 2
		case 1:
			place = at / 2
		case 2:
			place = (at + fetched) / 2
		default:
			place = v.random.Float64()
		}
		kind := tally.Forward
		switch {
		case place < at:
			kind = tally.Back
		case place <= fetched:
			kind = tally.Inside
		}
		b.Jump(now, kind)
		v.fetching = true
	})
	err := v.during(ctx, func(ctx context.Context) error {
		return f.run(ctx, v, time.Duration(place*float64(f.length())))
	})
	v.do(func(b *tally.Viewer, _ time.Duration) {
		if err == nil && ctx.Err() == nil && b.Jumping() {
			err = fmt.Errorf("there was no picture within %s of a jump", startTimeout)
		}
	})
	if s, is := f.(*segmented); is && err == nil && s.changed(ctx, v) {
		v.do(func(b *tally.Viewer, _ time.Duration) { b.BeganAnew(tally.ByPlaylist) })
	}
	return err
}

// share returns a position as a share of the film, which is repeated; 0 where its length is not
// known.
func share(at, film time.Duration) float64 {
	if film <= 0 {
		return 0
	}
	return (at % film).Seconds() / film.Seconds()
}

// finish closes the account.
func (v *viewer) finish() {
	v.do(func(b *tally.Viewer, now time.Duration) {
		if began, yes := b.Started(); yes {
			v.began = v.ordered.Add(began)
		}
		t := b.Finish(now, v.hz)
		if v.media > 0 {
			v.sent.Bitrate = 8 * float64(v.sent.Bytes) / v.media.Seconds()
		}
		sent := v.sent
		t.Delivered = &sent
		v.account = &t
	})
}

func (v *viewer) live(l *route.Live) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.ordered.IsZero() {
		l.Viewers = append(l.Viewers, tally.Standing{Waits: true})
		return
	}
	v.buffer.Advance(time.Since(v.ordered))
	w := v.buffer.Standing()
	w.Played, w.Fetched, w.Film = w.Played+v.offset, w.Fetched+v.offset, v.film
	l.Viewers = append(l.Viewers, w)
}

// feed is a film in the form in which a server offers it.
type feed interface {
	// run fetches the film from a position on, again and again, as the viewer's buffer has room,
	// until ctx ends.
	run(ctx context.Context, v *viewer, at time.Duration) error
	// length returns the duration of the film, 0 where not known.
	length() time.Duration
}

// room waits until the buffer has room, and reports that fetching goes on.
func (v *viewer) room(ctx context.Context) error {
	for {
		wait := time.Duration(0)
		v.do(func(b *tally.Viewer, now time.Duration) {
			if !b.Full() {
				if !v.fetching {
					b.Fetch(now)
					v.fetching = true
				}
				return
			}
			wait = max(b.Lead()-v.server.options.Ahead, time.Millisecond)
			if v.fetching {
				b.Rest(now)
				v.fetching = false
			}
		})
		if wait == 0 {
			return nil
		}
		due := time.Now().Add(wait)
		if err := (clock.Real{}).Sleep(ctx, wait); err != nil {
			return context.Cause(ctx)
		}
		v.server.own.woke(time.Since(due))
	}
}

// arrived counts media from where watching began up to until. If playing starts with that, it
// sets when to stop.
func (v *viewer) arrived(until time.Duration, missing int) {
	v.do(func(b *tally.Viewer, now time.Duration) {
		before := b.Have()
		begins := b.Arrived(now, until)
		b.Missing(missing)
		v.media += max(0, until-before)
		if !begins {
			return
		}
		started, _ := b.Started()
		left := started + v.hold - now
		if b.Jumps() > 0 {
			left = afterJump
		}
		if left > 0 {
			v.ends.Reset(left)
		}
	})
}

// open requests the address and returns what it offers: a playlist, a manifest, or a film.
func (v *viewer) open(ctx context.Context) (feed, error) {
	v.do(func(b *tally.Viewer, now time.Duration) {
		b.Fetch(now)
		v.fetching = true
	})
	return v.openAt(ctx, v.server.address(v.asked), 0)
}

func (v *viewer) openAt(ctx context.Context, address string, depth int) (feed, error) {
	answer, err := v.client.open(ctx, address, stream.Span{})
	if err != nil {
		return nil, err
	}
	from := answer.Request.URL
	head := make([]byte, media.SniffLen)
	n, err := io.ReadFull(answer.Body, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		answer.Body.Close()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, &FetchError{address, err}
	}
	head = head[:n]
	kind := kindOf(head)
	if kind == aFilm {
		return v.openFilm(ctx, from.String(), answer, head)
	}
	rest := make([]byte, 0, len(head))
	rest = append(rest, head...)
	if _, err := v.client.body(ctx, answer, maxPlaylist, func(p []byte) error {
		rest = append(rest, p...)
		return nil
	}); err != nil {
		return nil, err
	}
	if kind == aManifest {
		variants, err := dash.Parse(rest, from, time.Now())
		if err != nil {
			return nil, &FetchError{address, err}
		}
		return v.openDASH(ctx, address, variants)
	}
	list, variants, err := v.server.checks.parseHLS(rest, from)
	switch {
	case err != nil:
		return nil, &FetchError{address, err}
	case list != nil:
		return &segmented{server: v.server, address: from.String(), list: list, reload: v.server.reloadHLS}, nil
	case depth > 0:
		return nil, &FetchError{address, &stream.PlaylistError{What: "a playlist of variants lists another one"}}
	}
	return v.openAt(ctx, variants[v.choose(variants)].URL, depth+1)
}

// What an address may offer.
const (
	aFilm = iota
	aPlaylist
	aManifest
)

// choose returns the variant that is nearest to the request: by height first, then by bitrate.
func (v *viewer) choose(variants []stream.Variant) (best int) {
	f, _ := wanted(v.asked)
	distance := func(x stream.Variant) (float64, float64) {
		height := 0.0
		if x.Format.Height > 0 {
			height = abs(float64(x.Format.Height - f.Height))
		}
		return height, abs(float64(x.Bitrate - f.Bitrate))
	}
	for i := range variants {
		h, b := distance(variants[i])
		if bestH, bestB := distance(variants[best]); h < bestH || h == bestH && b < bestB {
			best = i
		}
	}
	return best
}

func abs(x float64) float64 { return max(x, -x) }

// openDASH opens the representation that is nearest to the request.
func (v *viewer) openDASH(ctx context.Context, address string, variants []stream.Variant) (feed, error) {
	i := v.choose(variants)
	x := variants[i]
	s := &segmented{server: v.server, address: address, list: x.List}
	if x.Index == nil {
		s.reload = func(data []byte, base *url.URL) (*stream.Playlist, error) {
			list, err := dash.Parse(data, base, time.Now())
			if err != nil {
				return nil, err
			}
			if i >= len(list) {
				return nil, &stream.PlaylistError{What: "the representation has gone"}
			}
			return list[i].List, nil
		}
		return s, nil
	}
	data, _, err := v.client.whole(ctx, x.Index.URL, x.Index.Bytes, maxPlaylist)
	if err != nil {
		return nil, err
	}
	if s.list, err = dash.ParseIndex(data, x.Index); err != nil {
		return nil, &FetchError{x.Index.URL, err}
	}
	return s, nil
}

// match compares what arrives with the request, once.
func (v *viewer) match(t media.Track) error {
	if v.matched {
		return nil
	}
	v.matched = true
	got := t.Format
	got.Bitrate = 0
	treatment := judgeFormat(got, v.asked)
	if f, _ := wanted(v.asked); got.Rate.Num == 0 {
		got.Rate = f.Rate // the rate is not stated
	}
	if got.Depth == 0 {
		got.Depth = 8
	}
	words := load.Load{Format: got, Streams: 1}.String()
	v.mu.Lock()
	v.sent.Treatment, v.sent.Format = treatment, words[:max(0, len(words)-len(" 0"))]
	if got.Rate.Num > 0 {
		v.hz = got.Rate.Hz()
	}
	v.mu.Unlock()
	if treatment == notAsked {
		return fmt.Errorf("what arrives is not what was asked: %s instead of %s", v.sent.Format, v.asked)
	}
	return nil
}

// The treatments that are recognised.
const (
	asIs      = media.AsIs
	converted = "converted"
	notAsked  = "not what was asked"
)

// judgeFormat compares what arrives with the request. What is not known of either counts as
// right; a conversion may keep the picture's shape within the goal's size.
func judgeFormat(got media.Format, l load.Load) string {
	f, convert := wanted(l)
	same := func(a, b int) bool { return a == b || a == 0 || b == 0 }
	rate := f.Rate.Num == 0 || got.Rate.Num == 0 || abs(got.Rate.Hz()/f.Rate.Hz()-1) < 0.01
	codec := f.Codec == "" || got.Codec == f.Codec
	if !convert {
		if codec && rate && same(got.Width, f.Width) && same(got.Height, f.Height) && same(got.Depth, f.Depth) && got.Interlaced == f.Interlaced {
			return asIs
		}
		return notAsked
	}
	fits := got.Width <= f.Width+8 && got.Height <= f.Height+8 && (got.Width >= f.Width-8 || got.Height >= f.Height-8)
	if l.Goal.ToSDR && got.HDR() {
		return notAsked
	}
	if codec && rate && fits {
		return converted
	}
	return notAsked
}

// note adds a remark on what arrives, once.
func (v *viewer) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	v.mu.Lock()
	defer v.mu.Unlock()
	if len(v.sent.Notes) < 10 && !slices.Contains(v.sent.Notes, text) {
		v.sent.Notes = append(v.sent.Notes, text)
	}
}
