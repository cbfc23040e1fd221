package clip

import (
	"context"
	"math"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/scene"
	"vividstrain/core/transcode/groups"
)

// ahead is the distance from a group to the first group that can compensate for its error in
// size. It does not depend on the number of threads, so that the bytes do not either.
const ahead = 4

// groupFilm draws and encodes a film in groups of pictures.
type groupFilm struct {
	order Order
	codec media.Codec
	set   media.EncoderSettings
	stage *scene.Stage
	size  int // frames in a group
	track media.Track
}

func newGroupFilm(o Order, codec media.Codec) (*groupFilm, error) {
	f := &groupFilm{order: o, codec: codec, set: o.settings()}
	f.size = f.set.KeyEvery
	if f.size == 1 {
		f.size = int(o.Format.Rate.Hz() + 0.5)
	}
	var err error
	f.stage, err = scene.New(scene.Order{Scene: o.Scene, Format: o.Format, Seed: o.Seed, Noise: scene.NoiseFor(o.Format), Clip: o.Number()})
	if err != nil {
		return nil, err
	}
	e, err := codec.NewEncoder(f.set, nil)
	if err != nil {
		return nil, err
	}
	f.track, err = e.Track()
	return f, err
}

// settings returns the encoder's settings.
func (o Order) settings() media.EncoderSettings {
	c := o.Coding
	set := media.EncoderSettings{Format: o.Format, KeyEvery: c.KeyEvery, BFrames: c.BFrames, References: c.References,
		Slices: c.Slices, Simple: c.CAVLC, Preset: c.Preset, Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}}
	switch o.Format.Transfer {
	case media.PQ:
		set.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
		set.HDR = &mastering
	case media.HLG:
		set.Colour = media.Colour{Primaries: 9, Transfer: 18, Matrix: 9}
	}
	return set
}

// mastering states that the scenes are made for displays with BT.2020 primaries, a D65 white
// point and 1000 cd/m2.
var mastering = media.HDR{Primaries: [3][2]uint16{{8500, 39850}, {6550, 2300}, {35400, 14600}}, White: [2]uint16{15635, 16450},
	MaxLuminance: 10_000_000, MinLuminance: 50, MaxCLL: 1400, MaxFALL: 200}

// encode encodes all groups and passes their packets to out, in order.
func (f *groupFilm) encode(ctx context.Context, out func(p *media.Packet) error) error {
	total := f.order.Frames()
	progress := counter{order: &f.order, total: total}
	workers := min(max(f.order.Threads, 1), ahead)
	drawers := make([]*scene.Drawer, workers)
	for i := range drawers {
		drawers[i] = f.stage.NewDrawer()
	}
	spent := spending{groupFilm: f, share: float64(f.order.Format.Bitrate) / f.order.Format.Rate.Hz()}
	pipeline := groups.Pipeline{Codec: f.codec, Settings: f.set, Workers: workers, Ahead: ahead, Check: spent.add}
	number := 0
	return pipeline.Run(ctx, func(context.Context) (*groups.Group, error) {
		first := number * f.size
		if first >= total {
			return nil, nil
		}
		frames := min(f.size, total-first)
		g := &groups.Group{Group: media.Group{Number: number, Frames: frames}, First: int64(first)}
		g.Encode = func(ctx context.Context, worker int, e media.Encoder) error {
			return encodeDrawn(ctx, e, drawers[worker], g.First, frames, progress.add)
		}
		number++
		return g, nil
	}, out)
}

// encodeDrawn draws frames and passes them to an encoder.
func encodeDrawn(ctx context.Context, e media.Encoder, drawer *scene.Drawer, first int64, frames int, done func()) error {
	for n := first; n < first+int64(frames); n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		p := e.Picture()
		drawer.Draw(p, int(n))
		if err := e.Encode(p, n); err != nil {
			return err
		}
		done()
	}
	return nil
}

// spending checks the bitrate of the film while it is encoded.
type spending struct {
	*groupFilm
	share  float64 // bits a frame
	frames int     // so far, and their bits
	bits   float64
	tried  [2]bool // whether the coarsest and the finest QP were tried
}

