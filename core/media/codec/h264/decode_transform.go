package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// flatten returns the residual of a block that has only DC coefficient v (8.5.12.2).
func flatten(v int32) int16 { return int16(max(-math.MaxInt16, min((v+32)>>6, math.MaxInt16))) }

// flattenBlocks takes the coefficients of those blocks of a plane that have only DC ones, whose raster indices are in
// places, and stores the residuals of all its blocks.
func (d *sliceDecoder) flattenBlocks(plane int, blocks uint64, coeffs []int32, places *[16]int) {
	flat := &d.flat[plane]
	*flat = [16]int16{}
	for ; blocks != 0; blocks &= blocks - 1 {
		k := mathbits.TrailingZeros64(blocks) & 15
		c := &coeffs[16*k]
		flat[places[k]&15] = flatten(*c)
		*c = 0
	}
}

// lumaDC transforms the DC levels of an Intra_16x16 macroblock, which are in dc in raster order of the blocks,
// and stores each as its block's first coefficient (8.5.10), or as its residual if alone: no block has others.
func (d *sliceDecoder) lumaDC(scale int32, alone bool) {
	c := (*[16]int32)(d.dc[:])
	if alone {
		d.flats |= 1
		flatLumaDC(c, scale, &d.flat[0])
		return
	}
	d.coded |= spreadLumaDC(c, scale, (*[256]int32)(d.coeffs[:]))
}

// hadamard transforms DC levels both ways.
func hadamard(c *[16]int32) {
	for i := 0; i < 16; i += 4 {
		motion.Hadamard(&c[i], &c[i+1], &c[i+2], &c[i+3])
	}
	for i := range 4 {
		motion.Hadamard(&c[i], &c[4+i], &c[8+i], &c[12+i])
	}
}

// spreadLumaDCGo transforms the DC levels of a macroblock to the first coefficients of its blocks, clears them, and
// returns the set of blocks where they are not 0.
func spreadLumaDCGo(c *[16]int32, scale int32, coeffs *[256]int32) (coded uint64) {
	hadamard(c)
	for i, v := range c {
		k := codingOrder[i] & 15
		v = (v*scale + 32) >> 6
		coeffs[16*k] = v
		coded |= uint64(oneIf(v != 0)) << k
	}
	*c = [16]int32{}
	return coded
}

// flatLumaDCGo transforms the DC levels of a macroblock to the residuals of its blocks, and clears them.
func flatLumaDCGo(c *[16]int32, scale int32, flat *[16]int16) {
	hadamard(c)
	for i, v := range c {
		flat[i] = flatten((v*scale + 32) >> 6)
	}
	*c = [16]int32{}
}

// chromaDC420 transforms and scales the DC levels of a 4:2:0 chroma plane (8.5.11.1, 8.5.11.2), clears them, and
// stores them as its blocks' first coefficients, or as their residuals if alone: no block has others.
func (d *sliceDecoder) chromaDC420(plane int, scale int32, alone bool) {
	c := (*[4]int32)(d.dc[16*plane:])
	p, q, r, s := c[0]+c[1], c[0]-c[1], c[2]+c[3], c[2]-c[3]
	p, q, r, s = (p+r)*scale>>5, (q+s)*scale>>5, (p-r)*scale>>5, (q-s)*scale>>5
	*c = [4]int32{}
	if alone {
		d.flats |= 2 << plane
		flat := &d.flat[1+plane]
		flat[0], flat[1], flat[2], flat[3] = flatten(p), flatten(q), flatten(r), flatten(s)
		return
	}
	coeffs := (*[64]int32)(d.coeffs[16*chromaBlock(plane):])
	coeffs[0], coeffs[16], coeffs[32], coeffs[48] = p, q, r, s
	d.coded |= uint64(oneIf(p != 0)|oneIf(q != 0)<<1|oneIf(r != 0)<<2|oneIf(s != 0)<<3) << chromaBlock(plane)
}

// chromaDC422 is chromaDC420 for 4:2:2; its scale is that of QP'c + 3.
func (d *sliceDecoder) chromaDC422(plane int, scale int32, alone bool) {
	c := (*[8]int32)(d.dc[16*plane:])
	motion.Hadamard(&c[0], &c[2], &c[4], &c[6])
	motion.Hadamard(&c[1], &c[3], &c[5], &c[7])
	coeffs, flat := (*[128]int32)(d.coeffs[16*chromaBlock(plane):]), (*[8]int16)(d.flat[1+plane][:])
	for k := range c {
		sum, other := c[k&6], c[k|1]
		if k&1 != 0 {
			other = -other
		}
		v := ((sum+other)*scale + 32) >> 6
		if alone {
			flat[k] = flatten(v)
		} else {
			coeffs[16*k] = v
			d.coded |= uint64(oneIf(v != 0)) << (chromaBlock(plane) + k)
		}
	}
	if alone {
		d.flats |= 2 << plane
	}
	*c = [8]int32{}
}

// clip limits v to the range of samples.
func clip[T motion.Sample](v, most int32) T {
	if uint32(v) > uint32(most) {
		if v < 0 {
			return 0
		}
		return T(most)
	}
	return T(v)
}

