package h264

import (
	"context"
	"fmt"
	"slices"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/gop"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/ratecontrol"
	"vividstrain/core/media/codec/threads"
	"vividstrain/core/media/picture"
)

// Encoder codes a video. It is for one goroutine at a time.
type Encoder struct {
	gop.Order
	sps   *sps
	pps   *pps
	s     stream
	job   pictureTask
	work  *worker
	byte  macroblockEncoder[uint8]
	wide  macroblockEncoder[uint16]
	slice sliceWriter

	halfpel []*halfpelPlanes // of reference pictures, oldest first
	frame   int              // frame_num of the next picture

	unit          []byte
	packet        media.Packet
	reconstructed func(f *frame) // takes each reconstructed frame in order of display, for tests
	out           func(*media.Packet) error
}

// NewEncoder makes an encoder that hands each coded picture to out, in decoding order. The
// packet is valid until out returns. Its DTS is in units of frames; its PTS is the one given to
// Encode.
func NewEncoder(set media.EncoderSettings, out func(*media.Packet) error) (*Encoder, error) {
	if err := CheckFormat(set.Format); err != nil {
		return nil, err
	}
	if set.References == 0 {
		set.References = 1
		if set.Preset == media.Good {
			set.References = 3
		}
	}
	set.KeyEvery, set.Slices = max(set.KeyEvery, 1), max(set.Slices, 1)
	e := &Encoder{Order: gop.Order{Settings: set, Fields: set.Format.Interlaced}, out: out, work: newWorker(threads.NewTeam(1))}
	e.Code = e.codeFrame
	if e.sps, e.pps = e.parameters(); e.sps.level == 0 {
		return nil, fmt.Errorf("h264 has interlaced video up to level 4.1 only (table A-4); this many references are beyond it")
	}
	e.s.init()
	e.s.acquire = func(context.Context) (*pictureTask, error) { return &e.job, nil }
	e.s.submit = func(_ context.Context, j *pictureTask) error {
		j.f.Advance(j.structure, framepool.AllRows)
		j.reset()
		return nil
	}
	for _, unit := range [][]byte{e.sps.append(nil), e.pps.append(nil)} {
		if err := e.s.parameterSet(unit); err != nil {
			return nil, err
		}
	}
	e.sps, e.pps = e.s.spss.Get(0), e.s.ppss.Get(0)
	e.work.mbs = newMacroblocks(e.sps.mbWidth * e.sps.mbHeight)
	m := e.work.thread(0)
	setup(e, &e.byte, &m.byte, fastEncodeKernels())
	setup(e, &e.wide, &m.wide, fastWideEncodeKernels())
	e.Layout = e.sps.layout()
	e.Start()
	return e, nil
}

// pictureKinds maps slice types to the kinds of rate control.
var pictureKinds = [...]ratecontrol.Kind{sliceP: ratecontrol.P, sliceB: ratecontrol.B, sliceI: ratecontrol.I}

// sliceKinds maps the kinds of rate control to slice types.
var sliceKinds = [...]sliceType{ratecontrol.P: sliceP, ratecontrol.B: sliceB, ratecontrol.I: sliceI}

// setup prepares the macroblock encoder for one sample type.
func setup[T motion.Sample](e *Encoder, c *macroblockEncoder[T], r *recon[T], k encodeKernels[T]) {
	c.d, c.r, c.w, c.k = &e.work.thread(0).d, r, &e.slice, k
	c.presetSettings = presets[e.Settings.Preset]
	c.search.DistanceKernels, c.search.Thorough = k.DistanceKernels, c.thorough
	c.splitThreshold <<= e.Settings.Format.Depth - 8
	c.intraThreshold <<= e.Settings.Format.Depth - 8
	c.useRDOQ = c.thorough && !e.Settings.Simple
	c.blockSizes = []bool{false}
	if c.thorough {
		c.blockSizes = []bool{true, false}
	}
	c.searchCosts, c.finalCosts = make([]int32, e.sps.mbWidth*e.sps.mbHeight), make([]int32, e.sps.mbWidth*e.sps.mbHeight)
	c.maxVectorX, c.maxVectorY = 256, verticalReach(e.sps)
}

