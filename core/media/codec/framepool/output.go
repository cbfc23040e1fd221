package framepool

import (
	"context"
	"io"
	"sync"

	"vividstrain/core/media"
)

// Waiter is a frame of a decoded picture buffer.
type Waiter interface {
	Waiting() bool      // it waits for output
	OutputOrder() int32 // its position in display order: PicOrderCnt
}

// NextOutput is the bumping process (Rec. ITU-T H.264, C.4.5.3; H.265, C.5.2.4). Of the waiting
// frames of a buffer it returns the first in display order, if more than depth frames wait or
// the buffer holds more than capacity frames.
func NextOutput[F Waiter](buffer []F, depth, capacity int) (first F, found bool) {
	n := 0
	for _, f := range buffer {
		if !f.Waiting() {
			continue
		}
		if n == 0 || f.OutputOrder() < first.OutputOrder() {
			first = f
		}
		n++
	}
	return first, n > depth || n > 0 && len(buffer) > capacity
}

// Output passes frames from the goroutine that reads headers to the one that receives.
type Output[F any] struct {
	frames  chan F
	stop    chan struct{}
	drained sync.Once
}

// NewOutput returns an Output that buffers up to room frames.
func NewOutput[F any](room int) *Output[F] {
	return &Output[F]{frames: make(chan F, room), stop: make(chan struct{})}
}

// Deliver outputs the frames of *ready, in order, and removes those from the list. It waits
// while there is no room.
func (o *Output[F]) Deliver(ctx context.Context, ready *[]F) error {
	for len(*ready) > 0 {
		select {
		case o.frames <- (*ready)[0]:
			*ready = append((*ready)[:0], (*ready)[1:]...)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// Drain outputs the last frames from a goroutine of its own; Next returns io.EOF after them.
// Only the first call has an effect; rest is called there.
func (o *Output[F]) Drain(rest func() []F) {
	o.drained.Do(func() {
		frames := rest()
		go func() {
			defer close(o.frames)
			for _, f := range frames {
				select {
				case o.frames <- f:
				case <-o.stop:
					return
				}
			}
		}()
	})
}

// Next returns the next frame, which may not be final yet.
func (o *Output[F]) Next(ctx context.Context) (f F, err error) {
	select {
	case f, open := <-o.frames:
		if !open {
			return f, io.EOF
		}
		return f, nil
	case <-ctx.Done():
		return f, ctx.Err()
	}
}

// Close stops what Drain started.
func (o *Output[F]) Close() { close(o.stop) }

// Times supplies times for frames whose packets do not state them.
type Times struct {
	Track media.Track
	next  int64
}

// Of returns the time of the next frame in display order: its own, or that of the previous frame
// plus one frame duration by the track's rate, or one unit where it has no rate.
func (t *Times) Of(pts int64) int64 {
	if pts == media.NoTime {
		pts = t.next
	}
	t.next = pts + t.duration()
	return pts
}

func (t *Times) duration() int64 {
	rate, scale := t.Track.Format.Rate, t.Track.Timescale
	if rate.Num <= 0 || rate.Den <= 0 {
		return 1
	}
	if scale <= 0 {
		scale = int64(rate.Num)
	}
	return max(1, (scale*int64(rate.Den)+int64(rate.Num)/2)/int64(rate.Num))
}

// DropAll drops frames that were output, after each has had them if it is not nil. It returns the empty
// list.
func DropAll[F interface{ Drop() }](list []F, each func(F)) []F {
	for _, f := range list {
		if each != nil {
			each(f)
		}
		f.Drop()
	}
	clear(list)
	return list[:0]
}
