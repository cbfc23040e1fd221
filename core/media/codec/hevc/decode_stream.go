package hevc

import (
	"errors"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
)

// stream parses the headers of a stream, keeps its references, and assembles its pictures.
type stream struct {
	prefix int // bytes of the lengths before NAL units, 0: start codes
	spss   nal.ParameterSets[sps]
	ppss   nal.ParameterSets[pps]
	rbsp   []byte

	pool    framepool.Pool[*frame]
	dpb     []*frame
	active  *sps
	layout  *layout
	cur     *frame
	slices  []*slice // of the current picture
	spare   []*slice
	headers []*sliceHeader
	ready   []*frame

	before, after, long, all [2 * maxDPB]*frame // of the lists that are being built

	begun    bool // a picture was decoded
	restart  bool // the next picture begins a sequence: after its end
	noRASL   bool // NoRaslOutputFlag of the last IRAP picture
	prevPOC  int  // of prevTid0Pic
	hidden   bool
	lost     bool // something was missing before the current picture
	skipping bool // slices of a picture that is not decoded

	headersOnly bool           // pictures are described, not decoded
	decode      func(f *frame) // decodes the slices that were collected
}

// configure reads the parameter sets of an HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1).
func (d *stream) configure(record []byte) error {
	prefix, units, err := configSets(record)
	if err != nil {
		return err
	}
	d.prefix = prefix
	for _, unit := range units {
		if err := d.parameterSet(unit); err != nil {
			return err
		}
	}
	return nil
}

// parameterSet stores a sequence or picture parameter set.
func (d *stream) parameterSet(unit []byte) error {
	if len(unit) < 3 {
		return nil
	}
	d.rbsp = nal.Unescape(d.rbsp[:0], unit[2:])
	switch kindOf(unit) {
	case nalSPS:
		s, err := parseSPS(d.rbsp)
		if err != nil {
			return err
		}
		d.spss.Put(s.id, s, d.rbsp, nil)
	case nalPPS:
		p, err := parsePPS(d.rbsp)
		if err != nil {
			return err
		}
		d.ppss.Put(p.id, p, d.rbsp, nil)
	}
	return nil
}

// unit handles one NAL unit. A damaged unit is skipped; one that needs an unsupported feature ends the
// stream.
func (d *stream) unit(unit []byte, pts int64) error {
	if len(unit) < 2 || (unit[0]&1) != 0 || unit[1]>>3 != 0 { // other layers
		return nil
	}
	var err error
	switch kind := kindOf(unit); {
	case kind <= nalRASLR || kind >= nalBLAWLP && kind <= nalCRA:
		err = d.slice(unit, pts)
	case kind == nalSPS || kind == nalPPS:
		d.finish()
		err = d.parameterSet(unit)
	case kind == nalEndOfSeq || kind == nalEndOfBits:
		d.finish()
		d.restart = true
	case kind == nalDelimiter:
		d.finish()
	}
	var broken *media.FormatError
	if errors.As(err, &broken) {
		d.lost = true
		return nil
	}
	return err
}

// slice handles a slice segment, which may begin a picture.
func (d *stream) slice(unit []byte, pts int64) error {
	if len(unit) > 2 && unit[2]&0x80 != 0 {
		d.finish()
	}
	var sl *slice
	if n := len(d.spare); n > 0 {
		sl, d.spare = d.spare[n-1], d.spare[:n-1]
	} else {
		sl = &slice{}
	}
	sl.rbsp = nal.Unescape(sl.rbsp[:0], unit[2:])
	sl.data = bits.NewReader(sl.rbsp)
	var before *sliceHeader
	if n := len(d.slices); n > 0 {
		before = &d.slices[n-1].h
	}
	if err := sl.h.parse(&sl.data, unit, &d.spss, &d.ppss, before); err != nil {
		d.spare = append(d.spare, sl)
		return err
	}
	sl.locate(unit[2:])
	if d.cur == nil && !d.skipping {
		if err := d.begin(&sl.h, pts); err != nil {
			d.spare = append(d.spare, sl)
			return err
		}
	}
	if d.skipping || sl.h.sps != d.active || sl.h.pps != d.layout.pps || len(d.slices) >= d.active.ctbWidth*d.active.ctbHeight {
		d.spare = append(d.spare, sl)
		return nil
	}
	if !sl.h.dependent {
		d.headers = append(d.headers, &sl.h)
		d.cur.lists = append(d.cur.lists, [2]refList{})
		d.buildLists(&sl.h, &d.cur.lists[len(d.cur.lists)-1])
	}
	sl.number = len(d.headers) - 1
	d.slices = append(d.slices, sl)
	return nil
}