// CheckFormat returns why the encoder cannot make a format, nil if it can.
func CheckFormat(f media.Format) error {
	switch {
	case f.Depth != 8 && f.Depth != 10:
		return fmt.Errorf("h264 is made with 8 or 10 bits a sample, not %d", f.Depth)
	case f.Chroma != picture.C420 && f.Chroma != picture.C422:
		return fmt.Errorf("h264 is made in 4:2:0 and 4:2:2, not %s", f.Chroma)
	case f.Width%2 != 0 || f.Height%2 != 0 || f.Interlaced && f.Height%4 != 0:
		return fmt.Errorf("h264 cannot have %dx%d samples", f.Width, f.Height)
	case f.Width < 16 || f.Height < 16 || f.Width > 4096 || f.Height > 2304:
		return fmt.Errorf("h264 is made from 16x16 to 4096x2304, not %dx%d", f.Width, f.Height)
	case f.Interlaced && levelFor(formatSPS(f), &f) == 0:
		return fmt.Errorf("h264 has interlaced video up to level 4.1 only (table A-4); %s at %s is beyond it", f.SizeRate(), media.BitrateText(float64(f.Bitrate)))
	}
	return nil
}

// formatSPS returns a sequence parameter set with the fields that follow from the format alone.
func formatSPS(f media.Format) *sps {
	s := &sps{profile: 100, chroma: f.Chroma, depth: f.Depth, chromaDepth: f.Depth, frameNumBits: 12, pocLSBBits: 12,
		frameMbsOnly: !f.Interlaced, direct8x8: true, width: f.Width, height: f.Height,
		mbWidth: (f.Width + 15) / 16, mbHeight: (f.Height + 15) / 16}
	if f.Interlaced {
		s.mbHeight = (f.Height + 31) / 32 * 2
	}
	switch {
	case f.Chroma == picture.C444:
		s.profile = 244
	case f.Chroma == picture.C422:
		s.profile = 122
	case f.Depth > 8:
		s.profile = 110
	}
	return s
}

// parameters makes the parameter sets for the settings.
func (e *Encoder) parameters() (*sps, *pps) {
	set := &e.Settings
	f := &set.Format
	s := formatSPS(*f)
	if set.KeyEvery == 1 {
		s.constraints = 0x10 // constraint_set3_flag: intra pictures only
	}
	s.maxRefFrames = set.References
	s.vui.reorder = set.Reorder()
	if set.BFrames > 0 {
		s.maxRefFrames = max(s.maxRefFrames, 2)
	}
	if set.BFrames > 2 {
		s.maxRefFrames = max(s.maxRefFrames, 3) + 1
	}
	switch {
	case f.Interlaced:
		s.maxRefFrames++ // the second field of a frame refers to its first field and to earlier frames
	case set.KeyEvery == 1:
		s.maxRefFrames = 0
	}
	s.vui.buffering = max(s.maxRefFrames, s.vui.reorder)
	if c := set.Colour; c != (media.Colour{}) {
		s.vui.Signal = nal.Signal{Stated: true, Colour: c}
	}
	s.vui.unitsInTick, s.vui.timeScale = uint32(f.Rate.Den), uint32(2*f.Rate.Num)
	s.level = levelFor(s, f)
	p := &pps{cabac: !set.Simple, refs: [2]int{1, 1}, deblockingControl: true, transform8x8: true, qp: 0}
	return s, p
}

// Track describes the video as containers need it.
func (e *Encoder) Track() (media.Track, error) {
	return e.Order.Track(Name, toPackets, e.sps.append(nil), e.pps.append(nil))
}

// Flush codes the pictures that wait. The next picture begins a new group.
func (e *Encoder) Flush() error {
	err := e.Order.Flush()
	e.s.end()
	e.releaseShown()
	return err
}

// deblockOffset is FilterOffsetA and FilterOffsetB, below 0 so that noise is kept (made-up scenes).
const deblockOffset = -4

