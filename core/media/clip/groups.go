package clip

import (
	"context"
	"math"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/scene"
)

// ahead is how many groups of pictures may be coded at once, and so how many
// there are between a group and the first that can make good what it took too
// much. It does not depend on the number of threads, so that the bytes do not
// either.
const ahead = 4

// groups codes an h264 film in groups of pictures, each on one of several
// threads.
type groups struct {
	order Order
	set   media.EncoderSettings
	stage *scene.Stage
	size  int // frames in a group
	track media.Track
}

// group is one group of pictures on its way.
type group struct {
	media.Group
	first   int // frame of the film
	packets []media.Packet
	bits    float64
	err     error
	done    chan struct{}
}

func newGroups(o Order) (*groups, error) {
	g := &groups{order: o, set: o.settings()}
	g.size = g.set.KeyEvery
	if g.size == 1 {
		g.size = int(o.Format.Rate.Hz() + 0.5)
	}
	var err error
	g.stage, err = scene.New(scene.Order{Scene: o.Scene, Format: o.Format, Seed: o.Seed, Noise: scene.NoiseFor(o.Format)})
	if err != nil {
		return nil, err
	}
	e, err := h264.NewEncoder(g.set, nil)
	if err != nil {
		return nil, err
	}
	g.track, err = e.Track()
	return g, err
}

// settings are the encoder's.
func (o Order) settings() media.EncoderSettings {
	c := o.Coding
	set := media.EncoderSettings{Format: o.Format, KeyEvery: c.KeyEvery, BFrames: c.BFrames, References: c.References,
		Slices: c.Slices, Simple: c.CAVLC, Preset: c.Effort, Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}}
	switch o.Format.Transfer {
	case media.PQ:
		set.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
		set.HDR = &mastering
	case media.HLG:
		set.Colour = media.Colour{Primaries: 9, Transfer: 18, Matrix: 9}
	}
	return set
}

// mastering says that the scenes are made for displays of BT.2020 primaries, a
// D65 white and 1000 cd/m2.
var mastering = media.HDR{Primaries: [3][2]uint16{{8500, 39850}, {6550, 2300}, {35400, 14600}}, White: [2]uint16{15635, 16450},
	MaxLuminance: 10_000_000, MinLuminance: 50, MaxCLL: 1400, MaxFALL: 200}

// code codes all groups and hands their packets out in order. It hands the
// groups out one by one, each when the one that stands ahead before it is done.
func (g *groups) code(ctx context.Context, out func(p *media.Packet) error) error {
	ctx, cancel := context.WithCancel(ctx)
	total := g.order.Frames()
	count := (total + g.size - 1) / g.size
	jobs := make(chan *group, ahead)
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	defer close(jobs)
	progress := counter{order: &g.order, total: total}
	for range min(max(g.order.Threads, 1), ahead, count) {
		w, err := g.newWorker(&progress)
		if err != nil {
			return err
		}
		wait.Go(func() { w.work(ctx, jobs) })
	}
	share := float64(g.order.Format.Bitrate) / g.order.Format.Rate.Hz()
	all := make([]*group, count)
	spent := spending{groups: g, share: share}
	saved := 0.0 // bits that finished groups left over, less what was given on
	var costs media.Costs
	for i := range count + ahead {
		if i >= ahead {
			old := all[i-ahead]
			select {
			case <-old.done:
			case <-ctx.Done():
				return ctx.Err()
			}
			if old.err != nil {
				return old.err
			}
			if err := spent.add(ctx, old, i == count+ahead-1); err != nil {
				return err
			}
			for k := range old.packets {
				if err := out(&old.packets[k]); err != nil {
					return err
				}
			}
			saved += float64(old.Frames)*share - old.bits + old.Carry
			costs = old.Costs
			all[i-ahead] = nil
		}
		if i < count {
			frames := min(g.size, total-i*g.size)
			most := 0.1 * share * float64(frames)
			job := &group{Group: media.Group{Number: i, Frames: frames, Carry: max(-most, min(saved, most)), Costs: costs},
				first: i * g.size, done: make(chan struct{})}
			saved -= job.Carry
			all[i] = job
			jobs <- job
		}
	}
	return nil
}

// spending watches whether the bitrate comes out.
type spending struct {
	*groups
	share  float64 // bits a frame
	frames int
	bits   float64
	tried  [2]bool // whether the coarsest and the finest quantiser were tried
}

const (
	nearRate  = 0.02 // of the bits ordered: a film that is no farther off is not encoded again
	farRate   = 0.1  // a film that is farther off is not what was ordered
	rateTries = 5
)

