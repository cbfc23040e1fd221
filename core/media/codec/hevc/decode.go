package hevc

import (
	"context"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/threads"
)

// decoder reads headers in Send, decodes pictures on threads of its own, and hands them out in
// Receive.
type decoder struct {
	stream
	times framepool.Times
	work  *threads.Pool[*pictureTask]
	out   *framepool.Output[*frame]
}

// pictureTask is a picture to be decoded.
type pictureTask struct {
	f       *frame
	layout  *layout
	slices  []*slice
	headers []*sliceHeader
	held    []*frame // references, which stay until it is decoded
}

// NewDecoder starts a decoder with threadCount threads (at least one). The track's Config is an
// HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1), or empty for packets in the byte stream
// format of annex B.
func NewDecoder(t media.Track, threadCount int) (media.Decoder, error) {
	threadCount = max(threadCount, 1)
	d := &decoder{times: framepool.Times{Track: t}, out: framepool.NewOutput[*frame](threadCount + 1)}
	d.decode = d.submit
	if len(t.Config) > 0 {
		if err := d.configure(t.Config); err != nil {
			return nil, media.At(err, t.ConfigOffset)
		}
	}
	tasks := make([]*pictureTask, 2*threadCount+1)
	for i := range tasks {
		tasks[i] = &pictureTask{}
	}
	team := threads.NewTeam(threadCount)
	d.work = threads.Start(threadCount, tasks, func() func(*pictureTask) {
		p := &pictureDecoder{team: team}
		return func(t *pictureTask) {
			team.Add(1)
			p.run(t)
			team.Add(-1)
			t.drop()
			d.work.Release(t)
		}
	})
	return d, nil
}

// submit hands the assembled picture to the threads. It waits for one of them at most as long as a
// picture takes, since tasks wait for earlier ones alone.
func (d *decoder) submit(f *frame) {
	t, err := d.work.Acquire(context.Background())
	if err != nil {
		return // that context never ends
	}
	d.spare = append(d.spare, t.slices...)
	t.f, t.layout = f, d.layout
	t.slices, d.slices = d.slices, t.slices[:0]
	t.headers, d.headers = d.headers, t.headers[:0]
	f.Hold()
	for _, g := range d.dpb {
		if g.reference {
			g.Hold()
			t.held = append(t.held, g)
		}
	}
	d.work.Submit(t)
}

// drop lets go of all frames.
func (t *pictureTask) drop() {
	for _, f := range t.held {
		f.Drop()
	}
	t.f.Drop()
	clear(t.held)
	t.f, t.held = nil, t.held[:0]
}

// pictureDecoder is what a thread keeps from picture to picture.
type pictureDecoder struct {
	team   *threads.Team
	state  state
	narrow *worker[byte]
	wide   *worker[uint16]
}

func (p *pictureDecoder) run(t *pictureTask) {
	p.state.begin(t.f, t.layout)
	p.state.headers = t.headers
	if t.f.Planes[0].Wide != nil {
		if p.wide == nil {
			p.wide = &worker[uint16]{k: fastWideKernels(), team: p.team}
		}
		decodePicture(p.wide, &p.state, t)
	} else {
		if p.narrow == nil {
			p.narrow = &worker[byte]{k: fastKernels(), team: p.team}
		}
		decodePicture(p.narrow, &p.state, t)
	}
	t.f.Advance(framepool.WholeFrame, framepool.AllRows)
}

// decodePicture decodes slices and filters the picture.
func decodePicture[T motion.Sample](w *worker[T], st *state, t *pictureTask) {
	w.begin(st)
	w.substitute = nearest(t.held, t.f)
	for _, sl := range t.slices {
		w.slice(sl)
		if w.failed {
			st.f.Damaged.Store(true)
		}
	}
	w.filter(w.sps.ctbHeight)
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	return media.At(d.send(ctx, p), p.Offset)
}

func (d *decoder) send(ctx context.Context, p *media.Packet) error {
	d.hidden = p.Hidden
	c := nal.NewCursor(p.Data, d.prefix)
	for unit := c.Next(); unit != nil; unit = c.Next() {
		if err := d.unit(unit, p.PTS); err != nil {
			return err
		}
	}
	d.finish()
	return d.out.Deliver(ctx, &d.ready)
}

func (d *decoder) Drain() {
	d.out.Drain(func() []*frame {
		d.finish()
		d.flush()
		return d.ready
	})
}

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	f, err := d.out.Next(ctx)
	if err != nil {
		return media.Frame{}, err
	}
	f.AwaitAll()
	return media.Frame{Picture: &f.Picture, PTS: d.times.Of(f.PTS), Damaged: f.Damaged.Load()}, nil
}

// Busy is the processor time that the decoder's threads have used.
func (d *decoder) Busy() time.Duration { return d.work.Busy() }

func (d *decoder) Close() {
	d.out.Close()
	d.work.Close()
}
