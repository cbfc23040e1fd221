package framepool

import (
	"context"
	"io"
	"sync"

	"vividstrain/core/media"
)

// Waiter is a frame of a decoded picture buffer.
type Waiter interface {
	Waiting() bool      // for output
	OutputOrder() int32 // its place in the order of display: PicOrderCnt
}

// NextOutput is the bumping process (Rec. ITU-T H.264, C.4.5.3; H.265, C.5.2.4): of the frames of
// a buffer that wait it returns the first in order of display, if more than depth of them wait or
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

// Output hands frames from the goroutine that reads headers to the one that receives.
type Output[F any] struct {
	frames  chan F
	stop    chan struct{}
	drained sync.Once
}

// NewOutput returns an Output with room for so many frames.
func NewOutput[F any](room int) *Output[F] {
	return &Output[F]{frames: make(chan F, room), stop: make(chan struct{})}
}

// Deliver hands out the frames of *ready, in order, and takes those that went from the list. It
// waits while there is no room.
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

// Drain hands out the last frames in a goroutine of its own; Next returns io.EOF after them. Only
// the first call counts: rest is called there.
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

// Close ends what Drain started.
func (o *Output[F]) Close() { close(o.stop) }

// Times gives frames the times that their packets do not state.
type Times struct {
	Track media.Track
	next  int64
}

// Of returns the time of the next frame in order of display: its own, or that of the frame before
// and the duration of one by the track's frame rate, a unit where it states none.
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
