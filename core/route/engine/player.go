package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// startTimeout is how long a stream may take until its queue is full: longer than any start that
// a verdict would accept.
const startTimeout = 15 * time.Second

// longAgo is the decoding time of frames that were ready before playing began.
const longAgo = -time.Hour

// player plays one stream with three goroutines: one sends packets to the decoder, one takes
// pictures from it into a bounded queue, one shows them.
type player struct {
	source
	canvas *canvas       // nil: there is no screen
	queue  chan struct{} // a token for each free place in the queue
	full   chan struct{} // closed when playing can begin
	jumps  int           // after the last window
	reopen func() (source, error)

	mu       sync.Mutex
	screen   *tally.Screen
	waiting  []media.Frame // decoded pictures in display order, with their number as PTS
	began    time.Time     // zero: not yet
	account  tally.Tally
	onScreen media.Frame
}

func newPlayer(s source, c tally.ScreenConfig, queue int) *player {
	p := &player{source: s, screen: tally.NewScreen(c), queue: make(chan struct{}, queue),
		full: make(chan struct{}), waiting: make([]media.Frame, 0, queue)}
	for range queue {
		p.queue <- struct{}{}
	}
	return p
}

func (p *player) close() {
	p.canvas.close(p.decoder)
	p.source.close()
}

// play plays the stream to the end of its windows and closes it.
func (p *player) play(ctx context.Context) (err error) {
	ordered := time.Now()
	inner, cancel := context.WithCancelCause(ctx)
	var workers sync.WaitGroup
	workers.Go(func() { p.stopOn(p.feed(inner), cancel) })
	workers.Go(func() { p.stopOn(p.receive(inner), cancel) })
	err = p.awaitFull(inner)
	if err == nil {
		start := p.begin().Sub(ordered).Seconds()
		p.account.StartDelayS = &start
		err = p.show(inner)
	}
	cancel(nil)
	workers.Wait()
	if err == nil {
		err = p.jump(ctx, p.jumps)
	}
	p.close()
	p.mu.Lock() // the live view may be reading
	defer p.mu.Unlock()
	p.account.Windows = p.screen.Finish()
	for _, f := range p.waiting {
		f.Release()
	}
	if p.onScreen.Picture != nil {
		p.onScreen.Release()
	}
	return err
}

// stopOn ends playing when a worker fails.
func (p *player) stopOn(err error, cancel context.CancelCauseFunc) {
	if err != nil && !errors.Is(err, context.Canceled) {
		cancel(err)
	}
}

// feed sends packets to the decoder, except those that are too late. At the end of the file it
// starts again.
func (p *player) feed(ctx context.Context) error {
	var packet media.Packet
	skipped := false // the last packet was
	for round := 0; ; {
		err := p.packets.ReadPacket(&packet)
		if errors.Is(err, io.EOF) {
			round++
			if err = p.packets.Rewind(); err == nil {
				continue
			}
		}
		if err != nil {
			return err
		}
		if packet.Track != p.video {
			continue
		}
		// A packet without a time belongs to the one before it.
		if packet.PTS != media.NoTime {
			if !packet.Hidden {
				packet.PTS = p.place(packet.PTS) + int64(round*p.frames)
			}
			skipped = !packet.Hidden && p.tooLate(int(packet.PTS)) && (p.droppable == nil || p.droppable(packet.Data))
		}
		if skipped {
			continue
		}
		if err := p.decoder.Send(ctx, &packet); err != nil {
			return err
		}
	}
}

func (p *player) tooLate(frame int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.began.IsZero() && p.screen.TooLate(frame, time.Since(p.began))
}

// receive moves pictures from the decoder to the queue.
func (p *player) receive(ctx context.Context) error {
	for {
		frame, err := p.decoder.Receive(ctx)
		var damage *media.FormatError
		if errors.As(err, &damage) {
			frame.Damaged = true
		} else if err != nil {
			return err
		}
		at := time.Now()
		select {
		case <-p.queue:
		case <-ctx.Done():
			if frame.Picture != nil {
				frame.Release()
			}
			return ctx.Err()
		}
		at = p.canvas.paint(&frame, at)
		if p.enqueue(frame, at) {
			close(p.full)
		}
	}
}

// enqueue appends a decoded frame and reports whether that fills the queue for the first time.
func (p *player) enqueue(frame media.Frame, at time.Time) (full bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if frame.Damaged {
		p.screen.Damaged(int(frame.PTS))
	}
	if frame.Picture == nil { // the frame was lost: the previous picture stays
		p.queue <- struct{}{}
		return false
	}
	decoded := longAgo
	if !p.began.IsZero() {
		decoded = at.Sub(p.began)
	}
	p.screen.Decoded(int(frame.PTS), decoded)
	p.waiting = append(p.waiting, frame)
	if len(p.waiting) < cap(p.queue) || !p.began.IsZero() {
		return false
	}
	select {
	case <-p.full:
		return false
	default:
		return true
	}
}

// awaitFull waits until playing can begin.
func (p *player) awaitFull(ctx context.Context) error {
	timer := time.NewTimer(startTimeout)
	defer timer.Stop()
	select {
	case <-p.full:
		return nil
	case <-timer.C:
		return fmt.Errorf("it did not start within %s", startTimeout)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// begin starts the presentation clock.
func (p *player) begin() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.began = time.Now()
	return p.began
}

// show performs the refreshes until the last window is over.
func (p *player) show(ctx context.Context) error {
	timer := time.NewTimer(0)
	defer timer.Stop()
	<-timer.C
	for {
		at, more := p.screen.Next()
		if !more {
			return nil
		}
		if wait := time.Until(p.began.Add(at)); wait > 0 {
			timer.Reset(wait)
			select {
			case <-timer.C:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		} else if ctx.Err() != nil {
			return context.Cause(ctx)
		} else if p.canvas.late(-wait) {
			p.miss()
			continue
		}
		if p.refresh() {
			if err := p.canvas.show(int(p.onScreen.PTS)); err != nil {
				return err
			}
		}
	}
}

// miss passes over a refresh.
func (p *player) miss() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.screen.Miss()
}

// refresh performs one refresh of the screen and checks a new picture on it. It reports whether there is
// a new one.
func (p *player) refresh() (changed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	taken := p.screen.Refresh()
	if taken == 0 {
		return false
	}
	if p.onScreen.Picture != nil {
		p.onScreen.Release()
	}
	for _, f := range p.waiting[:taken-1] {
		f.Release()
	}
	p.onScreen = p.waiting[taken-1]
	p.waiting = append(p.waiting[:0], p.waiting[taken:]...)
	for range taken {
		p.queue <- struct{}{}
	}
	frame := int(p.onScreen.PTS)
	if p.number != nil {
		if n, ok := p.number(p.onScreen.Picture); !ok || n != frame%p.frames {
			p.screen.Wrong(frame)
		}
	}
	return true
}

// live adds the account so far.
func (p *player) live(l *route.Live) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f := p.screen.Sum()
	l.Frames.Due, l.Frames.Shown, l.Frames.Dropped = l.Frames.Due+f.Due, l.Frames.Shown+f.Shown, l.Frames.Dropped+f.Dropped
}

func (p *player) result() (tally.Tally, time.Time) { return p.account, p.began }
