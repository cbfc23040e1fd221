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

// jumpTimeout is how long a jump may take.
const jumpTimeout = 15 * time.Second

// entry is a packet of the film, in decoding order.
type entry struct {
	frame int64
	key   bool
}

// jump jumps n times to another frame of the film, and records how long it took until that frame was on
// the screen: decoding begins at the key frame before it, with a file and a decoder that are open already.
func (p *player) jump(ctx context.Context, n int) error {
	if n == 0 {
		return nil
	}
	index, err := p.index(ctx)
	if err != nil {
		return err
	}
	at := 0
	if p.onScreen.Picture != nil {
		at = int(p.onScreen.PTS) % p.frames
	}
	for i := range n {
		target := int(route.JumpPart(i) * float64(p.frames))
		seek := tally.Seek{Kind: tally.Forward, AtS: time.Since(p.began).Seconds()}
		if target < at {
			seek.Kind = tally.Back
		}
		delay, err := p.jumpTo(ctx, index, int64(target))
		if err != nil {
			return fmt.Errorf("a jump to frame %d: %w", target, err)
		}
		seek.DelayS, at = delay.Seconds(), target
		p.account.Jumps = append(p.account.Jumps, seek)
	}
	return nil
}

// index lists the packets of the film. A player reads that from the container, which is not timed.
func (p *player) index(ctx context.Context) (list []entry, err error) {
	s, err := p.reopen()
	if err != nil {
		return nil, err
	}
	defer s.close()
	var packet media.Packet
	for len(list) <= maxFrames {
		err := s.next(&packet)
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err := errors.Join(err, ctx.Err()); err != nil {
			return nil, err
		}
		e := entry{frame: -1, key: packet.Key}
		if packet.PTS != media.NoTime && !packet.Hidden {
			e.frame = s.place(packet.PTS)
		}
		list = append(list, e)
	}
	return nil, fmt.Errorf("it has more than %d packets", maxFrames)
}

// jumpTo returns the time from a jump to a frame until the refresh that shows it.
func (p *player) jumpTo(ctx context.Context, index []entry, target int64) (time.Duration, error) {
	s, err := p.reopen()
	if err != nil {
		return 0, err
	}
	start := 0
	for i, e := range index {
		if e.key && e.frame >= 0 && e.frame <= target {
			start = i
		}
		if e.frame == target {
			break
		}
	}
	var skipped media.Packet
	for range start {
		if err := s.next(&skipped); err != nil {
			s.close()
			return 0, err
		}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, jumpTimeout, fmt.Errorf("it took longer than %s", jumpTimeout))
	began := time.Now()
	fed := make(chan error, 1)
	var feeder sync.WaitGroup
	feeder.Go(func() { fed <- s.feed(ctx) })
	defer func() {
		cancel()
		feeder.Wait()
		s.close()
	}()
	for {
		frame, err := s.decoder.Receive(ctx)
		var damage *media.FormatError
		switch {
		case errors.As(err, &damage):
			continue
		case errors.Is(err, io.EOF):
			return 0, errors.New("it did not show")
		case err != nil:
			select {
			case failed := <-fed:
				err = errors.Join(failed, err)
			default:
			}
			return 0, errors.Join(context.Cause(ctx), err)
		}
		if frame.PTS != target {
			frame.Release()
			continue
		}
		defer frame.Release()
		if p.number != nil {
			if n, ok := p.number(frame.Picture); !ok || int64(n) != target {
				return 0, errors.New("it led to another picture")
			}
		}
		p.canvas.paint(&frame, time.Now())
		if err := p.canvas.show(int(target)); err != nil {
			return 0, err
		}
		return p.screen.NextAfter(time.Since(p.began)) - began.Sub(p.began), nil
	}
}

// next reads the next packet of the video.
func (s *source) next(packet *media.Packet) error {
	for {
		if err := s.packets.ReadPacket(packet); err != nil || packet.Track == s.video {
			return err
		}
	}
}

// feed sends the packets that follow to the decoder, up to the end of the film.
func (s *source) feed(ctx context.Context) error {
	var packet media.Packet
	for {
		err := s.next(&packet)
		if errors.Is(err, io.EOF) {
			s.decoder.Drain()
			return nil
		}
		if err != nil {
			return err
		}
		if packet.PTS != media.NoTime && !packet.Hidden {
			packet.PTS = s.place(packet.PTS)
		}
		if err := s.decoder.Send(ctx, &packet); err != nil {
			return err
		}
	}
}
