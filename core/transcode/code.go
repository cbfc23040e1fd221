package transcode

import (
	"context"

	"vividstrain/core/clock"
	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/picture"
)

// group is a second of the result, coded by one encoder from a key frame on.
type group struct {
	number   int
	first    int64 // number of its first frame
	pictures chan *picture.Picture
	packets  chan media.Packet // has room for all
	bits     float64
	frames   int
}

// newGroup makes a group of so many frames. One encoder alone takes pictures as
// they come; of several each must be able to wait for its turn.
func newGroup(number int, first int64, frames, encoders int) *group {
	waiting := 2
	if encoders > 1 {
		waiting = frames
	}
	return &group{number: number, first: first, pictures: make(chan *picture.Picture, waiting), packets: make(chan media.Packet, frames)}
}

// code codes groups, one at a time.
func (c *Converter) code(ctx context.Context, todo <-chan *group) error {
	var now *group
	share := float64(c.out.Format.Bitrate) / c.out.Format.Rate.Hz()
	ticks := int64(c.out.Format.Rate.Den)
	e, err := h264.NewEncoder(c.out, func(p *media.Packet) error {
		at := (now.first + int64(now.frames)) * ticks
		now.frames++
		now.bits += float64(8 * len(p.Data))
		now.packets <- media.Packet{Data: append([]byte(nil), p.Data...), PTS: at, DTS: at, Duration: ticks, Key: p.Key}
		return nil
	})
	if err != nil {
		return err
	}
	for now = range todo {
		most := 0.1 * share * float64(c.out.KeyEvery)
		c.mu.Lock()
		carry := max(-most, min(c.saved, most))
		c.saved -= carry
		e.Begin(media.Group{Number: now.number, Frames: c.out.KeyEvery, Carry: carry, Costs: c.costs})
		c.mu.Unlock()
		if err := c.codeGroup(ctx, e, now); err != nil {
			return err
		}
		c.mu.Lock()
		c.saved += float64(now.frames)*share - now.bits + carry
		c.costs = e.Costs()
		c.mu.Unlock()
		close(now.packets)
	}
	return nil
}

func (c *Converter) codeGroup(ctx context.Context, e *h264.Encoder, g *group) error {
	for {
		var p *picture.Picture
		var open bool
		select {
		case p, open = <-g.pictures:
		case <-ctx.Done():
			return ctx.Err()
		}
		if !open {
			return e.Flush()
		}
		if err := c.gate(ctx); err != nil {
			return err
		}
		before := clock.ThreadTime()
		err := e.Encode(p, g.first+int64(g.frames))
		c.spend(coding, before)
		p.Release()
		if err != nil {
			return err
		}
		c.frames.Add(1)
	}
}
