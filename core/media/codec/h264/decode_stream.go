package h264

import (
	"context"
	"errors"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
)

// stream parses the headers of a stream, keeps its references, assembles its pictures, and
// submits them for decoding.
type stream struct {
	prefix int // bytes of the lengths before NAL units, 0: start codes
	spss   nal.ParameterSets[sps]
	ppss   nal.ParameterSets[pps]
	rbsp   []byte

	active      *sps
	dpb         dpb
	poc         pocState
	pool        framePool
	headersOnly bool   // only headers are read: frames hold no samples
	cur         *frame // the frame that is being assembled, nil between frames
	first       bool   // only the first field of cur has been decoded
	prevRef     int    // frame_num of the last reference picture
	started     bool
	filling     *pictureTask // the picture whose slices are coming
	lost        bool         // something was missing before the current picture
	last        *frame
	ready       []*frame // in output order
	created     int      // frames begun so far
	hidden      bool     // new frames are not output

	// acquire returns an unused task; submit takes a complete one.
	acquire func(ctx context.Context) (*pictureTask, error)
	submit  func(ctx context.Context, j *pictureTask) error
}

func (d *stream) init() {
	d.dpb.output = func(f *frame) {
		f.Hold()
		d.ready = append(d.ready, f)
	}
}

// configure reads the parameter sets of a decoder configuration record.
func (d *stream) configure(record []byte) error {
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

// parameterSet stores a sequence or picture parameter set.
func (d *stream) parameterSet(unit []byte) error {
	d.rbsp = nal.Unescape(d.rbsp[:0], unit[1:])
	switch unit[0] & 31 {
	case nalSPS:
		s, err := parseSPS(d.rbsp)
		if err != nil {
			return err
		}
		d.spss.Put(s.id, s, d.rbsp, nil)
	case nalPPS:
		p, err := parsePPS(d.rbsp, &d.spss)
		if err != nil {
			return err
		}
		d.ppss.Put(p.id, p, d.rbsp, d.spss.Get(p.spsID))
	}
	return nil
}

// unit handles one NAL unit. A damaged unit is skipped; one that needs an unsupported feature
// ends the stream.
func (d *stream) unit(ctx context.Context, unit []byte, pts int64) error {
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
	if err == nil {
		return nil
	}
	var broken *media.FormatError
	if errors.As(err, &broken) {
		d.lost = true
		return nil
	}
	return err
}

// slice handles a slice, which may begin a picture.
func (d *stream) slice(ctx context.Context, unit []byte, pts int64) error {
	if d.filling == nil {
		var err error
		if d.filling, err = d.acquire(ctx); err != nil {
			return err
		}
	}
	s := d.filling.newSlice()
	s.rbsp = nal.Unescape(s.rbsp[:0], unit[1:])
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
	if n := len(d.filling.slices); n > 0 && s.h.firstMb < d.filling.slices[n-1].h.firstMb && s.h.sps.mayReorder() {
		d.filling.spare = append(d.filling.spare, s)
		return unsupported("arbitrary slice order")
	}
	if s.h.redundant {
		d.filling.spare = append(d.filling.spare, s)
		return nil
	}
	if len(d.filling.slices) == 0 {
		d.begin(&s.h, pts)
	}
	if !d.headersOnly {
		d.dpb.buildLists(&s.h, d.cur, &s.lists)
		d.replaceMissing(s)
		s.scale = s.h.pps.scaleFor(s.h.sps)
	}
	d.filling.slices = append(d.filling.slices, s)
	return nil
}

// begin starts a picture: a frame, or a field of one.
func (d *stream) begin(h *sliceHeader, pts int64) {
	if d.first && !d.isSecond(h) {
		d.finishFrame()
	}
	if d.cur == nil {
		if h.sps != d.active {
			d.dpb.clear()
			d.active = h.sps
		}
		d.fillGap(h)
		d.cur = d.newFrame(h.sps)
		d.cur.PTS, d.cur.frameNum, d.cur.Hidden = pts, h.frameNum, d.hidden
		d.cur.fieldPair = h.structure != framepool.WholeFrame
	}
	if h.idr() {
		d.dpb.clear()
	}
	d.dpb.wrap(h)
	poc := d.poc.next(h)
	for i := range poc {
		if h.structure>>i&1 != 0 {
			d.cur.poc[i] = poc[i]
		}
	}
	j := d.filling
	j.f, j.sps, j.structure, j.poc = d.cur, h.sps, h.structure, d.cur.poc
	j.hold(d.cur)
	if d.lost {
		d.cur.Damaged.Store(true)
		d.lost = false
	}
	if !d.headersOnly && d.last != nil && d.last.fits(h.sps) && d.last != d.cur {
		j.conceal = d.last
		j.hold(d.last)
	}
}

func (d *stream) newFrame(s *sps) *frame {
	d.created++
	if d.headersOnly {
		f := &frame{}
		f.InitEmpty()
		f.begin(0)
		return f
	}
	return d.pool.acquire(s)
}

// isSecond reports whether a field completes the frame of the previous field.
func (d *stream) isSecond(h *sliceHeader) bool {
	return h.structure != framepool.WholeFrame && h.structure != d.cur.coded && h.frameNum == d.cur.frameNum &&
		!h.idr() && h.sps == d.active && (d.cur.reference || h.refIDC == 0)
}

// fillGap inserts the frames that a gap in frame_num implies (8.2.5.2).
func (d *stream) fillGap(h *sliceHeader) {
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
		f := &frame{missing: true, coded: framepool.WholeFrame, frameNum: (h.frameNum - n + size) % size}
		f.Hold()
		d.dpb.wrap(&sliceHeader{sps: h.sps, frameNum: f.frameNum})
		d.dpb.slide(h.sps, f)
		f.short = framepool.WholeFrame
		d.dpb.tidy()
		d.dpb.frames = append(d.dpb.frames, f)
	}
}

