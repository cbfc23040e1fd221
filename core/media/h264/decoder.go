package h264

import (
	"context"
	"errors"
	"io"
	"iter"
	"runtime"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/bits"
)

// decoder reads headers and keeps the references in order in Send, decodes
// pictures in goroutines of its own, and hands frames out in Receive.
type decoder struct {
	track  media.Track
	prefix int // bytes of the lengths before NAL units, 0: start codes
	spss   [maxSPS]*sps
	ppss   [maxPPS]*pps

	active   *sps
	dpb      dpb
	order    orderState
	pool     framePool
	cur      *frame // the frame that is being put together, nil between frames
	first    bool   // of cur only the first field is there
	prevRef  int    // frame_num of the last reference picture
	started  bool
	filling  *job // the picture whose slices are coming
	rbsp     []byte
	lost     bool // something was missing before the current picture
	last     *frame
	ready    []*frame
	shown    int64
	parallel bool

	jobs    chan *job
	idle    chan *job
	out     chan *frame
	drained sync.Once
	stop    chan struct{}
	workers sync.WaitGroup
}

// NewDecoder starts a decoder with so many threads (at least one). The track's
// Config is an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1), or
// empty for packets in the byte stream format of annex B.
func NewDecoder(t media.Track, threads int) (media.Decoder, error) {
	threads = max(threads, 1)
	d := &decoder{track: t, parallel: threads > 1, stop: make(chan struct{}),
		jobs: make(chan *job, threads), idle: make(chan *job, 2*threads+1), out: make(chan *frame, threads+1)}
	d.dpb.output = func(f *frame) {
		f.hold()
		d.ready = append(d.ready, f)
	}
	if len(t.Config) > 0 {
		if err := d.configure(t.Config); err != nil {
			return nil, err
		}
	}
	for range cap(d.idle) {
		d.idle <- new(job)
	}
	for range threads {
		d.workers.Go(d.work)
	}
	return d, nil
}

// work keeps to one thread of the operating system, so that what a decoding
// thread uses can be read from outside.
func (d *decoder) work() {
	runtime.LockOSThread()
	w := newWorker()
	for j := range d.jobs {
		w.run(j)
		j.reset()
		d.idle <- j
	}
}

// configure reads the parameter sets that stand outside the stream.
func (d *decoder) configure(record []byte) error {
	config, err := parseConfig(record)
	if err != nil {
		return err
	}
	d.prefix = config.prefix
	for _, unit := range config.sets {
		if err := d.parameterSet(unit); err != nil {
			return err
		}
	}
	return nil
}

// config is an AVCDecoderConfigurationRecord.
type config struct {
	prefix int
	sets   [][]byte // NAL units
}

func parseConfig(record []byte) (config, error) {
	if len(record) < 7 || record[0] != 1 {
		return config{}, damaged("the configuration record is not one")
	}
	c := config{prefix: int(record[4]&3) + 1}
	rest := record[5:]
	for i, mask := range []byte{0x1F, 0xFF} {
		if len(rest) == 0 {
			if i == 1 {
				break // some writers leave the picture parameter sets out
			}
			return config{}, damaged("the configuration record is cut short")
		}
		n := int(rest[0] & mask)
		rest = rest[1:]
		for range n {
			if len(rest) < 2 || len(rest) < 2+int(rest[0])<<8+int(rest[1]) {
				return config{}, damaged("the configuration record is cut short")
			}
			size := int(rest[0])<<8 + int(rest[1])
			if size > 0 {
				c.sets = append(c.sets, rest[2:2+size])
			}
			rest = rest[2+size:]
		}
	}
	return c, nil
}

// parameterSet takes up a sequence or picture parameter set.
func (d *decoder) parameterSet(unit []byte) error {
	d.rbsp = unescape(d.rbsp[:0], unit[1:])
	switch unit[0] & 31 {
	case nalSPS:
		s, err := parseSPS(d.rbsp)
		if err != nil {
			return err
		}
		if old := d.spss[s.id]; old == nil || !old.same(d.rbsp) {
			s.raw = append(s.raw, d.rbsp...)
			d.spss[s.id] = s
		}
	case nalPPS:
		p, err := parsePPS(d.rbsp, &d.spss)
		if err != nil {
			return err
		}
		if old := d.ppss[p.id]; old == nil || !old.same(d.rbsp) || old.spsOf != d.spss[p.spsID] {
			p.raw, p.spsOf = append(p.raw, d.rbsp...), d.spss[p.spsID]
			d.ppss[p.id] = p
		}
	}
	return nil
}

