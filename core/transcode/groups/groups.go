// Package groups encodes a video in groups of pictures, several at a time, for clips,
// conversions and the practice media server. The result does not depend on the number of
// threads: the starting state of a group follows from groups a fixed distance before it.
package groups

import (
	"context"
	"errors"
	"runtime"

	"golang.org/x/sync/errgroup"

	"vividstrain/core/media"
)

// Group is one group of pictures being encoded.
type Group struct {
	media.Group
	First int64 // number of its first frame in the video
	// Encode passes the pictures of the group to e, which Run has begun and will flush. worker
	// is the number of the thread, from 0.
	Encode func(ctx context.Context, worker int, e media.Encoder) error

	// The result. Packets is filled only where Check is set.
	Packets []media.Packet
	Spent   float64 // bits

	coded   int // frames
	packets chan media.Packet
	done    chan struct{}
}

// Pipeline states how groups are encoded.
type Pipeline struct {
	Codec    media.Codec
	Settings media.EncoderSettings
	Workers  int // groups encoded at the same time, at least 1
	// Ahead is the distance from a group to the first one that uses what it learned and left
	// over, at least 1. More workers than that are idle.
	Ahead int
	// Check is called with each group in order, after it is encoded and before its packets are
	// output; it may replace the packets. If it is nil, packets are output as they come.
	Check func(ctx context.Context, g *Group) error
}

// Run encodes the groups that next returns, until it returns nil, and outputs the packets in
// decoding order with times in units of the frame rate's numerator. out owns the packets. next
// and out are each called from one goroutine.
func (p *Pipeline) Run(ctx context.Context, next func(ctx context.Context) (*Group, error), out func(*media.Packet) error) error {
	work, ctx := errgroup.WithContext(ctx)
	todo := make(chan *Group)
	ordered := make(chan *Group, p.Ahead)
	work.Go(func() error {
		defer close(todo)
		defer close(ordered)
		return p.dispatch(ctx, next, todo, ordered)
	})
	for i := range max(1, min(p.Workers, p.Ahead)) {
		work.Go(func() error { return p.work(ctx, i, todo) })
	}
	work.Go(func() error { return p.collect(ctx, ordered, out) })
	return work.Wait()
}

// dispatch starts the groups, each when the one that is Ahead before it is done.
func (p *Pipeline) dispatch(ctx context.Context, next func(context.Context) (*Group, error), todo, ordered chan<- *Group) error {
	share := float64(p.Settings.Format.Bitrate) / p.Settings.Format.Rate.Hz() // bits a frame
	saved := 0.0                                                              // bits left over by groups, less what was passed on
	var costs media.Costs
	var flying []*Group
	for {
		if len(flying) == p.Ahead {
			old := flying[0]
			flying = append(flying[:0], flying[1:]...)
			select {
			case <-old.done:
			case <-ctx.Done():
				return ctx.Err()
			}
			saved += float64(old.coded)*share - old.Spent + old.Carry
			costs = old.Costs
		}
		g, err := next(ctx)
		if err != nil || g == nil {
			return err
		}
		most := 0.1 * share * float64(g.Frames)
		g.Carry, g.Costs = max(-most, min(saved, most)), costs
		saved -= g.Carry
		g.begin()
		flying = append(flying, g)
		for _, to := range []chan<- *Group{ordered, todo} {
			select {
			case to <- g:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

func (g *Group) begin() {
	g.packets, g.done = make(chan media.Packet, g.Frames), make(chan struct{})
}

// work encodes groups, one at a time, on a thread of its own, whose processor time can be read.
func (p *Pipeline) work(ctx context.Context, worker int, todo <-chan *Group) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	var g *Group
	e, err := p.Codec.NewEncoder(p.Settings, func(packet *media.Packet) error { return g.keep(p.Settings, packet) })
	if err != nil {
		return err
	}
	for g = range todo {
		if err := g.code(ctx, worker, e); err != nil {
			return err
		}
	}
	return nil
}

// code encodes the group and signals that it is done.
func (g *Group) code(ctx context.Context, worker int, e media.Encoder) error {
	e.Begin(g.Group)
	if err := errors.Join(g.Encode(ctx, worker, e), ctx.Err()); err != nil {
		return err
	}
	if err := e.Flush(); err != nil {
		return err
	}
	g.Costs = e.Costs()
	close(g.packets)
	close(g.done)
	return nil
}

// keep stores a coded picture.
func (g *Group) keep(set media.EncoderSettings, p *media.Packet) error {
	ticks, delay := int64(set.Format.Rate.Den), int64(set.Reorder())
	dts := (g.First + int64(g.coded) - delay) * ticks
	g.coded++
	g.Spent += float64(8 * len(p.Data))
	if g.coded > g.Frames {
		return errors.New("a group has more frames than it was to have")
	}
	g.packets <- media.Packet{Data: append([]byte(nil), p.Data...), PTS: p.PTS * ticks, Key: p.Key, DTS: dts, Duration: ticks}
	return nil
}

// collect outputs the groups' packets in order.
func (p *Pipeline) collect(ctx context.Context, ordered <-chan *Group, out func(*media.Packet) error) error {
	for g := range ordered {
		handle := out
		if p.Check != nil {
			handle = func(packet *media.Packet) error {
				g.Packets = append(g.Packets, *packet)
				return nil
			}
		}
		if err := g.drain(ctx, handle); err != nil {
			return err
		}
		if p.Check == nil {
			continue
		}
		if err := p.Check(ctx, g); err != nil {
			return err
		}
		for i := range g.Packets {
			if err := out(&g.Packets[i]); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

func (g *Group) drain(ctx context.Context, handle func(*media.Packet) error) error {
	for {
		select {
		case p, open := <-g.packets:
			if !open {
				return nil
			}
			if err := handle(&p); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// EncodeAlone encodes one group by itself, with its own settings, into its Packets.
func EncodeAlone(ctx context.Context, codec media.Codec, set media.EncoderSettings, g *Group) error {
	e, err := codec.NewEncoder(set, func(packet *media.Packet) error { return g.keep(set, packet) })
	if err != nil {
		return err
	}
	g.begin()
	if err := g.code(ctx, 0, e); err != nil {
		return err
	}
	return g.drain(ctx, func(p *media.Packet) error {
		g.Packets = append(g.Packets, *p)
		return nil
	})
}
