package build

import (
	"context"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/h264"
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
	set   h264.Settings
	stage *scene.Stage
	size  int // frames in a group
	track media.Track
}

// group is one group of pictures on its way.
type group struct {
	h264.Group
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
func (o Order) settings() h264.Settings {
	c := o.Coding
	set := h264.Settings{Format: o.Format, KeyEvery: c.KeyEvery, BFrames: c.BFrames, References: c.References,
		Slices: c.Slices, CAVLC: c.CAVLC, Effort: c.Effort, Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}}
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
	Most: 10_000_000, Least: 50, MaxCLL: 1400, MaxFALL: 200}

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
	spent := spending{format: g.order.Format, share: share}
	saved := 0.0 // bits that finished groups left over, less what was given on
	var costs h264.Costs
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
			for k := range old.packets {
				if err := out(&old.packets[k]); err != nil {
					return err
				}
			}
			if err := spent.add(old.Frames, old.bits, i == count+ahead-1); err != nil {
				return err
			}
			saved += float64(old.Frames)*share - old.bits + old.Carry
			costs = old.Costs
			all[i-ahead] = nil
		}
		if i < count {
			frames := min(g.size, total-i*g.size)
			most := 0.1 * share * float64(frames)
			job := &group{Group: h264.Group{Number: i, Frames: frames, Carry: max(-most, min(saved, most)), Costs: costs},
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
	format media.Format
	share  float64 // bits a frame
	frames int
	bits   float64
}

// add counts a group. It is an error if the rate is far off, so far that what
// follows cannot make it good, or if at the end it is off by more than 3 %.
func (s *spending) add(frames int, bits float64, last bool) error {
	s.frames += frames
	s.bits += bits
	off := s.bits/(float64(s.frames)*s.share) - 1
	if off > 0.5 || off < -0.5 || last && (off > 0.03 || off < -0.03) && float64(s.frames) >= s.format.Rate.Hz() {
		came := int64(s.bits / float64(s.frames) * s.format.Rate.Hz())
		if off > 0 {
			return &RateError{Format: s.format, Lowest: came}
		}
		return &RateError{Format: s.format, Highest: came}
	}
	return nil
}

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
		w.group = job
		w.encoder.Begin(job.Group)
		for i := range job.Frames {
			if job.err = ctx.Err(); job.err != nil {
				break
			}
			p := w.encoder.Picture()
			w.drawer.Draw(p, job.first+i)
			if job.err = w.encoder.Encode(p, int64(job.first+i)); job.err != nil {
				break
			}
			w.progress.add()
		}
		if job.err == nil {
			job.err = w.encoder.Flush()
		}
		job.Costs = w.encoder.Costs()
		close(job.done)
	}
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
