package h264

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// usable reports whether intra prediction may use the samples of macroblock mb (8.3.1.2, 8.3.3,
// 8.3.4).
func (d *sliceDecoder) usable(mb int32) bool {
	return mb >= 0 && (!d.h.pps.constrainedIntra || d.mbs[mb].intra())
}

// intraNeighbours returns the samples around the macroblock that intra prediction may use.
func (d *sliceDecoder) intraNeighbours() intraNeighbours {
	return intraNeighbours{left: d.usableLeft(), top: d.usable(d.n.top), topLeft: d.usable(d.n.topLeft), topRight: d.usable(d.n.topRight)}
}

// usableLeft returns the rows of 4x4 blocks to whose left are samples that intra prediction may use.
func (d *sliceDecoder) usableLeft() (rows uint8) {
	if !d.h.mbaff {
		return allRows * uint8(oneIf(d.usable(d.n.left[0])))
	}
	if !d.field && d.n.left[0] >= 0 && d.mbs[d.n.left[0]].field {
		// The lines to the left of a row are from both macroblocks of that pair in turn.
		top := d.available(d.x-1, d.y&^1)
		return allRows * uint8(oneIf(d.usable(top) && d.usable(top+int32(d.width))))
	}
	for i, mb := range d.n.left {
		rows |= uint8(oneIf(d.usable(mb))) << i
	}
	return rows
}

// Directional intra prediction modes as tables: which smoothed border sample each predicted
// sample takes. The border of an NxN block runs from its lower left sample, taken twice, up to
// the corner at index N+1, and on to the last upper right sample at 3N+1, taken twice. Entry p
// is the average of border samples p and p+1; entry 32+p is the weighted average around p.
var (
	directions4 = newDirections(4)
	directions8 = newDirections(8)
)

const weighted = 32

// border holds the samples around a block, and averages the values that directional modes take
// from them. Both have room for what kernels read and write at once.
type (
	border[T motion.Sample]   [40]T
	averages[T motion.Sample] [weighted + 40]T
)

// newDirections derives the tables of directional modes 3 to 8 for n = 4 (8.3.1.2.3 to
// 8.3.1.2.8) and n = 8 (8.3.2.2.4 to 8.3.2.2.9). The first index is the mode less 3.
func newDirections(n int) (modes [6][64]uint8) {
	left := func(y int) int { return n - y }
	top := func(x int) int { return n + 2 + x }
	for y := range n {
		for x := range n {
			i := y*n + x
			modes[0][i] = uint8(weighted + top(x+y+1))
			modes[1][i] = uint8(weighted + n + 1 + x - y)
			modes[2][i] = slanted(2*x-y, func() int { return top(x - y>>1 - 1) }, func() int { return left(y - 2*x - 2) })
			modes[3][i] = slanted(2*y-x, func() int { return left(y - x>>1) }, func() int { return top(x - 2*y - 2) })
			if z := 2*y - x; z >= -1 && z&1 == 1 {
				modes[3][i]++ // the weighted average is the one around the upper of the two
			}
			modes[4][i] = uint8(top(x + y>>1))
			if y&1 == 1 {
				modes[4][i] += weighted + 1
			}
			last := min(y+x>>1, n-1)
			modes[5][i] = uint8(left(last) - 1)
			if x&1 == 1 && y+x>>1 < n-1 {
				modes[5][i] += weighted
			}
		}
	}
	return modes
}

// slanted returns the table entry for modes 5 and 6. z counts along the direction; near and far
// return the border index on the side that the mode mainly uses and on the other.
func slanted(z int, near, far func() int) uint8 {
	switch {
	case z >= 0 && z&1 == 0:
		return uint8(near())
	case z >= -1:
		return uint8(weighted + near())
	}
	return uint8(weighted + far())
}

// straight marks the directions in which the entries of every row are consecutive.
var straight = [6]bool{0: true, 1: true, 4: true}

// smoothBorder computes both averages of neighbouring samples along the border of an n x n
// block.
func smoothBorder[T motion.Sample](p *border[T], n int, out *averages[T]) {
	for i := range 3*n + 2 {
		a, b, c := int32(p[i]), int32(p[i+1]), int32(p[i+2])
		out[i] = T((a + b + 1) >> 1)
		out[weighted+1+i] = T((a + 2*b + c + 2) >> 2)
	}
}

// predictSquare predicts an n x n block by a directional mode.
func predictSquare[T motion.Sample](dst []T, stride, n, direction int, from *averages[T]) {
	places := &directions8[direction]
	if n == 4 {
		places = &directions4[direction]
	}
	for y := range n {
		row, at := dst[y*stride:][:n], places[y*n:][:n]
		if straight[direction] {
			copy(row, from[at[0]&63:][:n])
			continue
		}
		for x, place := range at {
			row[x] = from[place&63]
		}
	}
}

