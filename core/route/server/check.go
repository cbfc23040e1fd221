package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"net/url"
	"runtime"
	"slices"
	"sync"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/stream"
	"vividstrain/core/media/stream/hls"
)

// finding is what was found in a segment.
type finding struct {
	size int64
	sum  uint32 // CRC-32C

	track    media.Track
	lasts    time.Duration // total duration of its pictures
	timed    bool          // its times continue those of the previous segment
	from, to float64       // seconds
	stamp    float64       // time stamp of the first picture, in seconds
	missing  int           // missing frames
	damaged  int           // damaged frames, as far as it was decoded
	odd      string        // what differs from the playlist
	err      error
}

// castagnoli is the polynomial of CRC-32C, for which processors have instructions: three times as
// fast as the quickest hash at hand, and as good against accidents.
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// checkName identifies a segment.
type checkName struct {
	url   string
	bytes stream.Span
}

// checks are the findings of all viewers: a segment that many fetch is examined once, and then
// compared.
type checks struct {
	mu       sync.Mutex
	known    map[checkName]*finding      // nil while a viewer examines it
	held     int                         // bytes waiting to be decoded
	decoding sync.Mutex                  // one segment is decoded at a time
	lists    map[string]*stream.Playlist // finished ones, by address and content
	inits    map[string][]byte           // initialisation segments, by content
}

func newChecks() *checks {
	return &checks{known: map[checkName]*finding{}, lists: map[string]*stream.Playlist{}, inits: map[string][]byte{}}
}

// maxShared is the largest number of playlists, and of initialisation segments, that viewers share.
const maxShared = 256

// parseHLS parses a playlist of HLS. A finished one that another viewer has fetched is not parsed
// again, and is in memory once.
func (c *checks) parseHLS(data []byte, from *url.URL) (*stream.Playlist, []stream.Variant, error) {
	name := from.String() + "\n" + string(data)
	c.mu.Lock()
	list := c.lists[name]
	c.mu.Unlock()
	if list != nil {
		return list, nil, nil
	}
	list, variants, err := hls.Parse(data, from)
	if err == nil && list != nil && list.Ended && !list.ByURL {
		c.mu.Lock()
		if len(c.lists) >= maxShared {
			clear(c.lists)
		}
		c.lists[name] = list
		c.mu.Unlock()
	}
	return list, variants, err
}

// init returns an initialisation segment as it is in memory already, if another viewer has fetched
// the same one.
func (c *checks) init(data []byte) []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	if same, known := c.inits[string(data)]; known {
		return same
	}
	if len(c.inits) >= maxShared {
		clear(c.inits)
	}
	c.inits[string(data)] = data
	return data
}

// maxKnown is the largest number of findings that are kept.
const maxKnown = 1 << 16

// claim returns what is known about a segment; mine means that the caller must examine it, and
// then put the result or leave.
func (c *checks) claim(name checkName) (known *finding, mine bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	known, claimed := c.known[name]
	if claimed {
		return known, false
	}
	if len(c.known) >= maxKnown {
		clear(c.known)
	}
	c.known[name] = nil
	return nil, true
}

func (c *checks) put(name checkName, f *finding) {
	c.mu.Lock()
	c.known[name] = f
	c.mu.Unlock()
}

// leave gives up a claim without a result.
func (c *checks) leave(name checkName) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if known, claimed := c.known[name]; claimed && known == nil {
		delete(c.known, name)
	}
}

func (c *checks) forget(name checkName) {
	c.mu.Lock()
	delete(c.known, name)
	c.mu.Unlock()
}

// examine examines a segment, and keeps it for decoding if it was selected.
func (v *viewer) examine(ctx context.Context, p stream.Segment, init, data []byte) *finding {
	joined := data
	if len(init) > 0 {
		joined = slices.Concat(init, data)
	}
	f := &finding{lasts: p.Duration}
	file, err := registry.Read(bytes.NewReader(joined), int64(len(joined)))
	if err != nil {
		f.err = err
		return f
	}
	var decodable bool
	if f.track, decodable, err = describe(ctx, file); err != nil {
		f.err = err
		return f
	}
	video, _ := file.Video() // describe has found it
	if f.err = f.times(file, video, v.hz); f.err != nil {
		return f
	}
	f.timed, f.stamp = file.Container == "mp4", f.from
	if o, normalised := file.Demuxer.(interface{ Origin() int64 }); normalised {
		f.stamp += float64(o.Origin()) / float64(f.track.Timescale)
	}
	if off := (f.lasts - p.Duration).Abs(); p.Duration > 0 && off > 200*time.Millisecond && off > p.Duration/10 {
		f.odd = fmt.Sprintf("segments do not last as long as the playlist says (%.2f s instead of %.2f s)", f.lasts.Seconds(), p.Duration.Seconds())
	}
	if decodable && v.random.Float64() < v.server.options.Verify {
		v.postpone(verification{p, f, joined, video})
	}
	return f
}