const (
	nearRate  = 0.02 // a film within this share of the ordered bits is not encoded again
	farRate   = 0.1  // a film that is farther off is not acceptable
	rateTries = 5
)

// add adds a group. The last group is encoded again, with what was learned, until the whole film
// has its bitrate. It is an error, of type *RateError, if a group cannot have the bitrate at any
// QP, or if the film misses it by more than a tenth.
func (s *spending) add(ctx context.Context, g *groups.Group) error {
	last := s.frames+g.Frames == s.order.Frames()
	frames := float64(s.frames + g.Frames)
	if last {
		if err := s.hit(ctx, g, s.share*frames); err != nil {
			return err
		}
	}
	s.frames += g.Frames
	s.bits += g.Spent
	off := s.bits/(frames*s.share) - 1
	if far := frames >= s.order.Format.Rate.Hz() && (off > farRate || off < -farRate); off <= 0.5 && off >= -0.5 && !(last && far) {
		return nil
	}
	if err := s.reach(ctx, g, off > 0); err != nil || !last {
		return err
	}
	return &RateError{Format: s.order.Format, Came: int64(s.bits / frames * s.order.Format.Rate.Hz())}
}

// hit encodes the last group until the film has its bitrate, or nearly so, and keeps the best
// attempt.
func (s *spending) hit(ctx context.Context, g *groups.Group, film float64) error {
	own := s.share * float64(g.Frames)
	want := max(0.5*own, min(film-s.bits, 1.5*own))
	miss := func(bits float64) float64 { return math.Abs(bits - want) }
	best, order := *g, want
	for try := 1; try < rateTries && miss(best.Spent) > nearRate*film; try++ {
		order *= max(0.5, min(want/best.Spent, 2))
		again := s.again(best.Group, g.First)
		again.Bits = order
		if err := groups.EncodeAlone(ctx, s.codec, s.set, again); err != nil {
			return err
		}
		if miss(again.Spent) >= miss(best.Spent) {
			break
		}
		best = *again
	}
	g.Packets, g.Spent, g.Costs = best.Packets, best.Spent, best.Costs
	return nil
}

// again returns a group that is encoded once more, from the same start.
func (s *spending) again(start media.Group, first int64) *groups.Group {
	drawer := s.stage.NewDrawer()
	return &groups.Group{Group: start, First: first, Encode: func(ctx context.Context, _ int, e media.Encoder) error {
		return encodeDrawn(ctx, e, drawer, first, start.Frames, func() {})
	}}
}

// reach encodes a group once per film with the coarsest, or with the finest QP, and returns an
// error with the bitrate reached if it still misses the ordered one.
func (s *spending) reach(ctx context.Context, g *groups.Group, coarsest bool) error {
	which, set := 0, s.set
	if set.QP = coarsestQP; !coarsest {
		which, set.QP = 1, finestQP
	}
	if s.tried[which] {
		return nil
	}
	s.tried[which] = true
	set.Format.Bitrate = 0
	again := s.again(media.Group{Number: g.Number, Frames: g.Frames}, g.First)
	if err := groups.EncodeAlone(ctx, s.codec, set, again); err != nil {
		return err
	}
	came := int64(again.Spent / float64(again.Frames) * s.order.Format.Rate.Hz())
	switch {
	case coarsest && came > s.order.Format.Bitrate:
		return &RateError{Format: s.order.Format, Lowest: came}
	case !coarsest && came < s.order.Format.Bitrate:
		return &RateError{Format: s.order.Format, Highest: came}
	}
	return nil
}

// QPs of P pictures so far outside the valid range that those of I and B pictures, a few steps
// away, are at the limits as well.
const (
	coarsestQP = 51 + 3
	finestQP   = -12 - 2
)

// counter reports progress from several goroutines.
type counter struct {
	mu          sync.Mutex
	order       *Order
	done, total int
}

func (c *counter) add() {
	if c.order.Progress == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.done++
	c.order.Progress(c.done, c.total)
}
