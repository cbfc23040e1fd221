package mjpeg

import (
	"bytes"
	"context"
	"image"
	"image/jpeg"
	"io"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// decoder decodes several packets at once, each on a thread of its own, and
// hands the pictures out in the order in which the packets came in.
type decoder struct {
	idle    chan *job // jobs nobody works on: bounds what is in flight
	todo    chan *job
	ordered chan *job // the jobs in the order of Send
	drained sync.Once
	workers sync.WaitGroup
	track   media.Track
	busy    atomic.Int64 // nanoseconds
}

// job is one packet on its way to become a picture.
type job struct {
	data   []byte
	reader bytes.Reader
	frame  media.Frame
	err    error
	done   chan struct{} // holds a token when frame or err is set
}

// NewDecoder starts a decoder with so many threads (at least one).
func NewDecoder(t media.Track, threads int) (media.Decoder, error) {
	threads = max(threads, 1)
	d := &decoder{
		idle:    make(chan *job, threads+1),
		todo:    make(chan *job, threads+1),
		ordered: make(chan *job, threads+1),
		track:   t,
	}
	for range threads + 1 {
		d.idle <- &job{done: make(chan struct{}, 1)}
	}
	for range threads {
		d.workers.Go(d.work)
	}
	return d, nil
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	if p.Hidden {
		return nil
	}
	select {
	case j := <-d.idle:
		j.data, p.Data = p.Data, j.data[:0]
		j.frame.PTS = p.PTS
		d.ordered <- j // never blocks: there are no more jobs than room
		d.todo <- j
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (d *decoder) Drain() { d.drained.Do(func() { close(d.ordered); close(d.todo) }) }

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	select {
	case j, open := <-d.ordered:
		if !open {
			return media.Frame{}, io.EOF
		}
		<-j.done
		frame, err := j.frame, j.err
		d.idle <- j
		return frame, err
	case <-ctx.Done():
		return media.Frame{}, ctx.Err()
	}
}

func (d *decoder) Close() {
	d.Drain()
	d.workers.Wait()
}

// work keeps to one thread of the operating system, so that what a decoding
// thread uses can be read from outside.
func (d *decoder) work() {
	runtime.LockOSThread()
	before := clock.ThreadTime()
	for j := range d.todo {
		j.reader.Reset(j.data)
		j.frame.Picture, j.err = decode(&j.reader, d.track.Format)
		now := clock.ThreadTime()
		d.busy.Add(int64(now - before))
		before = now
		j.done <- struct{}{}
	}
}

// Busy is the processor time that the decoder's threads have used.
func (d *decoder) Busy() time.Duration { return time.Duration(d.busy.Load()) }

// decode decodes one image. Its size must be that of the track (where the
// track states one), which bounds what a hostile file can ask for.
func decode(r *bytes.Reader, f media.Format) (*picture.Picture, error) {
	size := r.Size()
	config, err := jpeg.DecodeConfig(r)
	if err != nil {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: err.Error()}
	}
	if config.Width > media.MaxSide || config.Height > media.MaxSide ||
		(f.Width > 0 && (config.Width != f.Width || config.Height != f.Height)) {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: "a picture of another size than the track's"}
	}
	if _, err := r.Seek(-size, io.SeekEnd); err != nil {
		return nil, err
	}
	decoded, err := jpeg.Decode(r)
	if err != nil {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: err.Error()}
	}
	return wrap(decoded)
}

// wrap makes a picture around the planes of a decoded image.
func wrap(decoded image.Image) (*picture.Picture, error) {
	size := decoded.Bounds().Size()
	p := &picture.Picture{Width: size.X, Height: size.Y, Depth: 8}
	switch m := decoded.(type) {
	case *image.Gray:
		p.Chroma = picture.C400
		p.Planes[0] = picture.Plane{Pix: m.Pix, Stride: m.Stride}
		return p, nil
	case *image.YCbCr:
		switch m.SubsampleRatio {
		case image.YCbCrSubsampleRatio420:
			p.Chroma = picture.C420
		case image.YCbCrSubsampleRatio422:
			p.Chroma = picture.C422
		case image.YCbCrSubsampleRatio444:
			p.Chroma = picture.C444
		default:
			return nil, &media.UnsupportedError{Format: Name, What: "chroma sampling " + m.SubsampleRatio.String()}
		}
		p.Planes = [3]picture.Plane{{Pix: m.Y, Stride: m.YStride}, {Pix: m.Cb, Stride: m.CStride}, {Pix: m.Cr, Stride: m.CStride}}
		return p, nil
	}
	return nil, &media.UnsupportedError{Format: Name, What: "a colour model other than YCbCr and grey"}
}