// describe returns the properties of a file's video; of a codec that is not decoded here, those
// that its container states.
func describe(ctx context.Context, file *registry.File) (t media.Track, decodable bool, err error) {
	t, err = registry.Describe(ctx, file)
	var unsupported *media.UnsupportedError
	if !errors.As(err, &unsupported) {
		return t, true, err
	}
	video, err := file.Video()
	if err != nil {
		return t, false, err
	}
	t = file.Tracks()[video]
	t.Format.Codec, t.Format.Bitrate = t.Codec, 0
	return t, false, file.Rewind()
}

// maxFrames is the largest number of frames in a segment.
const maxFrames = 1 << 18

// times reads the presentation times of a segment.
func (f *finding) times(file *registry.File, video int, hz float64) error {
	var times []float64
	var p media.Packet
	scale, last := float64(f.track.Timescale), 0.0
	for {
		err := file.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if p.Track != video || p.Hidden || p.PTS == media.NoTime {
			continue
		}
		if times = append(times, float64(p.PTS)/scale); len(times) > maxFrames {
			return errors.New("it has too many frames")
		}
		last = float64(p.Duration) / scale
	}
	if len(times) == 0 {
		return media.ErrNoVideo
	}
	slices.Sort(times)
	period := 1 / hz
	if r := f.track.Format.Rate; r.Num > 0 {
		period = 1 / r.Hz()
	}
	if last <= 0 || last > 4*period {
		last = period
	}
	for i := 1; i < len(times); i++ {
		if gap := times[i] - times[i-1]; gap > 1.5*period {
			f.missing += int(math.Round(gap/period)) - 1
		}
	}
	f.from, f.to = times[0], times[len(times)-1]+last
	f.lasts = time.Duration(math.Round((f.to - f.from) * 1e9))
	return nil
}

// verification is a segment waiting to be decoded.
type verification struct {
	segment stream.Segment
	found   *finding
	data    []byte // the segment with its initialisation segment before it
	video   int    // track
}

// maxHeld is the most that waits to be decoded, in bytes.
const maxHeld = 64 << 20

// postpone keeps a segment until watching is over: decoding takes cores and this viewer's time,
// which would make the server look slow. What does not fit is not decoded.
func (v *viewer) postpone(l verification) {
	c := v.server.checks
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held+len(l.data) > maxHeld {
		return
	}
	c.held += len(l.data)
	v.pending = append(v.pending, l)
}

// verifyPending decodes the selected segments.
func (v *viewer) verifyPending(ctx context.Context) error {
	for _, l := range v.pending {
		err := v.verify(ctx, l)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return &FetchError{l.segment.URL, &contentError{err}}
		}
	}
	return nil
}

// verify decodes a segment.
func (v *viewer) verify(ctx context.Context, l verification) error {
	c := v.server.checks
	c.decoding.Lock()
	defer c.decoding.Unlock()
	file, err := registry.Read(bytes.NewReader(l.data), int64(len(l.data)))
	if err != nil {
		return err
	}
	found := *l.found // others may be reading the original
	found.err = registry.Decode(ctx, file, l.video, runtime.NumCPU(), func(frame media.Frame) error {
		if frame.Damaged {
			found.damaged++
		}
		return nil
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	c.put(checkName{l.segment.URL, l.segment.Bytes}, &found)
	v.mu.Lock()
	v.sent.Decoded++
	v.buffer.Damaged(found.damaged)
	v.mu.Unlock()
	return found.err
}

// letGo discards what was kept for decoding.
func (v *viewer) letGo() {
	c := v.server.checks
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, l := range v.pending {
		c.held -= len(l.data)
	}
	v.pending = nil
}
