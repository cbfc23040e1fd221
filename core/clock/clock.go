// Package clock provides real and virtual time behind one interface, so that the same code
// conducts a run on a real device and on a simulated one.
package clock

import (
	"context"
	"sync"
	"time"
)

// Clock tells the time, waits, and calls functions at a fixed interval.
type Clock interface {
	// Now returns the current time of this clock.
	Now() time.Time
	// Sleep waits for d, or until ctx ends, and then returns ctx's error.
	Sleep(ctx context.Context, d time.Duration) error
	// Every calls f at each multiple of d from now on, one call at a time, until stop is called.
	// f is not called after stop has returned.
	Every(d time.Duration, f func(now time.Time)) (stop func())
}

// Real is the computer's own clock. The zero value works.
type Real struct{}

// Now returns time.Now.
func (Real) Now() time.Time { return time.Now() }

// Sleep waits for d or for the end of ctx.
func (Real) Sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Every calls f from a goroutine of its own. A call that overruns its interval delays the next
// one; skipped intervals are not made up for.
func (Real) Every(d time.Duration, f func(now time.Time)) (stop func()) {
	done := make(chan struct{})
	var ended sync.WaitGroup
	ended.Go(func() {
		ticker := time.NewTicker(d)
		defer ticker.Stop()
		for {
			select {
			case now := <-ticker.C:
				f(now)
			case <-done:
				return
			}
		}
	})
	var once sync.Once
	return func() {
		once.Do(func() { close(done) })
		ended.Wait()
	}
}

// Virtual is a clock that moves only when somebody sleeps on it or advances it. It is driven by
// one goroutine; functions registered with Every run on that goroutine, in the order of their
// times.
type Virtual struct {
	now     time.Time
	tickers []*ticker
}

type ticker struct {
	next  time.Time
	every time.Duration
	call  func(time.Time)
}

// NewVirtual returns a virtual clock that starts at start.
func NewVirtual(start time.Time) *Virtual { return &Virtual{now: start} }

// Now returns the virtual time.
func (v *Virtual) Now() time.Time { return v.now }

// Sleep advances the clock by d at once.
func (v *Virtual) Sleep(ctx context.Context, d time.Duration) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	v.AdvanceTo(v.now.Add(d))
	return nil
}

// AdvanceTo moves the clock to t and makes the calls that are due on the way. A time in the past
// changes nothing.
func (v *Virtual) AdvanceTo(t time.Time) {
	for {
		due := v.earliest(t)
		if due == nil {
			break
		}
		v.now = due.next
		due.next = due.next.Add(due.every)
		due.call(v.now)
	}
	if t.After(v.now) {
		v.now = t
	}
}

// earliest returns the ticker that is due next, no later than t, or nil.
func (v *Virtual) earliest(t time.Time) *ticker {
	var first *ticker
	for _, k := range v.tickers {
		if !k.next.After(t) && (first == nil || k.next.Before(first.next)) {
			first = k
		}
	}
	return first
}

// Every registers f; it is called by Sleep and AdvanceTo.
func (v *Virtual) Every(d time.Duration, f func(now time.Time)) (stop func()) {
	k := &ticker{next: v.now.Add(d), every: d, call: f}
	v.tickers = append(v.tickers, k)
	return func() {
		for i := range v.tickers {
			if v.tickers[i] == k {
				v.tickers = append(v.tickers[:i], v.tickers[i+1:]...)
				return
			}
		}
	}
}