// locate finds where the substreams of a slice segment start. Entry points count the emulation prevention
// bytes of the payload.
func (sl *slice) locate(payload []byte) {
	if sl.starts = sl.starts[:0]; len(sl.h.substreams) == 0 {
		return
	}
	escapes, head := nal.Escapes(payload), sl.data.Pos()>>3
	at := head
	for _, e := range escapes {
		if e <= at {
			at++
		}
	}
	k := 0
	for _, size := range sl.h.substreams {
		at += size
		for k < len(escapes) && escapes[k] < at {
			k++
		}
		sl.starts = append(sl.starts, at-k-head)
	}
	if n := len(sl.starts); sl.starts[n-1] > len(sl.rbsp)-head {
		sl.starts = sl.starts[:0] // damaged: they are not used
	}
}

// begin starts a picture (8.1.3, 8.3.1, 8.3.2).
func (d *stream) begin(h *sliceHeader, pts int64) error {
	if h.irap() {
		d.noRASL = h.idr() || h.nalType <= nalBLANLP || !d.begun || d.restart
	} else if !d.begun {
		d.skipping = true // nothing can be decoded before the first random access point
		return nil
	}
	if h.rasl() && d.noRASL {
		d.skipping = true
		return nil
	}
	s := h.sps
	if s != d.active && !(h.irap() && d.noRASL) {
		d.skipping = true
		return damaged("a sequence changes where none begins")
	}
	if d.layout == nil || d.layout.sps != s || d.layout.pps != h.pps {
		l, err := newLayout(s, h.pps)
		if err != nil {
			return err
		}
		d.layout = l
	}
	if h.irap() && d.noRASL {
		d.flush()
	}
	d.active, d.begun, d.restart = s, true, false
	poc := h.pocLSB
	if !(h.irap() && d.noRASL) {
		size := 1 << s.pocBits
		low := d.prevPOC & (size - 1)
		high := d.prevPOC - low
		switch {
		case h.pocLSB < low && low-h.pocLSB >= size/2:
			high += size
		case h.pocLSB > low && h.pocLSB-low > size/2:
			high -= size
		}
		poc += high
	}
	if h.temporal == 0 && !h.rasl() && !h.radl() && h.reference() {
		d.prevPOC = poc
	}
	d.mark(h, poc)
	d.bump(s.maxDec - 1)
	d.cur = d.acquire(s)
	f := d.cur
	f.poc, f.PTS, f.Hidden = poc, pts, d.hidden
	f.reference, f.long, f.waiting = true, false, h.output && !d.hidden
	f.Shown = framepool.WholeFrame
	if d.lost {
		f.Damaged.Store(true)
		d.lost = false
	}
	return nil
}

// acquire returns a frame for a picture.
func (d *stream) acquire(s *sps) *frame {
	if d.headersOnly {
		f := &frame{sps: s}
		f.InitEmpty()
		f.Begin(0)
		return f
	}
	l := s.frames()
	f, id, found := d.pool.Take(func(f *frame) bool { return f.Fits(l) && f.sps.ctb == s.ctb })
	if !found {
		f = &frame{stride4: (s.width + 3) >> 2}
		f.motion = make([]blockMotion, f.stride4*((s.height+3)>>2))
		f.sliceOf = make([]uint16, s.ctbWidth*s.ctbHeight)
		f.Init(l, func() { d.pool.Put(f) })
	}
	f.sps = s
	f.lists = f.lists[:0]
	f.Crop(l)
	f.Begin(id)
	return f
}

// mark carries out the reference picture set (8.3.2): what is in it stays, all else is free.
func (d *stream) mark(h *sliceHeader, poc int) {
	if h.irap() && d.noRASL {
		for _, f := range d.dpb {
			f.reference = false
		}
		d.tidy()
		return
	}
	for _, f := range d.dpb {
		f.kept = false
	}
	for _, l := range h.longs {
		if f := d.find(h.sps, l, poc); f != nil {
			f.long, f.kept = true, true
		} else if l.used {
			d.conceal(h.sps, longPOC(l, poc), true)
		}
	}
	for i := range h.short.n() {
		p := poc + int(h.short.delta[i])
		if f := d.findShort(p); f != nil {
			f.kept = true
		} else if h.short.used[i] {
			d.conceal(h.sps, p, false)
		}
	}
	for _, f := range d.dpb {
		f.reference = f.kept
	}
	d.tidy()
}

func longPOC(l longRef, poc int) int {
	if l.msb {
		return poc + l.poc
	}
	return l.poc
}