// codeFrame codes a picture as a frame or as two fields, and outputs the packet.
func (e *Encoder) codeFrame(in *gop.Source, rateKind ratecontrol.Kind, reference bool) error {
	kind, idr := sliceKinds[rateKind], in.IDR
	if idr {
		e.frame = 0
	}
	e.packet.Data = e.packet.Data[:0]
	if idr && e.Settings.HDR != nil {
		e.unit = nal.AppendUnit(e.unit[:0], []byte{nalSEI}, nal.AppendHDR(nil, e.Settings.HDR))
		e.packet.Data = nal.AppendPrefixed(e.packet.Data, e.unit)
	}
	h := sliceHeader{nalType: nalSlice, sps: e.sps, pps: e.pps, kind: kind, frameNum: e.frame, structure: framepool.WholeFrame,
		spatialDirect: true, cabacInit: 1, pocLSB: 2 * in.Number, alphaOff: deblockOffset, betaOff: deblockOffset}
	if reference {
		h.refIDC = 2
	}
	if idr {
		h.nalType, h.refIDC, h.idrID = nalIDR, 3, uint32(e.IDRs&1)
	}
	var err error
	if e.sps.frameMbsOnly {
		err = e.codePicture(in, &h)
	} else {
		h.structure = framepool.TopField
		err = e.codePicture(in, &h)
		h.structure = framepool.BottomField
		h.pocLSB++
		h.nalType = nalSlice
		if kind == sliceI && e.Settings.KeyEvery > 1 {
			h.kind = sliceP
		}
		if err == nil {
			err = e.codePicture(in, &h)
		}
	}
	if err != nil {
		return err
	}
	if h.refIDC > 0 {
		e.frame = (e.frame + 1) & (1<<e.sps.frameNumBits - 1)
	}
	e.releaseShown()
	e.packet.PTS, e.packet.Key = in.PTS, idr
	return e.out(&e.packet)
}

// releaseShown releases the frames that are ready for output.
func (e *Encoder) releaseShown() {
	e.s.ready = framepool.DropAll(e.s.ready, e.reconstructed)
}

// codePicture codes a frame or a field and appends its slices to the packet.
func (e *Encoder) codePicture(in *gop.Source, h *sliceHeader) error {
	size := len(e.packet.Data)
	err := e.Attempt(pictureKinds[h.kind], func(qp int) (bits int, err error) {
		if len(e.packet.Data) > size { // of an attempt that was rejected
			e.packet.Data = e.packet.Data[:size]
			j := e.s.filling
			j.spare = append(j.spare, j.slices...)
			j.slices = j.slices[:0]
		}
		h.qp = qp
		if e.sps.wide() {
			err = codeSlices(e, &e.wide, in, h)
		} else {
			err = codeSlices(e, &e.byte, in, h)
		}
		return 8 * (len(e.packet.Data) - size), err
	})
	if err != nil {
		return err
	}
	f := e.s.cur
	if err := e.s.dispatch(context.Background()); err != nil || h.refIDC == 0 {
		return err
	}
	e.interpolateReference(ref{f: f, s: h.structure})
	return nil
}

// interpolateReference makes the half-pel planes of a reference picture if the preset searches
// them.
func (e *Encoder) interpolateReference(p ref) {
	if e.Settings.KeyEvery == 1 || e.Settings.Preset == media.Fast {
		return
	}
	if p.f.halfpel == nil {
		e.acquireHalfpel(p.f)
	}
	if e.sps.wide() {
		s := e.wide.r.source(p.f, p.s)
		e.wide.r.interpolateHalfpel(&s)
	} else {
		s := e.byte.r.source(p.f, p.s)
		e.byte.r.interpolateHalfpel(&s)
	}
}

// halfpelBudget is how many bytes of half-pel planes an encoder keeps. With them a clip of
// 2160p that is coded in two groups at once takes less than 600 MB.
const halfpelBudget = 80e6

// acquireHalfpel gives a frame half-pel planes: new ones within the budget, else those in use
// the longest.
func (e *Encoder) acquireHalfpel(f *frame) {
	luma := &f.Planes[0]
	most := max(1, min(e.sps.maxRefFrames, halfpelBudget/(3*(len(luma.Pix)+2*len(luma.Wide)))))
	var h *halfpelPlanes
	if len(e.halfpel) < most {
		h = newHalfpelPlanes(f)
	} else {
		h = e.halfpel[0]
		e.halfpel = slices.Delete(e.halfpel, 0, 1)
	}
	e.halfpel = append(e.halfpel, h)
	h.assign(f)
}

