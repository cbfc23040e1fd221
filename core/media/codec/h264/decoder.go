package h264

import (
	"context"
	"io"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media"
	"vividstrain/core/media/codec/nal"
)

// decoder reads headers in Send, decodes pictures in goroutines of its own, and
// hands frames out in Receive.
type decoder struct {
	stream
	track   media.Track
	follows int64 // when the next frame is shown, where it does not say

	jobs    chan *job
	idle    chan *job
	out     chan *frame
	drained sync.Once
	stop    chan struct{}
	workers sync.WaitGroup
	busy    atomic.Int64 // nanoseconds
}

// NewDecoder starts a decoder with so many threads (at least one). The track's
// Config is an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1), or
// empty for packets in the byte stream format of annex B.
func NewDecoder(t media.Track, threads int) (media.Decoder, error) {
	threads = max(threads, 1)
	d := &decoder{track: t, stop: make(chan struct{}),
		jobs: make(chan *job, threads), idle: make(chan *job, 2*threads+1), out: make(chan *frame, threads+1)}
	d.init()
	d.lend = func(ctx context.Context) (*job, error) {
		select {
		case j := <-d.idle:
			return j, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	d.hand = func(ctx context.Context, j *job) error {
		j.shared = threads > 1
		select {
		case d.jobs <- j:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if len(t.Config) > 0 {
		if err := d.configure(t.Config); err != nil {
			return nil, err
		}
	}
	for range cap(d.idle) {
		d.idle <- new(job)
	}
	all := &team{threads: int32(threads)}
	for range threads {
		d.workers.Go(func() { d.work(all) })
	}
	return d, nil
}

// work keeps to one thread of the operating system, so that what a decoding
// thread uses can be read from outside.
func (d *decoder) work(t *team) {
	runtime.LockOSThread()
	w := newWorker(t)
	before := clock.ThreadTime()
	for j := range d.jobs {
		w.run(j)
		j.reset()
		now := clock.ThreadTime()
		d.busy.Add(int64(now - before))
		before = now
		d.idle <- j
	}
}

// Busy is the processor time that the decoder's threads have used.
func (d *decoder) Busy() time.Duration { return time.Duration(d.busy.Load()) }

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	d.hidden = p.Hidden
	c := nal.NewCursor(p.Data, d.prefix)
	for unit := c.Next(); unit != nil; unit = c.Next() {
		if err := d.unit(ctx, unit, p.PTS); err != nil {
			return err
		}
	}
	if err := d.dispatch(ctx); err != nil {
		return err
	}
	return d.deliver(ctx)
}

// deliver hands out the frames whose turn it is.
func (d *decoder) deliver(ctx context.Context) error {
	for len(d.ready) > 0 {
		select {
		case d.out <- d.ready[0]:
			d.ready = append(d.ready[:0], d.ready[1:]...)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func (d *decoder) Drain() {
	d.drained.Do(func() {
		d.end()
		go func() {
			defer close(d.out)
			for _, f := range d.ready {
				select {
				case d.out <- f:
				case <-d.stop:
					return
				}
			}
		}()
	})
}

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	f, err := d.next(ctx)
	for err == nil && f.hidden {
		f.drop()
		f, err = d.next(ctx)
	}
	if err != nil {
		return media.Frame{}, err
	}
	f.awaitAll()
	frame := media.Frame{Picture: &f.pic, PTS: f.pts, Damaged: f.damaged.Load()}
	if frame.PTS == media.NoTime {
		frame.PTS = d.follows
	}
	d.follows = frame.PTS + d.period()
	return frame, nil
}

// period is how long a frame lasts by the frame rate that is stated, in the track's units;
// without one it is a unit.
func (d *decoder) period() int64 {
	rate, scale := d.track.Format.Rate, d.track.Timescale
	if rate.Num <= 0 || rate.Den <= 0 {
		return 1
	}
	if scale <= 0 {
		scale = int64(rate.Num)
	}
	return max(1, (scale*int64(rate.Den)+int64(rate.Num)/2)/int64(rate.Num))
}

// next takes the next frame, which may not be decoded yet.
func (d *decoder) next(ctx context.Context) (*frame, error) {
	select {
	case f, open := <-d.out:
		if !open {
			return nil, io.EOF
		}
		return f, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (d *decoder) Close() {
	close(d.stop)
	close(d.jobs)
	d.workers.Wait()
}
