package h264

import (
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// finisher makes the samples of each macroblock after it was parsed.
type finisher interface{ reconstruct() error }

// decode parses all macroblocks of the slice and hands each to f. An error says why decoding
// stopped early.
func (d *sliceDecoder) decode(f finisher) error {
	d.qp = d.h.qp
	d.lastDQ = false
	if d.h.pps.cabac {
		d.r.Align()
		initContexts(&d.cabac.State, d.h.cabacInit, d.h.qp)
		d.cabac.Start(d.r.Rest())
	}
	w := walk{d: d, addr: d.h.firstMb, end: d.end, last: d.r.TrailingBits(), finisher: f}
	if d.h.mbaff {
		return w.pairs()
	}
	return w.rows()
}

// walk iterates over the macroblocks of a slice.
type walk struct {
	d         *sliceDecoder
	addr, end int // macroblock address as the standard counts
	last      int // the bit after the last macroblock
	finisher  finisher
}

// rows decodes the macroblocks of a frame or a field in raster order.
func (w *walk) rows() error {
	d := w.d
	d.skipRun = -1
	x, y, step := w.addr%d.width, w.addr/d.width, 1
	if d.h.structure != framepool.WholeFrame {
		y, step = 2*y+int(d.h.structure>>1), 2
	}
	for ; w.addr < w.end; w.addr++ {
		d.place(x, y, false)
		skip, err := w.skipped()
		if err == nil {
			err = w.macroblock(skip)
		}
		if err != nil {
			return err
		}
		if w.ended() {
			return nil
		}
		if x++; x == d.width {
			x, y = 0, y+step
		}
	}
	return w.full()
}

// skipped reports whether the current macroblock is skipped.
func (w *walk) skipped() (bool, error) {
	d := w.d
	if d.h.kind == sliceI {
		return false, nil
	}
	if d.h.pps.cabac {
		return d.mbSkipFlag(), nil
	}
	if d.skipRun < 0 {
		d.skipRun = int(min(d.r.UE(), maxMbs))
		if d.r.Overrun() {
			return false, errCut
		}
	}
	d.skipRun--
	return d.skipRun >= 0, nil
}

var errCut = damaged("a slice is truncated")

func (w *walk) macroblock(skip bool) error {
	d := w.d
	var err error
	if skip {
		d.decodeSkip()
	} else {
		err = d.decodeMacroblock()
	}
	if err == nil && (d.h.pps.cabac && d.cabac.Overrun() || !d.h.pps.cabac && d.r.Overrun()) {
		err = errCut
	}
	if err == nil {
		err = w.finisher.reconstruct()
	}
	if err != nil {
		d.mb.slice = 0
		clear(d.coeffs[:]) // the coefficients of the damaged macroblock
		clear(d.dc[:])
	}
	return err
}

// ended reports whether the slice ends after the current macroblock.
func (w *walk) ended() bool {
	d := w.d
	if d.h.pps.cabac {
		return d.cabac.Terminate()
	}
	return d.skipRun <= 0 && d.r.Pos() >= w.last
}

// pairs decodes the macroblock pairs of a frame with macroblock-adaptive frame/field coding.
func (w *walk) pairs() error {
	d := w.d
	d.skipRun = -1
	for w.addr < w.end {
		x, y := w.addr>>1%d.width, w.addr>>1/d.width*2
		field := d.inferField(x, y)
		read := false // mb_field_decoding_flag was read
		var skips [2]bool
		known := false // skips[1] is known
		for bottom := range 2 {
			d.place(x, y+bottom, field)
			if !known {
				var err error
				if skips[bottom], err = w.skipped(); err != nil {
					return err
				}
			}
			known = false
			if bottom == 0 && skips[0] {
				field, known = w.lookAhead(x, y, field, &skips[1], &read)
				d.place(x, y, field)
			}
			if !skips[bottom] && !read {
				field, read = d.mbFieldFlag(x, y), true
				d.place(x, y+bottom, field)
			}
			if err := w.macroblock(skips[bottom]); err != nil {
				return err
			}
			w.addr++
			if bottom == 0 && d.h.pps.cabac {
				continue // end_of_slice_flag follows pairs
			}
			if w.ended() {
				return nil
			}
		}
	}
	return w.full()
}

// full returns an error if a slice that has not ended is where the next one begins, and not at the end of the picture.
func (w *walk) full() error {
	macroblocks := w.d.width * w.d.height
	if w.d.h.structure != framepool.WholeFrame {
		macroblocks /= 2
	}
	if w.end < macroblocks {
		return damaged("a slice goes on where the next one begins")
	}
	return nil
}

// inferField returns whether a pair whose macroblocks are both skipped is a field pair (7.4.4):
// as its neighbouring pair is.
func (d *sliceDecoder) inferField(x, y int) bool {
	if i := d.available(x-1, y); i >= 0 {
		return d.mbs[i].field
	}
	if i := d.available(x, y-2); i >= 0 {
		return d.mbs[i].field
	}
	return false
}

// lookAhead determines the kind of a pair whose top macroblock is skipped. If the bottom one is
// not, its mb_field_decoding_flag applies to both; with CABAC, the bottom one's mb_skip_flag is
// read to find out.
func (w *walk) lookAhead(x, y int, inferred bool, bottomSkip, read *bool) (field, known bool) {
	d := w.d
	if !d.h.pps.cabac {
		if d.skipRun == 0 && d.r.Pos() < w.last {
			return d.r.Peek()>>31 != 0, false
		}
		return inferred, false
	}
	d.mb.skip, d.mb.direct16 = true, true
	d.place(x, y+1, inferred)
	*bottomSkip = d.mbSkipFlag()
	d.mb.slice = 0
	if *bottomSkip {
		return inferred, true
	}
	*read = true
	return d.mbFieldFlag(x, y), true
}

// decodeSkip infers the content of a skipped macroblock.
func (d *sliceDecoder) decodeSkip() {
	d.setInter()
	d.mb.skip, d.mb.direct16 = true, d.h.kind == sliceB
	d.mb.numbers = edgeNumbers{}
	d.clearDifferences()
	d.lastDQ = false
	d.storeQP()
	if d.h.kind == sliceB {
		d.loadMotion(2)
		d.shape = part8x8
		d.predictDirect(15)
		d.keepRefs(2)
		return
	}
	d.shape, d.mb.still = part16x16, true
	d.setWhole(0, 0, d.predictSkip())
	d.setUnused(1)
}

// decodeMacroblock parses a macroblock that is not skipped (7.3.5).
func (d *sliceDecoder) decodeMacroblock() error {
	t, intra := d.mbType()
	var err error
	switch {
	case intra && t == 25:
		return d.readPCM()
	case intra && t > 25:
		return damaged("a macroblock type is out of range")
	case intra:
		err = d.readIntra(t)
	default:
		err = d.readInter(t)
	}
	if err != nil {
		return err
	}
	if d.mb.cbp == 0 && d.mb.kind != kind16x16 {
		d.lastDQ = false
		d.mb.numbers = edgeNumbers{}
		d.storeQP()
		return nil
	}
	delta, err := d.qpDelta()
	if err != nil {
		return err
	}
	d.setQP(delta)
	return d.residual()
}

// readPCM reads the samples of an I_PCM macroblock (7.3.5).
func (d *sliceDecoder) readPCM() error {
	d.setIntra(kindPCM)
	data := d.cabac.Rest
	if !d.h.pps.cabac {
		data = d.r.Rest
	}
	chroma := (d.h.sps.chroma.Planes() - 1) * d.chromaBlocks() * 16
	size := (256*d.h.sps.depth + chroma*d.h.sps.chromaDepth + 7) / 8
	rest := data()
	if len(rest) < size {
		return errCut
	}
	d.pcm = rest[:size]
	if d.h.pps.cabac {
		d.cabac.Start(rest[size:])
	} else {
		d.r.Align()
		d.r.Skip(8 * size)
	}
	d.mb.numbers = filled(16)
	d.mb.cbp, d.mb.dc, d.lastDQ = 0x2F, 7, false
	d.mb.modes = dcModes
	qp := d.qp
	d.qp = 0 // for deblocking alone: the next mb_qp_delta is relative to the QP before this macroblock
	d.storeQP()
	d.qp = qp
	return nil
}

// dcModes are the intra modes that other macroblocks assume for one without any: DC.
var dcModes = [16]int8{2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2}

func (d *sliceDecoder) readIntra(t int) error {
	if t == 0 {
		d.setIntra(kindIntra)
		if d.h.pps.transform8x8 {
			d.mb.transform8 = d.transform8Flag()
		}
		d.readModes()
	} else {
		d.setIntra(kind16x16)
		d.mode16 = (t - 1) & 3
		d.mb.modes = dcModes
	}
	if d.h.sps.chroma.Planes() == 3 {
		mode := d.intraChromaMode()
		if mode > 3 {
			return damaged("intra_chroma_pred_mode is out of range")
		}
		d.mb.chromaMode = uint8(mode)
	}
	if t == 0 {
		cbp, err := d.codedBlockPattern()
		d.mb.cbp = uint8(cbp)
		return err
	}
	d.mb.cbp = uint8((t - 1) >> 2 % 3 << 4)
	if t > 12 {
		d.mb.cbp |= 15
	}
	return nil
}

// readModes reads the prediction modes of Intra_4x4 and Intra_8x8 (8.3.1.1,
// 8.3.2.1).
func (d *sliceDecoder) readModes() {
	d.loadModes()
	step := 1
	if d.mb.transform8 {
		step = 4
	}
	for k := 0; k < 16; k += step {
		at := cacheAt[blockOf[k]]
		predicted := min(d.modes[at-1], d.modes[at-cacheStep])
		if predicted < 0 {
			predicted = 2
		}
		mode := d.intraMode(predicted)
		d.modes[at] = mode
		if step == 4 {
			d.modes[at+1], d.modes[at+cacheStep], d.modes[at+cacheStep+1] = mode, mode, mode
		}
	}
	for i, at := range cacheAt {
		d.mb.modes[i] = d.modes[at]
	}
}

// loadModes fills the border of the mode cache; -1 where there is no macroblock, which makes DC
// the predicted mode.
func (d *sliceDecoder) loadModes() {
	mode := func(mb int32, block int) int8 {
		switch {
		case mb < 0:
			return -1
		case d.mbs[mb].kind == kindIntra:
			return d.mbs[mb].modes[block]
		case d.mbs[mb].kind == kindInter && d.h.pps.constrainedIntra:
			return -1
		}
		return 2
	}
	for i := range 4 {
		d.modes[1+i] = mode(d.n.top, 12+i)
		d.modes[cacheFirst+cacheStep*i-1] = mode(d.n.left[i], 4*int(d.n.leftRow[i])+3)
	}
}

// Bit sets of the lists that a part of a macroblock uses.
const (
	list0 = 1
	list1 = 2
	both  = 3
)

// partsB are the lists of both parts of B macroblock types 4 to 21; two types share an entry,
// one for each shape (table 7-14).
var partsB = [9][2]uint8{{list0, list0}, {list1, list1}, {list0, list1}, {list1, list0},
	{list0, both}, {list1, both}, {both, list0}, {both, list1}, {both, both}}

// subsB are the shape and lists of B sub-macroblock types from 1 on (table 7-18).
var subsB = [12]struct {
	shape subShape
	lists uint8
}{{sub8x8, list0}, {sub8x8, list1}, {sub8x8, both}, {sub8x4, list0}, {sub4x8, list0}, {sub8x4, list1},
	{sub4x8, list1}, {sub8x4, both}, {sub4x8, both}, {sub4x4, list0}, {sub4x4, list1}, {sub4x4, both}}

// readInter parses the prediction of a P or B macroblock (7.3.5.1, 7.3.5.2).
func (d *sliceDecoder) readInter(t int) error {
	d.setInter()
	lists := 1
	if d.h.kind == sliceB {
		lists = 2
		if t == 0 {
			return d.readDirect()
		}
	}
	d.loadDifferences(lists)
	var err error
	small := false // the 8x8 transform is not allowed
	switch {
	case d.h.kind == sliceP && t == 0:
		err = d.readWhole(lists, list0)
	case d.h.kind == sliceB && t <= 3:
		err = d.readWhole(lists, uint8(t))
	case d.h.kind == sliceP && t >= 3, d.h.kind == sliceB && t == 22:
		small, err = d.read8x8(lists, t == 4)
	case d.h.kind == sliceP:
		err = d.readParts(partShape(t), lists, [2]uint8{list0, list0})
	default:
		err = d.readParts(part16x8+partShape(t&1), lists, partsB[(t-4)>>1])
	}
	if err != nil {
		return err
	}
	return d.readInterPattern(!small)
}

func (d *sliceDecoder) readDirect() error {
	d.mb.direct16 = true
	d.loadMotion(2)
	d.shape = part8x8
	d.predictDirect(15)
	d.keepRefs(2)
	d.clearDifferences()
	return d.readInterPattern(d.h.sps.direct8x8)
}

// readInterPattern parses what comes between prediction and residual: the coded block pattern
// and the transform size.
func (d *sliceDecoder) readInterPattern(large bool) error {
	cbp, err := d.codedBlockPattern()
	d.mb.cbp = uint8(cbp)
	if err == nil && cbp&15 != 0 && large && d.h.pps.transform8x8 {
		d.mb.transform8 = d.transform8Flag()
	}
	return err
}

// readWhole parses the motion of a macroblock that is one part.
func (d *sliceDecoder) readWhole(lists int, uses uint8) error {
	d.shape, d.mb.still = part16x16, true
	refs := [2]int8{-1, -1}
	for l := range lists {
		if uses>>l&1 != 0 {
			var err error
			if refs[l], err = d.readRef(l, 0); err != nil {
				return err
			}
		}
	}
	if lists == 1 {
		d.setUnused(1)
	}
	for l := range lists {
		x, y := 0, 0
		if ref := refs[l]; ref < 0 {
			d.setWhole(l, -1, motion.Vector{})
		} else {
			x, y = d.readDifference(l, cacheFirst)
			v := d.predictWhole(l, ref)
			d.setWhole(l, ref, motion.Vector{X: v.X + int16(x), Y: v.Y + int16(y)})
		}
		if d.h.pps.cabac {
			d.setWholeDifference(l, difference(x, y))
		}
	}
	return nil
}

// parts are the first 4x4 block, width and height of each part, by shape from part16x8 on.
var parts = [2][2][3]int{{{0, 4, 2}, {8, 4, 2}}, {{0, 2, 4}, {2, 2, 4}}}

// readParts parses the motion of a macroblock of two parts.
func (d *sliceDecoder) readParts(shape partShape, lists int, uses [2]uint8) error {
	d.shape = shape
	d.loadMotion(lists)
	for l := range lists {
		for i, p := range parts[shape-part16x8] {
			ref := int8(-1)
			if uses[i]>>l&1 != 0 {
				var err error
				if ref, err = d.readRef(l, p[0]); err != nil {
					return err
				}
			}
			d.setRef(l, p[0], p[1], p[2], ref)
			d.setRefCtx(l, p[0], p[1], p[2], max(ref, 0))
		}
	}
	for l := range lists {
		for i, p := range parts[shape-part16x8] {
			if uses[i]>>l&1 == 0 {
				d.setVector(l, p[0], p[1], p[2], motion.Vector{})
				d.setDifference(l, p[0], p[1], p[2], [2]uint8{})
				continue
			}
			// Parts that are not decoded yet must not serve as neighbours.
			ref := d.ref[l][cacheAt[p[0]]]
			d.readVector(l, p[0], p[1], p[2], d.predictPart(shape, l, i, ref))
		}
	}
	d.keepRefs(lists)
	return nil
}

// readRef parses a reference index and checks that the list has such a picture.
func (d *sliceDecoder) readRef(l, block int) (int8, error) {
	n := d.lists[l].n
	if d.h.mbaff && d.field {
		n *= 2
	}
	ref := 0
	if n > 1 {
		ref = d.refIdx(l, cacheAt[block], n-1)
	}
	if ref >= n {
		return 0, damaged("a reference index is out of range")
	}
	return int8(ref), nil
}

func (d *sliceDecoder) setRefCtx(l, block, w, h int, ref int8) {
	for y := range h {
		row := d.refCtx[l][cacheAt[block]+cacheStep*y:][:w]
		for x := range row {
			row[x] = ref
		}
	}
}

// read8x8 parses a macroblock of four sub-macroblocks; small reports that one of them is split
// further than 8x8.
func (d *sliceDecoder) read8x8(lists int, refZero bool) (small bool, err error) {
	d.shape = part8x8
	d.loadMotion(lists)
	var uses [4]uint8
	direct := 0
	for b8 := range 4 {
		t := d.subMbType()
		switch {
		case d.h.kind == sliceP && t < 4:
			d.sub[b8], uses[b8] = subShape(t), list0
		case d.h.kind == sliceB && t == 0:
			direct |= 1 << b8
		case d.h.kind == sliceB && t <= len(subsB):
			d.sub[b8], uses[b8] = subsB[t-1].shape, subsB[t-1].lists
		default:
			return false, damaged("a sub-macroblock type is out of range")
		}
		small = small || uses[b8] != 0 && d.sub[b8] != sub8x8
	}
	if direct != 0 {
		d.predictDirect(direct)
		small = small || !d.h.sps.direct8x8
	}
	for l := range lists {
		for b8 := range 4 {
			first := b8&1*2 + b8>>1*8
			ref := int8(-1)
			switch {
			case direct>>b8&1 != 0:
				d.setRefCtx(l, first, 2, 2, 0)
				d.setDifference(l, first, 2, 2, [2]uint8{})
				continue
			case uses[b8]>>l&1 != 0 && !refZero:
				if ref, err = d.readRef(l, first); err != nil {
					return small, err
				}
			case uses[b8]>>l&1 != 0:
				ref = 0
			}
			d.setRef(l, first, 2, 2, ref)
			d.setRefCtx(l, first, 2, 2, max(ref, 0))
		}
	}
	for l := range lists {
		for b8 := range 4 {
			if direct>>b8&1 == 0 {
				d.readSub(l, b8, uses[b8]>>l&1 != 0)
			}
		}
	}
	d.keepRefs(lists)
	return small, nil
}

// subSizes are the width and height of a sub-macroblock's parts.
var subSizes = [4][2]int{{2, 2}, {2, 1}, {1, 2}, {1, 1}}

// readSub parses the vectors of a sub-macroblock.
func (d *sliceDecoder) readSub(l, b8 int, used bool) {
	first := b8&1*2 + b8>>1*8
	if !used {
		d.setVector(l, first, 2, 2, motion.Vector{})
		d.setDifference(l, first, 2, 2, [2]uint8{})
		return
	}
	w, h := subSizes[d.sub[b8]][0], subSizes[d.sub[b8]][1]
	ref := d.ref[l][cacheAt[first]]
	for y := 0; y < 2; y += h {
		for x := 0; x < 2; x += w {
			at := first + 4*y + x
			d.readVector(l, at, w, h, d.predict(l, at, w, ref))
		}
	}
}