// find returns the long-term reference of a header.
func (d *stream) find(s *sps, l longRef, poc int) *frame {
	mask := 1<<s.pocBits - 1
	for _, f := range d.dpb {
		if f.reference && (l.msb && f.poc == poc+l.poc || !l.msb && f.poc&mask == l.poc) {
			return f
		}
	}
	return nil
}

// findShort returns the short-term reference with a picture order count.
func (d *stream) findShort(poc int) *frame {
	for _, f := range d.dpb {
		if f.reference && !f.long && f.poc == poc {
			return f
		}
	}
	return nil
}

// conceal puts a substitute for a missing reference into the buffer (8.3.3): the nearest picture that
// there is, or a grey one.
func (d *stream) conceal(s *sps, poc int, long bool) {
	f := d.acquire(s)
	f.poc, f.reference, f.kept, f.long, f.waiting = poc, true, true, long, false
	d.dpb = append(d.dpb, f)
	d.lost = true
	if d.headersOnly {
		return
	}
	f.Fill()
	f.forgetMotion()
	if nearest := nearest(d.dpb, f); nearest != nil {
		nearest.Await(framepool.WholeFrame, 2*framepool.AllRows-1)
		for c := range f.Planes {
			copy(f.Planes[c].Pix, nearest.Planes[c].Pix)
			copy(f.Planes[c].Wide, nearest.Planes[c].Wide)
		}
	}
	f.Advance(framepool.WholeFrame, framepool.AllRows)
}

// nearest returns the frame that is shown nearest to another one with the same parameter set, or nil.
func nearest(list []*frame, f *frame) (n *frame) {
	for _, g := range list {
		if g != f && g.sps == f.sps && (n == nil || abs(g.poc-f.poc) < abs(n.poc-f.poc)) {
			n = g
		}
	}
	return n
}

// buildLists builds the reference picture lists of a slice (8.3.4).
func (d *stream) buildLists(h *sliceHeader, lists *[2]refList) {
	if h.kind == sliceI {
		return
	}
	before, after, long := d.before[:0], d.after[:0], d.long[:0]
	poc := d.cur.poc
	for i := range h.short.n() {
		if !h.short.used[i] {
			continue
		}
		f := d.findShort(poc + int(h.short.delta[i]))
		if i < h.short.negative {
			before = append(before, f)
		} else {
			after = append(after, f)
		}
	}
	for _, l := range h.longs {
		if l.used {
			long = append(long, d.find(h.sps, l, poc))
		}
	}
	for i := range 2 {
		if h.refs[i] == 0 {
			continue
		}
		first, second := before, after
		if i == 1 {
			first, second = after, before
		}
		all := append(append(append(d.all[:0], first...), second...), long...)
		if len(all) == 0 {
			continue
		}
		l := &lists[i]
		l.n = h.refs[i]
		for k := range l.n {
			e := k % len(all)
			if h.modified[i] {
				e = int(h.entries[i][k])
			}
			if f := all[e]; f != nil {
				l.refs[k], l.poc[k], l.long[k] = f, int32(f.poc), f.long
			}
		}
	}
}

// finish decodes the assembled picture, and queues it for output.
func (d *stream) finish() {
	d.skipping = false
	f := d.cur
	if f == nil {
		return
	}
	d.cur = nil
	d.decode(f)
	d.spare = append(d.spare, d.slices...)
	d.slices, d.headers = d.slices[:0], d.headers[:0]
	d.dpb = append(d.dpb, f)
	d.bump(len(d.dpb))
}

// bump outputs pictures until no more wait than may, and the buffer holds no more than a number
// (C.5.2.2, C.5.2.3), and frees what is no longer needed.
func (d *stream) bump(capacity int) {
	for {
		f, found := framepool.NextOutput(d.dpb, d.active.reorder, capacity)
		if !found {
			break
		}
		d.output(f)
		d.tidy()
	}
	d.tidy()
}

func (d *stream) output(f *frame) {
	f.waiting = false
	f.Hold()
	d.ready = append(d.ready, f)
}

// flush outputs all pictures that wait.
func (d *stream) flush() {
	for {
		f, found := framepool.NextOutput(d.dpb, 0, 0)
		if !found {
			break
		}
		d.output(f)
	}
	for _, f := range d.dpb {
		f.reference = false
	}
	d.tidy()
}

// tidy removes pictures that are neither references nor wait for output.
func (d *stream) tidy() {
	kept := d.dpb[:0]
	for _, f := range d.dpb {
		if f.reference || f.waiting {
			kept = append(kept, f)
		} else {
			f.Drop()
		}
	}
	clear(d.dpb[len(kept):])
	d.dpb = kept
}