// addDC adds the residual of a block that has only a DC coefficient, and clears the coefficient.
func addDC[T motion.Sample](dst []T, stride, size int, c *int32, most int32) {
	v := (*c + 32) >> 6
	*c = 0
	for y := range size {
		row := dst[y*stride:][:size]
		for x := range row {
			row[x] = clip[T](int32(row[x])+v, most)
		}
	}
}

// addDCs adds one value to each 4x4 block of w x h samples.
func addDCs[T motion.Sample](dst []T, stride, w, h int, dcs *[16]int16, most int32) {
	for y := range h {
		row := dst[y*stride:][:w]
		for x := range row {
			row[x] = clip[T](int32(row[x])+int32(dcs[y>>2*(w>>2)+x>>2]), most)
		}
	}
}

// add4 inverse transforms a 4x4 block (8.5.12.2), adds it to dst and clears it.
func add4[T motion.Sample](dst []T, stride int, c *[16]int32, most int32) {
	for i := 0; i < 16; i += 4 {
		e, f := c[i]+c[i+2], c[i]-c[i+2]
		g, h := c[i+1]>>1-c[i+3], c[i+1]+c[i+3]>>1
		c[i], c[i+1], c[i+2], c[i+3] = e+h, f+g, f-g, e-h
	}
	d0, d1, d2, d3 := dst[:4], dst[stride:][:4], dst[2*stride:][:4], dst[3*stride:][:4]
	for i := range 4 {
		e, f := c[i]+c[8+i]+32, c[i]-c[8+i]+32
		g, h := c[4+i]>>1-c[12+i], c[4+i]+c[12+i]>>1
		d0[i] = clip[T](int32(d0[i])+(e+h)>>6, most)
		d1[i] = clip[T](int32(d1[i])+(f+g)>>6, most)
		d2[i] = clip[T](int32(d2[i])+(f-g)>>6, most)
		d3[i] = clip[T](int32(d3[i])+(e-h)>>6, most)
	}
	*c = [16]int32{}
}

// addBlocks makes an addBlocks kernel of add4.
func addBlocks[T motion.Sample](add4 func(dst []T, stride int, c *[16]int32, most int32)) func(dst []T, stride, w, h int, c []int32, set uint64, most int32) {
	return func(dst []T, stride, w, _ int, c []int32, set uint64, most int32) {
		places := placesOf(w)
		for ; set != 0; set &= set - 1 {
			k := mathbits.TrailingZeros64(set) & 15
			place := int(places[k])
			add4(dst[4*(place>>2*stride+place&3):], stride, (*[16]int32)(c[16*k:]), most)
		}
	}
}

// placesOf returns the places of the 4x4 blocks of w = 16 or 8 samples a row: the row of blocks times four, and the
// place in it.
func placesOf(w int) *[16]uint8 {
	if w == 16 {
		return &lumaPlaces
	}
	return &chromaPlaces
}

var (
	lumaPlaces = func() (list [16]uint8) {
		for k, block := range blockOf {
			list[k] = uint8(block)
		}
		return list
	}()
	chromaPlaces = [16]uint8{0, 1, 4, 5, 8, 9, 12, 13}
)

// transform8 is the one-dimensional inverse transform of 8 coefficients that are step apart
// (8.5.13.2).
func transform8(c *[64]int32, at, step int) {
	c0, c1, c2, c3 := c[at&63], c[(at+step)&63], c[(at+2*step)&63], c[(at+3*step)&63]
	c4, c5, c6, c7 := c[(at+4*step)&63], c[(at+5*step)&63], c[(at+6*step)&63], c[(at+7*step)&63]
	a0, a2 := c0+c4, c0-c4
	a4, a6 := c2>>1-c6, c2+c6>>1
	b0, b2, b4, b6 := a0+a6, a2+a4, a2-a4, a0-a6
	a1 := -c3 + c5 - c7 - c7>>1
	a3 := c1 + c7 - c3 - c3>>1
	a5 := -c1 + c7 + c5 + c5>>1
	a7 := c3 + c5 + c1 + c1>>1
	b1, b7 := a1+a7>>2, a7-a1>>2
	b3, b5 := a3+a5>>2, a3>>2-a5
	c[at&63], c[(at+7*step)&63] = b0+b7, b0-b7
	c[(at+step)&63], c[(at+6*step)&63] = b2+b5, b2-b5
	c[(at+2*step)&63], c[(at+5*step)&63] = b4+b3, b4-b3
	c[(at+3*step)&63], c[(at+4*step)&63] = b6+b1, b6-b1
}

// add8 inverse transforms an 8x8 block, adds it to dst and clears it.
func add8[T motion.Sample](dst []T, stride int, c *[64]int32, most int32) {
	for i := range 8 {
		transform8(c, 8*i, 1)
	}
	for i := range 8 {
		transform8(c, i, 8)
	}
	for y := range 8 {
		row, res := dst[y*stride:][:8], (*[8]int32)(c[8*y:])
		for x := range row {
			row[x] = clip[T](int32(row[x])+(res[x]+32)>>6, most)
		}
	}
	*c = [64]int32{}
}