// codeSlices codes the slices of a picture with the quantisation parameter in its header.
func codeSlices[T motion.Sample](e *Encoder, c *macroblockEncoder[T], in *gop.Source, h *sliceHeader) error {
	rows := e.sps.mbHeight
	if h.structure != framepool.WholeFrame {
		rows /= 2
	}
	count := min(e.Settings.Slices, rows)
	var p *reconstructor[T]
	for i := range count {
		first, end := rows*i/count, rows*(i+1)/count
		h.firstMb = first * e.sps.mbWidth
		if err := e.header(h); err != nil {
			return err
		}
		j := e.s.filling
		if p == nil {
			p = newReconstructor(e.work, e.work.thread(0), c.r, j)
			for i := range e.work.mbs {
				e.work.mbs[i].slice = 0
			}
			for k := range c.src {
				c.src[k], _ = samplesOf[T](&in.Planes[k])
			}
		}
		c.d.startSlice(j.slices[i], i+1, end*e.sps.mbWidth)
		c.begin(j.slices[i])
		for addr := h.firstMb; addr < end*e.sps.mbWidth; addr++ {
			x, y := p.position(addr)
			c.macroblock(x, y, addr == end*e.sps.mbWidth-1)
			p.advance()
		}
		e.unit = nal.AppendUnit(e.unit[:0], []byte{byte(h.refIDC<<5 | h.nalType)}, e.slice.end())
		e.packet.Data = nal.AppendPrefixed(e.packet.Data, e.unit)
	}
	p.filter(p.rows - 1)
	return nil
}

// header writes a slice header and parses it again, which builds the reference lists and, for
// the first slice, begins the picture.
func (e *Encoder) header(h *sliceHeader) error {
	e.setReferenceCounts(h)
	w := &e.slice.bits
	w.Reset()
	h.write(w)
	w.Trailing()
	e.unit = nal.AppendUnit(e.unit[:0], []byte{byte(h.refIDC<<5 | h.nalType)}, w.Bytes())
	if err := e.s.slice(context.Background(), e.unit, 0); err != nil {
		return err
	}
	w.Reset()
	h.write(w)
	return nil
}

// setReferenceCounts sets the number of references that a slice uses.
func (e *Encoder) setReferenceCounts(h *sliceHeader) {
	h.numRefs = [2]int{1, 1}
	if h.kind == sliceI {
		return
	}
	frames := 0
	for _, f := range e.s.dpb.frames {
		if f.short != 0 && f != e.s.cur {
			frames++
		}
	}
	n := min(frames, e.Settings.References)
	if h.kind == sliceB {
		n = 1
	}
	if h.structure != framepool.WholeFrame {
		n *= 2
		if h.structure == framepool.BottomField && h.kind == sliceP {
			n = min(n+1, 2*frames+1)
		}
	}
	h.numRefs = [2]int{max(n, 1), max(n, 1)}
	if h.kind == sliceB && h.structure == framepool.WholeFrame {
		h.numRefs[0] = max(1, min(frames-1, e.Settings.References))
	}
	h.modifications[0] = h.modifications[0][:0]
	if h.kind == sliceP && h.structure == framepool.WholeFrame && e.Settings.BFrames > 2 {
		e.orderReferences(h)
	}
}

// orderReferences orders the references by distance in time. The standard's default is coding
// order, in which a B picture comes before the picture that is displayed after it.
func (e *Encoder) orderReferences(h *sliceHeader) {
	now := int32(h.pocLSB)
	list := slices.Clone(e.s.dpb.pick(func(f *frame) bool { return f.short == framepool.WholeFrame }))
	slices.SortFunc(list, func(a, b *frame) int { return int(now-a.poc[0]) - int(now-b.poc[0]) })
	last := h.frameNum
	for _, f := range list[:h.numRefs[0]] {
		switch diff := last - f.frameNum; {
		case diff > 0:
			h.modifications[0] = append(h.modifications[0], refOp{0, uint32(diff - 1), 0})
		default:
			h.modifications[0] = append(h.modifications[0], refOp{1, uint32(-diff - 1), 0})
		}
		last = f.frameNum
	}
}

// begin prepares to encode the macroblocks of a slice.
func (c *macroblockEncoder[T]) begin(s *slice) {
	for l := range c.refs {
		c.refs[l] = c.refs[l][:0]
		if s.h.kind == sliceI || l == 1 && s.h.kind == sliceP {
			continue
		}
		for i := range s.lists[l].n {
			c.refs[l] = append(c.refs[l], c.r.source(s.lists[l].refs[i].f, s.lists[l].refs[i].s))
		}
	}
	if s.h.kind == sliceI {
		clear(c.searchCosts)
		clear(c.finalCosts)
	}
	c.noiseFloor = 0
	c.gains.restart()
	c.w.begin(c.d)
	c.setQP(s.h.qp)
}

// verticalReach returns the largest vertical motion vector component.
func verticalReach(s *sps) int {
	i := slices.IndexFunc(levelLimits, func(l levelLimit) bool { return l.idc == s.level })
	most := min(levelLimits[i].vertical, 256) - 4
	if !s.frameMbsOnly {
		most = most/2 - 2
	}
	return most
}