// add counts a group. The last one is encoded again, with what was learned, until the
// film as a whole has its bitrate. It is an error, of type *RateError, if a group
// cannot have the bitrate at any quantiser, or if the film misses it by more than a tenth.
func (s *spending) add(ctx context.Context, job *group, last bool) error {
	frames := float64(s.frames + job.Frames)
	if last {
		if err := s.hit(ctx, job, s.share*frames); err != nil {
			return err
		}
	}
	s.frames += job.Frames
	s.bits += job.bits
	off := s.bits/(frames*s.share) - 1
	if far := frames >= s.order.Format.Rate.Hz() && (off > farRate || off < -farRate); off <= 0.5 && off >= -0.5 && !(last && far) {
		return nil
	}
	if err := s.reach(ctx, job, off > 0); err != nil || !last {
		return err
	}
	return &RateError{Format: s.order.Format, Came: int64(s.bits / frames * s.order.Format.Rate.Hz())}
}

// hit encodes the last group until the film has its bits, or nearly so, and keeps
// the try that came nearest.
func (s *spending) hit(ctx context.Context, job *group, film float64) error {
	own := s.share * float64(job.Frames)
	want := max(0.5*own, min(film-s.bits, 1.5*own))
	miss := func(bits float64) float64 { return math.Abs(bits - want) }
	best, order := *job, want
	for try := 1; try < rateTries && miss(best.bits) > nearRate*film; try++ {
		order *= max(0.5, min(want/best.bits, 2))
		again := &group{Group: best.Group, first: job.first}
		again.Bits = order
		w, err := s.newWorker(&counter{order: &Order{}})
		if err != nil {
			return err
		}
		if w.encode(ctx, again); again.err != nil {
			return again.err
		}
		if miss(again.bits) >= miss(best.bits) {
			break
		}
		best = *again
	}
	job.packets, job.bits, job.Costs = best.packets, best.bits, best.Costs
	return nil
}

// reach encodes a group with the coarsest quantiser, or with the finest, once a
// film, and tells what bitrate that makes if it is still on the wrong side of
// what was ordered.
func (s *spending) reach(ctx context.Context, job *group, coarsest bool) error {
	which, set := 0, s.set
	if set.QP = coarsestQP; !coarsest {
		which, set.QP = 1, finestQP
	}
	if s.tried[which] {
		return nil
	}
	s.tried[which] = true
	set.Format.Bitrate = 0
	again := &group{Group: media.Group{Number: job.Number, Frames: job.Frames}, first: job.first}
	w := &groupWorker{g: s.groups, drawer: s.stage.NewDrawer(), progress: &counter{order: &Order{}}}
	var err error
	if w.encoder, err = h264.NewEncoder(set, w.keep); err != nil {
		return err
	}
	if w.encode(ctx, again); again.err != nil {
		return again.err
	}
	came := int64(again.bits / float64(again.Frames) * s.order.Format.Rate.Hz())
	switch {
	case coarsest && came > s.order.Format.Bitrate:
		return &RateError{Format: s.order.Format, Lowest: came}
	case !coarsest && came < s.order.Format.Bitrate:
		return &RateError{Format: s.order.Format, Highest: came}
	}
	return nil
}

// Quantisers of P pictures so far beyond the ends of their range that those of I and
// B pictures, a few steps away, are at the ends as well.
const (
	coarsestQP = 51 + 3
	finestQP   = -12 - 2
)

// counter tells of progress from several goroutines.
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

// groupWorker codes groups, one at a time.
type groupWorker struct {
	g        *groups
	drawer   *scene.Drawer
	encoder  *h264.Encoder
	group    *group
	progress *counter
}

func (g *groups) newWorker(p *counter) (*groupWorker, error) {
	w := &groupWorker{g: g, drawer: g.stage.NewDrawer(), progress: p}
	var err error
	w.encoder, err = h264.NewEncoder(g.set, w.keep)
	return w, err
}

func (w *groupWorker) work(ctx context.Context, jobs <-chan *group) {
	for job := range jobs {
		w.encode(ctx, job)
		close(job.done)
	}
}

// encode encodes one group; what goes wrong is in job.err.
func (w *groupWorker) encode(ctx context.Context, job *group) {
	w.group = job
	w.encoder.Begin(job.Group)
	for i := range job.Frames {
		if job.err = ctx.Err(); job.err != nil {
			return
		}
		p := w.encoder.Picture()
		w.drawer.Draw(p, job.first+i)
		if job.err = w.encoder.Encode(p, int64(job.first+i)); job.err != nil {
			return
		}
		w.progress.add()
	}
	job.err = w.encoder.Flush()
	job.Costs = w.encoder.Costs()
}

// keep takes a coded picture.
func (w *groupWorker) keep(p *media.Packet) error {
	job := w.group
	ticks := int64(w.g.order.Format.Rate.Den)
	delay := int64(w.g.set.Reorder())
	job.packets = append(job.packets, media.Packet{Data: append([]byte(nil), p.Data...), PTS: p.PTS * ticks, Key: p.Key,
		DTS: (int64(job.first+len(job.packets)) - delay) * ticks, Duration: ticks})
	job.bits += float64(8 * len(p.Data))
	return nil
}
