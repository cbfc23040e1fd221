package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/stream"
)

// progressive is a film in one file, read while it plays.
type progressive struct {
	address string
	remote  *remote
	file    *registry.File
	track   media.Track
	video   int
}

// openFilm starts to read a film whose answer has begun.
func (v *viewer) openFilm(ctx context.Context, address string, answer *http.Response, head []byte) (feed, error) {
	r := &remote{client: v.client, address: address, size: answer.ContentLength, blocks: map[int64][]byte{}}
	if r.size < 0 {
		r.size = math.MaxInt64 / 2
		r.unknown = true
	}
	r.begin(ctx, answer, 0)
	r.keep(head)
	f := &progressive{address: address, remote: r}
	fail := func(err error) (feed, error) {
		r.close()
		var fetch *FetchError
		if errors.As(err, &fetch) || ctx.Err() != nil {
			return nil, err
		}
		return nil, &FetchError{address, &contentError{err}}
	}
	var err error
	if f.file, err = registry.Read(r, r.size); err != nil {
		return fail(err)
	}
	if f.track, _, err = describe(ctx, f.file); err != nil {
		return fail(err)
	}
	f.video, _ = f.file.Video() // describe has found it
	if err := v.match(f.track); err != nil {
		return fail(err)
	}
	return f, nil
}

func (f *progressive) length() time.Duration {
	if f.remote.unknown {
		return 0
	}
	return f.track.Duration
}

// run reads packets from a position on; at the end of the film it starts again.
func (f *progressive) run(ctx context.Context, v *viewer, at time.Duration) error {
	f.remote.ctx = ctx
	defer f.remote.close()
	if at > 0 || v.jumped() {
		seeker, can := f.file.Demuxer.(media.Seeker)
		if !can {
			return &FetchError{f.address, fmt.Errorf("jumps in %s files are not supported; in mp4 they are", f.file.Container)}
		}
		if err := seeker.SeekTo(f.video, int64(at.Seconds()*float64(f.track.Timescale))); err != nil {
			return f.failed(ctx, err)
		}
	}
	v.mu.Lock()
	v.film, v.offset = f.length(), at
	v.mu.Unlock()
	have := time.Duration(0)
	for {
		took, err := f.play(ctx, v, have)
		if err != nil {
			return f.failed(ctx, err)
		}
		if took <= 0 {
			return &FetchError{f.address, media.ErrNoVideo}
		}
		have += took
		if f.remote.unknown {
			if err := f.again(ctx, v); err != nil {
				return err
			}
		} else {
			f.remote.forget() // each repetition is fetched again: real films are longer than what players keep
			if err := f.file.Rewind(); err != nil {
				return f.failed(ctx, err)
			}
		}
		v.mu.Lock()
		v.offset = -have // the film starts again
		v.mu.Unlock()
	}
}

// again requests a film again that the server makes while it is fetched.
func (f *progressive) again(ctx context.Context, v *viewer) error {
	f.remote.close()
	next, err := v.openAt(ctx, v.server.address(v.asked), 1)
	if err != nil {
		return err
	}
	p, same := next.(*progressive)
	if !same {
		return &FetchError{f.address, errors.New("it is no longer a film")}
	}
	*f = *p
	f.remote.ctx = ctx
	return nil
}

// failed adds to an error where it came from.
func (f *progressive) failed(ctx context.Context, err error) error {
	var fetch *FetchError
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.As(err, &fetch) {
		return err
	}
	return &FetchError{f.address, &contentError{err}}
}

// reordered is how far display order may differ from the order in the file, in frames.
const reordered = 16

// play reads the film to its end and returns its duration; before is what was played earlier.
func (f *progressive) play(ctx context.Context, v *viewer, before time.Duration) (took time.Duration, err error) {
	var p media.Packet
	scale := float64(f.track.Timescale)
	first, end := math.NaN(), 0.0
	frames, missing := 0, 0
	fetched := f.remote.got
	for {
		if err := v.room(ctx); err != nil {
			return 0, err
		}
		err := f.file.ReadPacket(&p)
		if errors.Is(err, io.EOF) || err != nil && f.remote.unknown && f.remote.ended {
			break
		}
		if err != nil {
			return 0, err
		}
		v.mu.Lock()
		v.sent.Bytes += f.remote.got - fetched
		v.mu.Unlock()
		fetched = f.remote.got
		if p.Track != f.video || p.Hidden || p.PTS == media.NoTime {
			continue
		}
		at := float64(p.PTS) / scale
		if math.IsNaN(first) {
			first = at
		}
		frames++
		lasts := float64(p.Duration) / scale
		if lasts <= 0 || lasts > 4/v.hz {
			lasts = 1 / v.hz
		}
		end = max(end, at+lasts-first)
		lost := max(0, int(math.Round(end*v.hz))-frames-reordered-missing)
		missing += lost
		v.arrived(before+time.Duration(end*1e9), lost)
	}
	return time.Duration(end * 1e9), nil
}

// jumped reports whether the viewer has jumped.
func (v *viewer) jumped() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.buffer.Jumps() > 0 || v.buffer.Jumping()
}