// replaceMissing replaces missing references of a slice and holds all of them.
func (d *stream) replaceMissing(s *slice) {
	for i := range s.lists {
		list := &s.lists[i]
		for k := range list.n {
			r := &list.refs[k]
			if r.f == nil || r.f.missing || !r.f.fits(s.h.sps) {
				if r.f == nil || !r.f.missing {
					d.cur.Damaged.Store(true)
				}
				*r = newRef(d.concealReference(s.h.sps), s.h.structure)
			}
			d.filling.hold(r.f)
		}
	}
}

// concealReference returns a substitute for a missing reference: the last decoded frame, or else
// a grey one.
func (d *stream) concealReference(s *sps) *frame {
	if d.last != nil && d.last.fits(s) && d.last != d.cur {
		return d.last
	}
	f := d.pool.acquire(s)
	f.grey()
	if d.last != nil {
		d.last.Drop()
	}
	d.last = f
	return f
}

// dispatch submits the assembled picture for decoding.
func (d *stream) dispatch(ctx context.Context) error {
	j := d.filling
	if j == nil || len(j.slices) == 0 {
		return nil
	}
	d.filling = nil
	h := &j.slices[0].h
	if err := d.submit(ctx, j); err != nil {
		return err
	}
	d.finishPicture(h)
	return nil
}

// finishPicture carries out the marking of the picture's header and, when the frame is complete,
// queues it for output.
func (d *stream) finishPicture(h *sliceHeader) {
	f := d.cur
	if f.coded == 0 {
		f.Hold() // held by the buffer
		d.dpb.frames = append(d.dpb.frames, f)
	}
	f.coded |= h.structure
	if h.refIDC != 0 {
		f.reference = true
		d.prevRef = h.frameNum
		if d.dpb.mark(h, f) {
			f.reset(h.structure)
			d.prevRef = 0
			d.dpb.bump(0, 0) // all earlier pictures are output first
		}
	}
	d.started = true
	d.poc.update(h, f)
	d.first = h.structure != framepool.WholeFrame && f.coded != framepool.WholeFrame
	if !d.first {
		d.finishFrame()
	}
}

// finishFrame ends the current frame: nothing more of it follows.
func (d *stream) finishFrame() {
	f := d.cur
	d.cur, d.first = nil, false
	if f.coded != framepool.WholeFrame {
		f.Advance(f.coded.Opposite(), framepool.AllRows)
	}
	if d.last != nil {
		d.last.Drop()
	}
	f.Hold()
	d.last = f
	f.waiting, f.Shown = true, f.coded
	f.Drop() // releases what acquire held
	d.dpb.bump(d.active.reorder, d.active.dpbFrames)
}

// end outputs all frames that are left.
func (d *stream) end() {
	if d.first {
		d.finishFrame()
	}
	d.dpb.clear()
}