// loadBorder4 loads the border of the 4x4 block whose first sample is pix[at].
func (r *recon[T]) loadBorder4(at, block int, ok *intraNeighbours) {
	pix, stride, p := r.luma, r.stride, &r.border
	if block&3 > 0 || ok.beside(block>>2) {
		for y := range 4 {
			p[4-y] = pix[at+y*stride-1]
		}
	}
	if cornerOf(block, ok) {
		p[5] = pix[at-stride-1]
	}
	if block > 3 || ok.top {
		above := pix[at-stride:][:8]
		copy(p[6:10], above[:4])
		if block < 3 && ok.top || block == 3 && ok.topRight || cornerInside[block][1] {
			copy(p[10:14], above[4:])
		} else {
			last := above[3]
			p[10], p[11], p[12], p[13] = last, last, last, last
		}
	}
	p[0], p[14] = p[1], p[13]
}

// intra4 predicts the 4x4 block whose first sample is pix[at] (8.3.1.2).
func (r *recon[T]) intra4(at, block int, mode int8, ok *intraNeighbours) {
	pix, stride := r.luma, r.stride
	dst := pix[at:]
	switch mode {
	case 0:
		r.k.Copy(dst, stride, pix[at-stride:], 0, 4, 4)
	case 1:
		r.k.Extend(pix, at, stride, 4, 4)
	case 2:
		r.k.Fill(dst, stride, 4, 4, r.mean(at, stride, 4, block&3 > 0 || ok.beside(block>>2), block > 3 || ok.top))
	default:
		r.loadBorder4(at, block, ok)
		r.k.smooth(&r.border, 4, &r.averages)
		predictSquare(dst, stride, 4, int(mode-3), &r.averages)
	}
}

// cornerOf reports whether the sample above and to the left of a block may be used.
func cornerOf(block int, ok *intraNeighbours) bool {
	switch {
	case block == 0:
		return ok.topLeft
	case block < 4:
		return ok.top
	case block&3 == 0:
		return ok.beside(block>>2 - 1)
	}
	return true
}

// mean returns the DC prediction of an n x n block (8.3.1.2.3).
func (r *recon[T]) mean(at, stride, n int, left, top bool) T {
	if n == 16 && left && top {
		left, above := r.k.borderSums(r.luma, at, stride)
		return T((left + above + 16) >> 5)
	}
	sum, count, pix := 0, 0, r.luma
	if left {
		for p, end := at-1, at-1+n*stride; p < end; p += stride {
			sum += int(pix[p])
		}
		count += n
	}
	if top {
		for _, v := range pix[at-stride:][:n] {
			sum += int(v)
		}
		count += n
	}
	return roundedMean[T](sum, count, r.maxSample[0])
}

// intra8 predicts an 8x8 block from its filtered border (8.3.2.2).
func (r *recon[T]) intra8(at, b8 int, mode int8, ok *intraNeighbours) {
	stride, p := r.stride, &r.border
	dst := r.luma[at:]
	left, top := r.loadBorder8(at, b8, ok)
	switch mode {
	case 0:
		r.k.Copy(dst, stride, p[10:], 0, 8, 8)
	case 1:
		for y := range 8 {
			r.k.Fill(dst[y*stride:], stride, 8, 1, p[8-y])
		}
	case 2:
		r.k.Fill(dst, stride, 8, 8, meanOf(p[1:9], p[10:18], left, top, r.maxSample[0]))
	default:
		r.k.smooth(p, 8, &r.averages)
		predictSquare(dst, stride, 8, int(mode-3), &r.averages)
	}
}

// meanOf returns the DC prediction from border samples.
func meanOf[T motion.Sample](left, top []T, useLeft, useTop bool, most int32) T {
	sum, count := 0, 0
	if useLeft {
		for _, v := range left {
			sum += int(v)
		}
		count += len(left)
	}
	if useTop {
		for _, v := range top {
			sum += int(v)
		}
		count += len(top)
	}
	return roundedMean[T](sum, count, most)
}

// roundedMean returns the mean of count samples, a power of two, or the middle of the range where there are none.
func roundedMean[T motion.Sample](sum, count int, most int32) T {
	if count == 0 {
		return T((most + 1) >> 1)
	}
	return T((sum + count>>1) >> uint(mathbits.TrailingZeros(uint(count))))
}