// remote is a file on a server that is read as it arrives; other parts are requested separately.
// It is for one goroutine at a time.
type remote struct {
	client  *client
	ctx     context.Context
	address string
	size    int64
	unknown bool // its size is unknown

	answer *http.Response // the answer being read, nil: none
	at     int64          // position in the file
	ended  bool           // at the end of a file of unknown size
	got    int64          // total bytes received
	blocks map[int64][]byte
	order  []int64 // of the blocks, oldest first
	buffer []byte
}

// Recently read data are kept in blocks.
const (
	blockSize = 32 << 10
	maxBlocks = 384       // blocks of one viewer
	allBlocks = 512 << 20 // bytes, of all viewers together
	fewBlocks = 4         // blocks that a viewer needs to read on
	// near is the distance up to which later data are awaited rather than requested separately.
	near = 512 << 10
)

// blocksFor returns how many blocks each of the viewers may keep.
func blocksFor(viewers int) int64 {
	return max(fewBlocks, min(maxBlocks, int64(allBlocks/blockSize/max(viewers, 1))))
}

// forget discards what was read, so that it is fetched again.
func (r *remote) forget() {
	r.close()
	clear(r.blocks)
	r.order = r.order[:0]
}

func (r *remote) begin(ctx context.Context, answer *http.Response, at int64) {
	r.ctx, r.answer, r.at = ctx, answer, at
}

func (r *remote) close() {
	if r.answer != nil {
		r.answer.Body.Close()
		r.answer = nil
	}
}

// keep stores the next data.
func (r *remote) keep(p []byte) {
	r.got += int64(len(p))
	for len(p) > 0 {
		n := r.at / blockSize
		b, there := r.blocks[n]
		if !there {
			b = make([]byte, 0, blockSize)
			r.order = append(r.order, n)
			if int64(len(r.order)) > r.client.server.own.blocks.Load() {
				delete(r.blocks, r.order[0])
				r.order = r.order[1:]
			}
		}
		inside := int(r.at % blockSize)
		if inside > len(b) { // its beginning was never read
			r.at += int64(len(p))
			return
		}
		room := min(len(p), blockSize-inside)
		if inside+room > len(b) {
			b = append(b[:inside], p[:room]...)
		}
		r.blocks[n] = b
		p = p[room:]
		r.at += int64(room)
	}
}

// ReadAt waits for the requested data.
func (r *remote) ReadAt(p []byte, offset int64) (n int, err error) {
	for n < len(p) {
		at := offset + int64(n)
		if at >= r.size || r.ended && at >= r.at {
			return n, io.EOF
		}
		b := r.blocks[at/blockSize]
		if inside := int(at % blockSize); inside < len(b) {
			n += copy(p[n:], b[inside:])
			continue
		}
		if err := r.fetch(at); err != nil {
			return n, err
		}
	}
	return n, nil
}

// fetch makes sure that the block containing offset at is there.
func (r *remote) fetch(at int64) error {
	begin := at / blockSize * blockSize
	switch {
	case r.unknown && (r.answer == nil || at < r.at):
		return &FetchError{r.address, errors.New("it cannot be read again from an earlier position")}
	case r.answer == nil:
		answer, err := r.client.open(r.ctx, r.address, stream.Span{Offset: begin})
		if err != nil {
			return err
		}
		r.begin(r.ctx, answer, begin)
	case at < r.at || at > r.at+near:
		return r.apart(begin)
	}
	return r.more()
}

// apart requests one block without giving up the answer being read.
func (r *remote) apart(begin int64) error {
	data, _, err := r.client.whole(r.ctx, r.address, stream.Span{Offset: begin, Size: min(blockSize, r.size-begin)}, blockSize)
	if err == nil && len(data) == 0 {
		err = &FetchError{r.address, errors.New("the server sent nothing of the part that was asked for")}
	}
	if err != nil {
		return err
	}
	at := r.at
	r.at = begin
	r.keep(data)
	r.at = at
	return nil
}

// more reads further.
func (r *remote) more() error {
	if r.buffer == nil {
		r.buffer = make([]byte, 32<<10)
	}
	body, timeout := r.answer.Body, r.client.server.options.Timeout
	stop := context.AfterFunc(r.ctx, func() { body.Close() })
	defer stop()
	watchdog := time.AfterFunc(timeout, func() { body.Close() })
	n, err := body.Read(r.buffer)
	silent := !watchdog.Stop()
	r.keep(r.buffer[:n])
	switch {
	case n > 0:
		return nil
	case errors.Is(err, io.EOF) && r.unknown:
		r.ended = true
		r.close()
		return nil
	case errors.Is(err, io.EOF):
		r.close()
		return &FetchError{r.address, fmt.Errorf("the server closed the connection after %d of %d bytes", r.at, r.size)}
	case r.ctx.Err() != nil:
		return context.Cause(r.ctx)
	case silent:
		return &FetchError{r.address, fmt.Errorf("%w: nothing for %s", errSilent, timeout)}
	case err != nil:
		return &FetchError{r.address, errors.New(strings.TrimSpace(plain(err)))}
	}
	return nil
}
