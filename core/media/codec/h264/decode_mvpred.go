package h264

import (
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// notAvailable is the reference index of blocks that are not available; -1 is that of blocks
// that do not use the list.
const notAvailable = -2

// loadMotion fills the borders of the caches with the motion around the macroblock. Vectors and
// indices of field and frame macroblocks are converted into the current one's units (8.4.1.3.1).
func (d *sliceDecoder) loadMotion(lists int) {
	for l := range lists {
		d.ref[l] = noRefs
		d.loadTop(l)
		d.loadLeft(l)
		d.loadBlock(l, 0, d.n.topLeft, 4*int(d.n.corner)+3)
		d.loadBlock(l, 5, d.n.topRight, 12)
	}
}

func (d *sliceDecoder) loadTop(l int) {
	if d.n.top < 0 || d.h.mbaff {
		for i := range 4 {
			d.loadBlock(l, 1+i, d.n.top, 12+i)
		}
		return
	}
	m := &d.motion[d.n.top]
	r2, r3 := m.ref[l][2], m.ref[l][3]
	*(*[4]int8)(d.ref[l][1:5]) = [4]int8{r2, r2, r3, r3}
	v := *(*[4]motion.Vector)(m.mv[l][12:16])
	if r2 < 0 {
		v[0], v[1] = motion.Vector{}, motion.Vector{}
	}
	if r3 < 0 {
		v[2], v[3] = motion.Vector{}, motion.Vector{}
	}
	*(*[4]motion.Vector)(d.vec[l][1:5]) = v
}

func (d *sliceDecoder) loadLeft(l int) {
	if d.n.left[0] < 0 || d.h.mbaff {
		for i := range 4 {
			d.loadBlock(l, cacheFirst+cacheStep*i-1, d.n.left[i], 4*int(d.n.leftRow[i])+3)
		}
		return
	}
	m := &d.motion[d.n.left[0]]
	refs, vec := &d.ref[l], &d.vec[l]
	for i := range 4 {
		ref, v := m.ref[l][i|1], m.mv[l][4*i+3]
		if ref < 0 {
			v = motion.Vector{}
		}
		refs[cacheFirst+cacheStep*i-1], vec[cacheFirst+cacheStep*i-1] = ref, v
	}
}

// noRefs is a reference cache in which no block is available.
var noRefs = func() (refs [cacheSize]int8) {
	for i := range refs {
		refs[i] = notAvailable
	}
	return refs
}()

func (d *sliceDecoder) loadBlock(l, at int, mb int32, block int) {
	d.ref[l][at], d.vec[l][at] = d.motionOf(l, mb, block)
}

// motionOf returns the motion of a block of macroblock mb, or that it is not available.
func (d *sliceDecoder) motionOf(l int, mb int32, block int) (int8, motion.Vector) {
	if mb < 0 {
		return notAvailable, motion.Vector{}
	}
	return d.converted(&d.motion[mb], l, block)
}

// converted returns the motion of a block of macroblock m in units of the current macroblock.
func (d *sliceDecoder) converted(m *mbMotion, l, block int) (int8, motion.Vector) {
	ref, v := m.ref[l][block>>3<<1|block>>1&1], m.mv[l][block]
	if ref < 0 {
		return ref, motion.Vector{}
	}
	if d.h.mbaff && m.field != d.field {
		if d.field {
			ref <<= 1
			v.Y = half(v.Y)
		} else {
			ref >>= 1
			v.Y *= 2
		}
	}
	return ref, v
}

// half divides by 2 towards zero.
func half(v int16) int16 { return v / 2 }

// loadDifferences fills the borders of the caches from which the contexts of ref_idx and mvd are
// derived.
func (d *sliceDecoder) loadDifferences(lists int) {
	if !d.h.pps.cabac {
		return
	}
	for l := range lists {
		if d.n.top >= 0 && d.n.left[0] >= 0 && !d.h.mbaff && d.lists[l].n == 1 { // no context depends on indices
			*(*[4][2]uint8)(d.mvd[l][1:]) = *(*[4][2]uint8)(d.mbs[d.n.top].mvd[l][12:])
			left := &d.mbs[d.n.left[0]].mvd[l]
			for i := range 4 {
				d.mvd[l][cacheFirst+cacheStep*i-1] = left[4*i+3]
			}
			continue
		}
		for i := range 4 {
			d.loadDifference(l, 1+i, d.n.top, 12+i)
			d.loadDifference(l, cacheFirst+cacheStep*i-1, d.n.left[i], 4*int(d.n.leftRow[i])+3)
		}
	}
}

func (d *sliceDecoder) loadDifference(l, at int, mb int32, block int) {
	if mb < 0 {
		d.refCtx[l][at], d.mvd[l][at] = 0, [2]uint8{}
		return
	}
	info, b8 := &d.mbs[mb], block>>3<<1|block>>1&1
	ref, diff := d.motion[mb].ref[l][b8], info.mvd[l][block]
	if info.direct>>b8&1 != 0 {
		ref = 0
	}
	if info.field != d.field && d.h.mbaff {
		if d.field {
			diff[1] >>= 1
		} else {
			diff[1] = min(diff[1], 127) * 2
			ref >>= 1
		}
	}
	d.refCtx[l][at], d.mvd[l][at] = max(ref, 0), diff
}

// cornerInside marks, by block and width, where the upper right neighbour of a partition inside
// the macroblock is available: where it comes first in coding order.
var cornerInside = func() (inside [16][5]bool) {
	for block := range inside {
		for w := 1; w <= 4; w++ {
			x, y := block&3+w, block>>2-1
			inside[block][w] = y >= 0 && x < 4 && codingOrder[y*4+x] < codingOrder[block]
		}
	}
	return inside
}()

// corner returns the motion of neighbour C of a partition that begins at block and is w blocks
// wide, or of neighbour D where C is not available (8.4.1.3.2).
func (d *sliceDecoder) corner(l, block, w int) (int8, motion.Vector) {
	at := cacheAt[block]
	if c := at - cacheStep + w; block < 4 || cornerInside[block][w] {
		if d.ref[l][c] != notAvailable {
			return d.ref[l][c], d.vec[l][c]
		}
	}
	if d.h.mbaff && block&3 == 0 && block > 0 && d.n.left[0] >= 0 && d.mbs[d.n.left[0]].field != d.field {
		return d.leftCorner(l, block>>2)
	}
	c := at - cacheStep - 1
	return d.ref[l][c], d.vec[l][c]
}

// leftCorner returns the motion of neighbour D of a block in the left column and in row y > 0,
// where the pair to the left is of the other kind, field or frame (table 6-4).
func (d *sliceDecoder) leftCorner(l, y int) (int8, motion.Vector) {
	top := d.available(d.x-1, d.y&^1)
	line, bottom := 4*y-1, d.y&1
	var mb, row int
	if d.field {
		line = line<<1 + bottom
		mb, row = line>>4, line&15
	} else {
		line += 16 * bottom
		mb, row = line&1, line>>1
	}
	m := &d.motion[int(top)+mb*d.width]
	return d.converted(m, l, row>>2<<2+3)
}

// predict returns the motion vector prediction of a partition that begins at block and is w
// blocks wide (8.4.1.3).
func (d *sliceDecoder) predict(l, block, w int, ref int8) motion.Vector {
	at := cacheAt[block]
	refA, a := d.ref[l][at-1], d.vec[l][at-1]
	refB, b := d.ref[l][at-cacheStep], d.vec[l][at-cacheStep]
	refC, c := d.corner(l, block, w)
	return median(ref, refA, refB, refC, a, b, c)
}

// predictWhole is predict for the whole macroblock, which needs no caches.
func (d *sliceDecoder) predictWhole(l int, ref int8) motion.Vector {
	refA, a := d.motionOf(l, d.n.left[0], 4*int(d.n.leftRow[0])+3)
	refB, b := d.motionOf(l, d.n.top, 12)
	refC, c := d.wholeCorner(l)
	return median(ref, refA, refB, refC, a, b, c)
}

// wholeCorner is corner for the whole macroblock.
func (d *sliceDecoder) wholeCorner(l int) (int8, motion.Vector) {
	if d.n.topRight >= 0 {
		return d.motionOf(l, d.n.topRight, 12)
	}
	return d.motionOf(l, d.n.topLeft, 4*int(d.n.corner)+3)
}

// median is median motion vector prediction (8.4.1.3.1).
func median(ref, refA, refB, refC int8, a, b, c motion.Vector) motion.Vector {
	if refB == notAvailable && refC == notAvailable && refA != notAvailable {
		return a
	}
	switch isA, isB, isC := refA == ref, refB == ref, refC == ref; {
	case isA && !isB && !isC:
		return a
	case isB && !isA && !isC:
		return b
	case isC && !isA && !isB:
		return c
	}
	if refA < 0 {
		a = motion.Vector{}
	}
	if refB < 0 {
		b = motion.Vector{}
	}
	if refC < 0 {
		c = motion.Vector{}
	}
	return motion.Vector{X: middle(a.X, b.X, c.X), Y: middle(a.Y, b.Y, c.Y)}
}

func middle(a, b, c int16) int16 {
	return max(min(a, b), min(max(a, b), c))
}

// predictPart is predict for a part of a macroblock of two.
func (d *sliceDecoder) predictPart(shape partShape, l, part int, ref int8) motion.Vector {
	if shape == part16x8 {
		return d.predict16x8(l, part, ref)
	}
	return d.predict8x16(l, part, ref)
}

// predict16x8 and predict8x16 prefer one neighbour over the median, depending on the part
// (8.4.1.3).
func (d *sliceDecoder) predict16x8(l, part int, ref int8) motion.Vector {
	at := cacheAt[8*part] - cacheStep
	if part == 1 {
		at = cacheAt[8] - 1
	}
	if d.ref[l][at] == ref {
		return d.vec[l][at]
	}
	return d.predict(l, 8*part, 4, ref)
}

func (d *sliceDecoder) predict8x16(l, part int, ref int8) motion.Vector {
	if part == 0 {
		if at := cacheAt[0] - 1; d.ref[l][at] == ref {
			return d.vec[l][at]
		}
	} else if refC, c := d.corner(l, 2, 2); refC == ref {
		return c
	}
	return d.predict(l, 2*part, 2, ref)
}

// predictSkip returns the motion vector of a P_Skip macroblock (8.4.1.1).
func (d *sliceDecoder) predictSkip() motion.Vector {
	refA, a := d.motionOf(0, d.n.left[0], 4*int(d.n.leftRow[0])+3)
	refB, b := d.motionOf(0, d.n.top, 12)
	if refA == notAvailable || refB == notAvailable || refA == 0 && a == (motion.Vector{}) || refB == 0 && b == (motion.Vector{}) {
		return motion.Vector{}
	}
	refC, c := d.wholeCorner(0)
	return median(0, refA, refB, refC, a, b, c)
}

// setRef stores the reference index of w x h blocks from block on.
func (d *sliceDecoder) setRef(l, block, w, h int, ref int8) {
	if w == 4 {
		for y := range h {
			*(*[4]int8)(d.ref[l][cacheAt[block]+cacheStep*y:]) = [4]int8{ref, ref, ref, ref}
		}
		return
	}
	for y := range h {
		row := d.ref[l][cacheAt[block]+cacheStep*y:][:w]
		for x := range row {
			row[x] = ref
		}
	}
}

// setVector stores the motion vector of w x h blocks.
func (d *sliceDecoder) setVector(l, block, w, h int, v motion.Vector) {
	if w == 4 {
		four := [4]motion.Vector{v, v, v, v}
		for y := range h {
			*(*[4]motion.Vector)(d.vec[l][cacheAt[block]+cacheStep*y:]) = four
			*(*[4]motion.Vector)(d.mv.mv[l][block+4*y:]) = four
		}
		return
	}
	for y := range h {
		row := d.vec[l][cacheAt[block]+cacheStep*y:][:w]
		out := d.mv.mv[l][block+4*y:][:w]
		for x := range row {
			row[x], out[x] = v, v
		}
	}
}

// setDifference stores the absolute motion vector difference of w x h blocks.
func (d *sliceDecoder) setDifference(l, block, w, h int, diff [2]uint8) {
	if w == 4 {
		four := [4][2]uint8{diff, diff, diff, diff}
		for y := range h {
			*(*[4][2]uint8)(d.mvd[l][cacheAt[block]+cacheStep*y:]) = four
			*(*[4][2]uint8)(d.mb.mvd[l][block+4*y:]) = four
		}
		return
	}
	for y := range h {
		row := d.mvd[l][cacheAt[block]+cacheStep*y:][:w]
		out := d.mb.mvd[l][block+4*y:][:w]
		for x := range row {
			row[x], out[x] = diff, diff
		}
	}
}

// setWhole stores the motion of the whole macroblock in the picture alone: no later part needs it in the caches.
func (d *sliceDecoder) setWhole(l int, ref int8, v motion.Vector) {
	m, four := d.mv, [4]motion.Vector{v, v, v, v}
	id := d.refID(l, ref)
	refs, ids := &m.ref[l], &m.id[l]
	refs[0], refs[1], refs[2], refs[3] = ref, ref, ref, ref
	ids[0], ids[1], ids[2], ids[3] = id, id, id, id
	mv := &m.mv[l]
	*(*[4]motion.Vector)(mv[:]), *(*[4]motion.Vector)(mv[4:]) = four, four
	*(*[4]motion.Vector)(mv[8:]), *(*[4]motion.Vector)(mv[12:]) = four, four
}

// setUnused marks a list as one that the whole macroblock does not use.
func (d *sliceDecoder) setUnused(l int) {
	d.mv.ref[l], d.mv.id[l] = [4]int8{-1, -1, -1, -1}, [4]int32{-1, -1, -1, -1}
}

// setWholeDifference stores the absolute motion vector difference of the whole macroblock, not in the caches.
func (d *sliceDecoder) setWholeDifference(l int, diff [2]uint8) {
	mvd := &d.mb.mvd[l]
	for i := range mvd {
		mvd[i] = diff
	}
}

// readVector reads the motion vector difference of w x h blocks, adds the prediction, and stores
// the vector and the difference.
func (d *sliceDecoder) readVector(l, block, w, h int, pred motion.Vector) {
	x, y := d.readDifference(l, cacheAt[block])
	d.setVector(l, block, w, h, motion.Vector{X: pred.X + int16(x), Y: pred.Y + int16(y)})
	if d.h.pps.cabac {
		d.setDifference(l, block, w, h, difference(x, y))
	}
}

// readDifference reads the motion vector difference of a part that begins at place at of the caches.
func (d *sliceDecoder) readDifference(l, at int) (x, y int) {
	a, b := d.mvd[l][at-1], d.mvd[l][at-cacheStep]
	x = d.mvdComponent(40, int(a[0])+int(b[0]))
	return x, d.mvdComponent(47, int(a[1])+int(b[1]))
}

// difference is what contexts need to know of a motion vector difference.
func difference(x, y int) [2]uint8 {
	return [2]uint8{uint8(min(max(x, -x), 255)), uint8(min(max(y, -y), 255))}
}

// keepRefs copies the reference indices into the picture's motion, with the pictures to which
// they refer.
func (d *sliceDecoder) keepRefs(lists int) {
	for l := range lists {
		last, id := int8(-1), int32(-1)
		for b8 := range 4 {
			ref := d.ref[l][cacheAt[b8&1*2+b8>>1*8]]
			if ref != last {
				last, id = ref, d.refID(l, ref)
			}
			d.mv.ref[l][b8], d.mv.id[l][b8] = ref, id
		}
	}
	if lists == 1 {
		d.setUnused(1)
	}
}

func (d *sliceDecoder) refID(l int, ref int8) int32 {
	if ref < 0 {
		return -1
	}
	if !d.h.mbaff {
		return d.lists[l].refs[ref].number()
	}
	return d.reference(l, ref).number()
}

// reference returns the picture to which a reference index of the current macroblock refers
// (8.4.2.1).
func (d *sliceDecoder) reference(l int, index int8) ref {
	r := d.lists[l].refs[index>>uint(oneIf(d.h.mbaff && d.field))]
	_, r.s = d.referred(l, index)
	return r
}

// referred returns the frame of reference, and which of its fields. In a field macroblock of a frame, the indices count
// the fields of each frame in turn.
func (d *sliceDecoder) referred(l int, index int8) (*frame, framepool.Fields) {
	if !d.h.mbaff || !d.field {
		r := &d.lists[l].refs[index]
		return r.f, r.s
	}
	s := d.parity()
	if index&1 != 0 {
		s = s.Opposite()
	}
	return d.lists[l].refs[index>>1].f, s
}

// parity returns the field to which the current macroblock belongs, or that it belongs to a
// frame.
func (d *sliceDecoder) parity() framepool.Fields {
	if !d.h.mbaff || !d.field {
		return d.h.structure
	}
	return framepool.TopField << (d.y & 1)
}
