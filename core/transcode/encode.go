package transcode

import (
	"context"
	"math"

	"vividstrain/core/cputime"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/transcode/groups"
)

// newGroup starts a group of one second and returns the channel for its pictures. A single
// encoder takes them as they come; with several, each group must be able to wait for its turn.
func (c *Converter) newGroup(first int64) (*groups.Group, chan *picture.Picture) {
	frames, waiting := c.out.KeyEvery, 2
	if c.order.Encoders > 1 {
		waiting = frames
	}
	pictures := make(chan *picture.Picture, waiting)
	return &groups.Group{
		Group: media.Group{Number: int(first) / frames, Frames: frames}, First: first,
		Encode: func(ctx context.Context, _ int, e media.Encoder) error { return c.encodeGroup(ctx, e, first, pictures) },
	}, pictures
}

// encode encodes the groups and outputs their packets, with the audio that comes before each.
func (c *Converter) encode(ctx context.Context, out func(p *media.Packet) error) error {
	ahead := c.order.Encoders
	if ahead > 1 {
		ahead++ // encoders need not wait for each other
	}
	pipeline := groups.Pipeline{Codec: c.codec, Settings: c.out, Workers: c.order.Encoders, Ahead: ahead}
	err := pipeline.Run(ctx, c.nextGroup, func(p *media.Packet) error {
		if err := c.writeAudio(float64(p.DTS)/float64(c.tracks[0].Timescale), out); err != nil {
			return err
		}
		return out(p)
	})
	if err != nil {
		return err
	}
	return c.writeAudio(math.Inf(1), out)
}

// nextGroup returns the next group, nil after the last.
func (c *Converter) nextGroup(ctx context.Context) (*groups.Group, error) {
	select {
	case g := <-c.ready: // nil when it is closed
		return g, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// encodeGroup encodes the pictures of a group as they come.
func (c *Converter) encodeGroup(ctx context.Context, e media.Encoder, first int64, pictures <-chan *picture.Picture) error {
	for n := first; ; n++ {
		var p *picture.Picture
		var open bool
		select {
		case p, open = <-pictures:
		case <-ctx.Done():
			return ctx.Err()
		}
		if !open {
			return nil
		}
		if err := c.gate(ctx); err != nil {
			return err
		}
		before := cputime.Thread()
		err := e.Encode(p, n)
		c.spend(coding, before)
		p.Release()
		if err != nil {
			return err
		}
		c.frames.Add(1)
	}
}