// loadBorder8 loads and filters the border of an 8x8 block (8.3.2.2.1), and reports whether
// there are samples to the left and above.
func (r *recon[T]) loadBorder8(at, b8 int, ok *intraNeighbours) (left, top bool) {
	pix, stride, p, f := r.luma, r.stride, &r.border, &r.averages
	left, top = b8&1 == 1 || ok.left>>b8&3 == 3, b8 >= 2 || ok.top
	corner, right := true, false
	switch b8 {
	case 0:
		corner, right = ok.topLeft, ok.top
	case 1:
		corner, right = ok.top, ok.topRight
	case 2:
		corner, right = ok.beside(1), true
	}
	if left {
		for y := range 8 {
			p[8-y] = pix[at+y*stride-1]
		}
	}
	if corner {
		p[9] = pix[at-stride-1]
	}
	if top {
		above := pix[at-stride:]
		copy(p[10:18], above[:8])
		if right {
			copy(p[18:26], above[8:16])
		} else {
			for x := range 8 {
				p[18+x] = above[7]
			}
		}
	}
	p[0], p[26] = p[1], p[25]
	r.k.smooth(p, 8, f)
	end := func(a, b T) T { return T((3*int32(a) + int32(b) + 2) >> 2) }
	switch {
	case !corner:
		f[weighted+8], f[weighted+10] = end(p[8], p[7]), end(p[10], p[11])
	case !left && !top:
		f[weighted+9] = p[9]
	case !left:
		f[weighted+9] = end(p[9], p[10])
	case !top:
		f[weighted+9] = end(p[9], p[8])
	}
	copy(p[1:26], f[weighted+1:])
	p[0], p[26] = p[1], p[25]
	return left, top
}

// intra16 predicts a whole macroblock (8.3.3).
func (r *recon[T]) intra16(at, mode int, ok *intraNeighbours) {
	pix, stride := r.luma, r.stride
	left := ok.left == allRows
	switch mode {
	case 0:
		r.k.Copy(pix[at:], stride, pix[at-stride:], 0, 16, 16)
	case 1:
		r.k.Extend(pix, at, stride, 16, 16)
	case 2:
		r.k.Fill(pix[at:], stride, 16, 16, r.mean(at, stride, 16, left, ok.top))
	default:
		r.plane(pix, at, stride, 16, 16, r.maxSample[0])
	}
}

// plane is Intra_16x16_Plane prediction (8.3.3.4) and its equivalent for chroma (8.3.4.4).
func (r *recon[T]) plane(pix []T, at, stride, w, h int, most int32) {
	above, beside := pix[at-stride-1:][:w+1], pix[at-stride-1:]
	var across, down int32
	for i := range w / 2 {
		across += int32(i+1) * (int32(above[w/2+1+i]) - int32(above[w/2-1-i]))
	}
	for i := range h / 2 {
		down += int32(i+1) * (int32(beside[(h/2+1+i)*stride]) - int32(beside[(h/2-1-i)*stride]))
	}
	slope := func(n int, sum int32) int32 {
		if n == 16 {
			return (5*sum + 32) >> 6
		}
		return (34*sum + 32) >> 6
	}
	across, down = slope(w, across), slope(h, down)
	corner := 16*(int32(beside[h*stride])+int32(above[w])) + 16 - across*int32(w/2-1) - down*int32(h/2-1)
	r.k.plane(pix[at:], stride, w, h, corner, across, down, most)
}

// intraChroma predicts the samples of a chroma plane (8.3.4).
func (r *recon[T]) intraChroma(plane, mode int, ok *intraNeighbours) {
	pix, at, stride, h := r.full[plane], r.chromaAt, r.chromaStride, r.chromaRows
	switch mode {
	case 0:
		r.chromaMeans(plane, ok)
	case 1:
		r.k.Extend(pix, at, stride, 8, h)
	case 2:
		r.k.Copy(pix[at:], stride, pix[at-stride:], 0, 8, h)
	default:
		r.plane(pix, at, stride, 8, h, r.maxSample[plane])
	}
}

// chromaMeans is chroma DC prediction (8.3.4.1 to 8.3.4.3): each 4x4 block has a DC value of its
// own.
func (r *recon[T]) chromaMeans(plane int, ok *intraNeighbours) {
	pix, at, stride, h := r.full[plane], r.chromaAt, r.chromaStride, r.chromaRows
	if h == 8 && ok.top && ok.left == allRows {
		r.k.chromaDC(pix, at, stride)
		return
	}
	var above [2]int32
	if ok.top {
		p := pix[at-stride:][:8]
		above[0] = int32(p[0]) + int32(p[1]) + int32(p[2]) + int32(p[3])
		above[1] = int32(p[4]) + int32(p[5]) + int32(p[6]) + int32(p[7])
	}
	for y := 0; y < h; y += 4 {
		left := ok.beside(y * 4 / h)
		if h == 8 {
			left = left && ok.beside(y>>1+1)
		}
		beside := int32(0)
		if left {
			p := pix[at+y*stride-1:][:3*stride+1]
			beside = int32(p[0]) + int32(p[stride]) + int32(p[2*stride]) + int32(p[3*stride])
		}
		var a, b T
		switch {
		case left && ok.top && y == 0:
			a, b = T((beside+above[0]+4)>>3), T((above[1]+2)>>2)
		case left && ok.top:
			a, b = T((beside+2)>>2), T((beside+above[1]+4)>>3)
		case left:
			a = T((beside + 2) >> 2)
			b = a
		case ok.top:
			a, b = T((above[0]+2)>>2), T((above[1]+2)>>2)
		default:
			a = T((r.maxSample[plane] + 1) >> 1)
			b = a
		}
		fillPair(pix[at+y*stride:], stride, a, b)
	}
}
