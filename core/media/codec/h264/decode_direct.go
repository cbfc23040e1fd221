package h264

import (
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// colocated is a block of the colocated picture whose motion direct prediction uses (8.4.1.2.1).
type colocated struct {
	m     *mbMotion
	block int // 4x4 block
	scale int // vertMvScale: 0 one to one, 1 frame to field, 2 field to frame
}

const (
	oneToOne = iota
	frameToField
	fieldToFrame
)

// colocatedBlock finds the block that is colocated with 4x4 block at.
func (d *sliceDecoder) colocatedBlock(at int) colocated {
	x, y := at&3, at>>2
	if d.h.sps.direct8x8 { // the corner of each 8x8 block
		x, y = x>>1*3, y>>1*3
	}
	col := d.lists[1].refs[0]
	mbs := col.f.mbs
	pair, bottom := d.y&^1, d.y&1
	curField := d.field || d.h.structure != framepool.WholeFrame
	colField := col.f.fieldPair
	if d.h.sps.frameMbsOnly {
		return colocated{&mbs[d.addr], 4*y + x, oneToOne}
	}
	if !colField {
		colField = mbs[pair*d.width+d.x].field
	}
	switch {
	case !curField && !colField:
		return colocated{&mbs[d.addr], 4*y + x, oneToOne}
	case !curField:
		row := pair + d.nearerField(col)
		return colocated{&mbs[row*d.width+d.x], (2*bottom+y>>1)*4 + x, fieldToFrame}
	case !colField:
		row := pair + y>>1
		return colocated{&mbs[row*d.width+d.x], (2*y&3)*4 + x, frameToField}
	}
	row := pair + bottom
	if d.h.structure != framepool.WholeFrame && col.f.fieldPair {
		row = pair + int(col.s>>1)
	}
	return colocated{&mbs[row*d.width+d.x], 4*y + x, oneToOne}
}

// nearerField returns the field of r that is nearer in time to the current frame: 0 for the top
// field.
func (d *sliceDecoder) nearerField(r ref) int {
	now := d.pic.pocOf(framepool.WholeFrame)
	top, bottom := r.poc[0]-now, r.poc[1]-now
	if max(top, -top) < max(bottom, -bottom) {
		return 0
	}
	return 1
}

// vector returns the motion vector and the reference of a colocated block: those of list 0 where
// it uses that list, else those of list 1. An intra block has none.
func (c colocated) vector() (id int32, ref int8, v motion.Vector) {
	b8 := c.block>>3<<1 | c.block>>1&1
	if c.m.intra {
		return -1, -1, motion.Vector{}
	}
	for l := range 2 {
		if ref := c.m.ref[l][b8]; ref >= 0 {
			return c.m.id[l][b8], ref, c.m.mv[l][c.block]
		}
	}
	return -1, -1, motion.Vector{}
}

// awaitColocated waits until the colocated picture is decoded as far as the current macroblock.
func (d *sliceDecoder) awaitColocated() {
	col, s, row := d.lists[1].refs[0], framepool.WholeFrame, d.y
	if d.h.structure != framepool.WholeFrame {
		s, row = col.s, d.y>>1
		if !col.f.fieldPair {
			s, row = framepool.WholeFrame, d.y|1
		}
	} else if d.h.mbaff || col.f.fieldPair {
		row |= 1
	}
	col.f.Await(s, int32(16*row+15))
}

// predictDirect infers the motion of the 8x8 blocks in mask (8.4.1.2).
func (d *sliceDecoder) predictDirect(mask int) {
	d.awaitColocated()
	if d.h.spatialDirect {
		d.predictSpatial(mask)
	} else {
		d.predictTemporal(mask)
	}
	d.mb.direct |= uint8(mask)
}

// predictSpatial is spatial direct prediction (8.4.1.2.2).
func (d *sliceDecoder) predictSpatial(mask int) {
	var refs [2]int8
	var vectors [2]motion.Vector
	for l := range 2 {
		refA, refB := d.ref[l][cacheFirst-1], d.ref[l][1]
		refC, _ := d.corner(l, 0, 4)
		refs[l] = minPositive(refA, minPositive(refB, refC))
	}
	if refs[0] < 0 && refs[1] < 0 {
		refs = [2]int8{}
	} else {
		for l := range 2 {
			if refs[l] >= 0 {
				vectors[l] = d.predict(l, 0, 4, refs[l])
			}
		}
	}
	still := !d.lists[1].refs[0].long
	for b8 := range 4 {
		if mask>>b8&1 == 0 {
			continue
		}
		first := b8&1*2 + b8>>1*8
		for l := range 2 {
			d.setRef(l, first, 2, 2, max(refs[l], -1))
		}
		d.setSpatial(first, refs, vectors, still)
	}
}

// setSpatial sets the vectors of an 8x8 block. Where the colocated block does not move, the
// vector of reference index 0 is zero.
func (d *sliceDecoder) setSpatial(first int, refs [2]int8, vectors [2]motion.Vector, still bool) {
	b8 := first>>3<<1 | first>>1&1
	d.sub[b8] = sub4x4
	size := 1
	if d.h.sps.direct8x8 {
		d.sub[b8], size = sub8x8, 2
	}
	for y := 0; y < 2; y += size {
		for x := 0; x < 2; x += size {
			at := first + 4*y + x
			zero := false
			if still && (refs[0] == 0 || refs[1] == 0) {
				_, ref, v := d.colocatedBlock(at).vector()
				zero = ref == 0 && uint16(v.X+1) <= 2 && uint16(v.Y+1) <= 2
			}
			for l := range 2 {
				v := vectors[l]
				if refs[l] < 0 || refs[l] == 0 && zero {
					v = motion.Vector{}
				}
				d.setVector(l, at, size, size, v)
			}
		}
	}
}

// minPositive is MinPositive (8-174).
func minPositive(a, b int8) int8 {
	if a >= 0 && b >= 0 {
		return min(a, b)
	}
	return max(a, b)
}

// predictTemporal is temporal direct prediction (8.4.1.2.3).
func (d *sliceDecoder) predictTemporal(mask int) {
	for b8 := range 4 {
		if mask>>b8&1 == 0 {
			continue
		}
		first := b8&1*2 + b8>>1*8
		d.sub[b8] = sub4x4
		size := 1
		if d.h.sps.direct8x8 {
			d.sub[b8], size = sub8x8, 2
		}
		for y := 0; y < 2; y += size {
			for x := 0; x < 2; x += size {
				d.setTemporal(first, first+4*y+x, size)
			}
		}
	}
}

func (d *sliceDecoder) setTemporal(first, at, size int) {
	col := d.colocatedBlock(at)
	id, ref, v := col.vector()
	index := int8(0)
	if ref >= 0 {
		index = d.mapRef(col, id)
	}
	switch col.scale {
	case frameToField:
		v.Y = half(v.Y)
	case fieldToFrame:
		v.Y *= 2
	}
	d.setRef(0, first, 2, 2, index)
	d.setRef(1, first, 2, 2, 0)
	v0, v1 := v, motion.Vector{}
	if factor, scaled := d.temporalScale(index, 0); scaled {
		v0 = motion.Vector{X: int16((factor*int32(v.X) + 128) >> 8), Y: int16((factor*int32(v.Y) + 128) >> 8)}
		v1 = motion.Vector{X: v0.X - v.X, Y: v0.Y - v.Y}
	}
	d.setVector(0, at, size, size, v0)
	d.setVector(1, at, size, size, v1)
}

// mapRef returns the index in list 0 of the picture that a colocated block refers to: that
// picture itself, or of a frame the field with the current parity, or of a field its frame.
func (d *sliceDecoder) mapRef(col colocated, id int32) int8 {
	switch col.scale {
	case frameToField:
		id = id&^3 | int32(d.parity())
	case fieldToFrame:
		id |= 3
	}
	n := d.lists[0].n
	if d.h.mbaff && d.field {
		n *= 2
	}
	for i := range n {
		if r := d.reference(0, int8(i)); r.f != nil && r.number() == id {
			return int8(i)
		}
	}
	d.pic.f.Damaged.Store(true) // the list lacks the picture: the stream breaks a rule
	return 0
}

// temporalScale returns DistScaleFactor of a pair of references (8.4.1.2.3). Vectors are not
// scaled where a reference is long-term or has no distance in time.
func (d *sliceDecoder) temporalScale(ref0, ref1 int8) (factor int32, scaled bool) {
	a, b := d.reference(0, ref0), d.reference(1, ref1)
	now := d.pic.pocOf(d.parity())
	return distScale(now, a, b)
}

func distScale(now int32, a, b ref) (factor int32, scaled bool) {
	tb := clip3(-128, 127, now-a.orderCount())
	td := clip3(-128, 127, b.orderCount()-a.orderCount())
	if td == 0 || a.long {
		return 0, false
	}
	tx := (16384 + motion.Abs32(td/2)) / td
	return clip3(-1024, 1023, (tb*tx+32)>>6), true
}

func clip3(low, high, v int32) int32 { return max(low, min(v, high)) }