// units yields the NAL units of a packet.
func (d *decoder) units(data []byte) iter.Seq[[]byte] {
	if d.prefix > 0 {
		return lengthPrefixed(data, d.prefix)
	}
	return annexB(data)
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	for unit := range d.units(p.Data) {
		if err := d.unit(ctx, unit, p.PTS); err != nil {
			return err
		}
	}
	if err := d.dispatch(ctx); err != nil {
		return err
	}
	return d.deliver(ctx)
}

// unit takes up one NAL unit. What is damaged is passed over; what cannot be
// decoded here ends the stream.
func (d *decoder) unit(ctx context.Context, unit []byte, pts int64) error {
	var err error
	switch unit[0] & 31 {
	case nalSlice, nalIDR:
		err = d.slice(ctx, unit, pts)
	case nalPartitionA, nalPartitionA + 1, nalPartitionC:
		err = unsupported("data partitioning")
	case nalSPS, nalPPS:
		err = d.parameterSet(unit)
	case nalEndOfSeq:
		err = d.dispatch(ctx)
	}
	var broken *media.FormatError
	if errors.As(err, &broken) {
		d.lost = true
		return nil
	}
	return err
}

// slice takes up a slice, which may begin a picture.
func (d *decoder) slice(ctx context.Context, unit []byte, pts int64) error {
	if d.filling == nil {
		select {
		case d.filling = <-d.idle:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	s := d.filling.newSlice()
	s.rbsp = unescape(s.rbsp[:0], unit[1:])
	s.data = bits.NewReader(s.rbsp)
	if err := s.h.parse(&s.data, unit[0], &d.spss, &d.ppss); err != nil {
		d.filling.spare = append(d.filling.spare, s)
		return err
	}
	if n := len(d.filling.slices); n > 0 && !s.h.samePicture(&d.filling.slices[n-1].h) {
		d.filling.spare = append(d.filling.spare, s)
		if err := d.dispatch(ctx); err != nil {
			return err
		}
		return d.slice(ctx, unit, pts)
	}
	if s.h.redundant {
		d.filling.spare = append(d.filling.spare, s)
		return nil
	}
	if len(d.filling.slices) == 0 {
		d.begin(&s.h, pts)
	}
	d.dpb.buildLists(&s.h, d.cur, &s.lists)
	d.complete(s)
	s.scale = s.h.pps.scaleFor(s.h.sps)
	d.filling.slices = append(d.filling.slices, s)
	return nil
}

// begin starts a picture: a frame, or a field of one.
func (d *decoder) begin(h *sliceHeader, pts int64) {
	if d.first && !d.isSecond(h) {
		d.finish()
	}
	if d.cur == nil {
		if h.sps != d.active {
			d.dpb.clear()
			d.active = h.sps
		}
		d.fillGap(h)
		d.cur = d.pool.get(h.sps)
		d.cur.pts, d.cur.frameNum = pts, h.frameNum
		d.cur.fieldPair = h.structure != wholeFrame
	}
	if h.idr() {
		d.dpb.clear()
	}
	d.dpb.wrap(h)
	poc := d.order.decode(h)
	for i := range poc {
		if h.structure>>i&1 != 0 {
			d.cur.poc[i] = poc[i]
		}
	}
	j := d.filling
	j.f, j.sps, j.structure, j.poc, j.shared = d.cur, h.sps, h.structure, d.cur.poc, d.parallel
	j.hold(d.cur)
	if d.lost {
		d.cur.damaged.Store(true)
		d.lost = false
	}
	if d.last != nil && d.last.fits(h.sps) && d.last != d.cur {
		j.conceal = d.last
		j.hold(d.last)
	}
}

// isSecond tells whether a field completes the frame of the one before.
func (d *decoder) isSecond(h *sliceHeader) bool {
	return h.structure != wholeFrame && h.structure != d.cur.coded && h.frameNum == d.cur.frameNum &&
		!h.idr() && h.sps == d.active && (d.cur.reference || h.refIDC == 0)
}

// fillGap infers the frames that a gap in frame_num stands for (8.2.5.2).
func (d *decoder) fillGap(h *sliceHeader) {
	size := 1 << h.sps.frameNumBits
	if !d.started || h.idr() || h.frameNum == d.prevRef || h.frameNum == (d.prevRef+1)%size {
		return
	}
	missing := (h.frameNum - d.prevRef - 1 + size) % size
	d.prevRef = (h.frameNum - 1 + size) % size
	if !h.sps.gapsAllowed {
		d.lost = true
		return
	}
	for n := min(missing, max(h.sps.maxRefFrames, 1)); n > 0; n-- {
		f := &frame{missing: true, coded: wholeFrame, frameNum: (h.frameNum - n + size) % size}
		f.hold()
		d.dpb.wrap(&sliceHeader{sps: h.sps, frameNum: f.frameNum})
		d.dpb.slide(h.sps, f)
		f.short = wholeFrame
		d.dpb.tidy()
		d.dpb.frames = append(d.dpb.frames, f)
	}
}

// complete replaces the references that are missing and holds all of them.
func (d *decoder) complete(s *slice) {
	for i := range s.lists {
		list := &s.lists[i]
		for k := range list.n {
			r := &list.refs[k]
			if r.f == nil || r.f.missing || !r.f.fits(s.h.sps) {
				if r.f == nil || !r.f.missing {
					d.cur.damaged.Store(true)
				}
				*r = newRef(d.standIn(s.h.sps), s.h.structure)
			}
			d.filling.hold(r.f)
		}
	}
}

// standIn is a frame for a reference that is missing: the last one that was
// decoded, or else a grey one.
func (d *decoder) standIn(s *sps) *frame {
	if d.last != nil && d.last.fits(s) && d.last != d.cur {
		return d.last
	}
	f := d.pool.get(s)
	f.grey()
	if d.last != nil {
		d.last.drop()
	}
	d.last = f
	return f
}

// dispatch sends the picture off whose slices were coming.
func (d *decoder) dispatch(ctx context.Context) error {
	j := d.filling
	if j == nil || len(j.slices) == 0 {
		return nil
	}
	d.filling = nil
	h := &j.slices[0].h
	select {
	case d.jobs <- j:
	case <-ctx.Done():
		return ctx.Err()
	}
	d.settle(h)
	return nil
}

// settle marks the picture as its header says and puts the frame, when it is
// complete, among those that wait for output.
func (d *decoder) settle(h *sliceHeader) {
	f := d.cur
	if f.coded == 0 {
		f.hold() // of the buffer
		d.dpb.frames = append(d.dpb.frames, f)
	}
	f.coded |= h.structure
	if h.refIDC != 0 {
		f.reference = true
		d.prevRef = h.frameNum
		if d.dpb.mark(h, f) {
			f.reset(h.structure)
			d.prevRef = 0
			d.dpb.bump(0, 0) // all before it are shown first
		}
	}
	d.started = true
	d.order.next(h, f)
	d.first = h.structure != wholeFrame && f.coded != wholeFrame
	if !d.first {
		d.finish()
	}
}

// finish says that nothing more comes of the current frame.
func (d *decoder) finish() {
	f := d.cur
	d.cur, d.first = nil, false
	if f.coded != wholeFrame {
		f.advance(f.coded.opposite(), allRows)
	}
	if d.last != nil {
		d.last.drop()
	}
	f.hold()
	d.last = f
	f.waiting, f.shown = true, f.coded
	f.drop() // what get lent
	d.dpb.bump(d.active.reorder, d.active.dpbFrames)
}

// deliver hands out the frames whose turn it is.
func (d *decoder) deliver(ctx context.Context) error {
	for len(d.ready) > 0 {
		select {
		case d.out <- d.ready[0]:
			d.ready = append(d.ready[:0], d.ready[1:]...)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func (d *decoder) Drain() {
	d.drained.Do(func() {
		if d.first {
			d.finish()
		}
		d.dpb.clear()
		go func() {
			defer close(d.out)
			for _, f := range d.ready {
				select {
				case d.out <- f:
				case <-d.stop:
					return
				}
			}
		}()
	})
}

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	select {
	case f, open := <-d.out:
		if !open {
			return media.Frame{}, io.EOF
		}
		f.awaitAll()
		frame := media.Frame{Picture: &f.pic, PTS: f.pts, Damaged: f.damaged.Load()}
		if frame.PTS == media.NoTime {
			frame.PTS = d.shown * int64(max(d.track.Format.Rate.Den, 1))
		}
		d.shown++
		return frame, nil
	case <-ctx.Done():
		return media.Frame{}, ctx.Err()
	}
}

func (d *decoder) Close() {
	close(d.stop)
	close(d.jobs)
	d.workers.Wait()
}
