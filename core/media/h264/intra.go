package h264

// usable tells whether intra prediction may use samples of a macroblock
// (8.3.1.2, 8.3.3, 8.3.4).
func (d *sliceDecoder) usable(mb int32) bool {
	return mb >= 0 && (!d.h.pps.constrainedIntra || d.mbs[mb].intra())
}

// usableLeft tells it of the samples beside each row of 4x4 blocks.
func (d *sliceDecoder) usableLeft() (ok [4]bool) {
	for i, mb := range d.n.left {
		ok[i] = d.usable(mb)
	}
	if d.h.mbaff && !d.field && d.n.left[0] >= 0 && d.mbs[d.n.left[0]].field {
		// The lines beside a row are of both macroblocks in turn.
		top := d.available(d.x-1, d.y&^1)
		both := d.usable(top) && d.usable(top+int32(d.width))
		ok = [4]bool{both, both, both, both}
	}
	return ok
}

// Directions of intra prediction: which of the smoothed border samples each
// predicted one takes. The border of an NxN block runs from its lower left
// sample, taken twice, up to the corner at N+1, and on to the last upper right
// one at 3N+1, taken twice. An entry is the place p for the average of border
// samples p and p+1, or 32+p for the weighted average around p.
var (
	directions4 = newDirections(4)
	directions8 = newDirections(8)
)

const weighted = 32

// newDirections carries out 8.3.1.2.3 to 8.3.1.2.8 for n = 4, and 8.3.2.2.4 to
// 8.3.2.2.9 for n = 8, on places. The first index is the mode less 3.
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
				modes[3][i]++ // the weighted average lies around the upper of the two
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

// slanted is the place for modes 5 and 6: z counts along the direction, near
// gives the place on the side the mode mainly looks at, far on the other.
func slanted(z int, near, far func() int) uint8 {
	switch {
	case z >= 0 && z&1 == 0:
		return uint8(near())
	case z >= -1:
		return uint8(weighted + near())
	}
	return uint8(weighted + far())
}

// straight tells of each direction whether the places of every row follow one
// another.
var straight = [6]bool{0: true, 1: true, 4: true}

// predictSquare predicts an n x n block in a direction from its border, whose
// 3n+3 samples are in p.
func predictSquare[T sample](dst []T, stride, n, direction int, p *[32]int32) {
	var smooth [64]T
	for i := 1; i < 3*n+2; i++ {
		smooth[i] = T((p[i] + p[i+1] + 1) >> 1)
		smooth[weighted+i] = T((p[i-1] + 2*p[i] + p[i+1] + 2) >> 2)
	}
	smooth[0] = T(p[0])
	places := &directions8[direction]
	if n == 4 {
		places = &directions4[direction]
	}
	for y := range n {
		row, at := dst[y*stride:][:n], places[y*n:][:n]
		if straight[direction] {
			copy(row, smooth[at[0]&63:][:n])
			continue
		}
		for x, place := range at {
			row[x] = smooth[place&63]
		}
	}
}

// intra4 predicts a 4x4 block whose first sample is at (8.3.1.2).
func (r *recon[T]) intra4(at, block int, mode int8, ok *around) {
	pix, stride := r.luma, r.stride
	left, top := block&3 > 0 || ok.left[block>>2], block > 3 || ok.top
	dst := pix[at:]
	switch mode {
	case 0:
		r.k.copy(dst, stride, pix[at-stride:], 0, 4, 4)
		return
	case 1:
		r.k.extend(pix, at, stride, 4, 4)
		return
	case 2:
		r.k.fill(dst, stride, 4, 4, r.mean(at, stride, 4, left, top))
		return
	}
	p := &r.border
	if left {
		for y := range 4 {
			p[4-y] = int32(pix[at+y*stride-1])
		}
	}
	if corner := cornerOf(block, ok); corner {
		p[5] = int32(pix[at-stride-1])
	}
	if top {
		above := pix[at-stride:][:8]
		for x := range 4 {
			p[6+x] = int32(above[x])
		}
		further := block < 3 && ok.top || block == 3 && ok.topRight || cornerInside[block][1]
		for x := 4; x < 8; x++ {
			if further {
				p[6+x] = int32(above[x])
			} else {
				p[6+x] = p[9]
			}
		}
	}
	p[0], p[14] = p[1], p[13]
	predictSquare(dst, stride, 4, int(mode-3), p)
}

// cornerOf tells whether the sample left above a block may be used.
func cornerOf(block int, ok *around) bool {
	switch {
	case block == 0:
		return ok.topLeft
	case block < 4:
		return ok.top
	case block&3 == 0:
		return ok.left[block>>2-1]
	}
	return true
}

// mean is the DC prediction of an n x n block (8.3.1.2.3).
func (r *recon[T]) mean(at, stride, n int, left, top bool) T {
	var beside, above [16]int32
	if left {
		for y := range n {
			beside[y] = int32(r.luma[at+y*stride-1])
		}
	}
	if top {
		for x, v := range r.luma[at-stride:][:n] {
			above[x] = int32(v)
		}
	}
	return meanOf[T](beside[:n], above[:n], left, top, r.most[0])
}

// intra8 predicts an 8x8 block from a border that is smoothed first
// (8.3.2.2).
func (r *recon[T]) intra8(at, b8 int, mode int8, ok *around) {
	pix, stride := r.luma, r.stride
	dst := pix[at:]
	left, top := b8&1 == 1 || ok.left[b8] && ok.left[b8+1], b8 >= 2 || ok.top
	corner, right := true, false
	switch b8 {
	case 0:
		corner, right = ok.topLeft, ok.top
	case 1:
		corner, right = ok.top, ok.topRight
	case 2:
		corner, right = ok.left[1], true
	}
	p := &r.border
	if !r.bordered {
		r.smoothBorder(at, left, top, corner, right)
	}
	switch mode {
	case 0:
		for y := range 8 {
			for x := range 8 {
				dst[y*stride+x] = T(p[10+x])
			}
		}
	case 1:
		for y := range 8 {
			r.k.fill(dst[y*stride:], stride, 8, 1, T(p[8-y]))
		}
	case 2:
		r.k.fill(dst, stride, 8, 8, meanOf[T](p[1:9], p[10:18], left, top, r.most[0]))
	default:
		predictSquare(dst, stride, 8, int(mode-3), p)
	}
}

// meanOf is the DC prediction from border samples.
func meanOf[T sample](left, top []int32, useLeft, useTop bool, most int32) T {
	sum, count := int32(0), int32(0)
	if useLeft {
		for _, v := range left {
			sum += v
		}
		count += int32(len(left))
	}
	if useTop {
		for _, v := range top {
			sum += v
		}
		count += int32(len(top))
	}
	if count == 0 {
		return T((most + 1) >> 1)
	}
	return T((sum + count>>1) / count)
}

// smoothBorder loads the border of an 8x8 block and filters it (8.3.2.2.1).
func (r *recon[T]) smoothBorder(at int, left, top, corner, right bool) {
	var q [27]int32 // as it is; places as in r.border
	pix, stride, p := r.luma, r.stride, &r.border
	if left {
		for y := range 8 {
			q[8-y] = int32(pix[at+y*stride-1])
		}
	}
	if corner {
		q[9] = int32(pix[at-stride-1])
	}
	if top {
		for x := range 16 {
			if x < 8 || right {
				q[10+x] = int32(pix[at-stride+x])
			} else {
				q[10+x] = q[17]
			}
		}
	}
	q[0], q[26] = q[1], q[25]
	for i := 1; i < 26; i++ {
		p[i] = (q[i-1] + 2*q[i] + q[i+1] + 2) >> 2
	}
	switch {
	case !corner:
		p[8] = (3*q[8] + q[7] + 2) >> 2
		p[10] = (3*q[10] + q[11] + 2) >> 2
	case !left && !top:
		p[9] = q[9]
	case !left:
		p[9] = (3*q[9] + q[10] + 2) >> 2
	case !top:
		p[9] = (3*q[9] + q[8] + 2) >> 2
	}
	p[0], p[26] = p[1], p[25]
}

// intra16 predicts a whole macroblock (8.3.3).
func (r *recon[T]) intra16(at, mode int, ok *around) {
	pix, stride := r.luma, r.stride
	left := ok.left == [4]bool{true, true, true, true}
	switch mode {
	case 0:
		r.k.copy(pix[at:], stride, pix[at-stride:], 0, 16, 16)
	case 1:
		r.k.extend(pix, at, stride, 16, 16)
	case 2:
		r.k.fill(pix[at:], stride, 16, 16, r.mean(at, stride, 16, left, ok.top))
	default:
		predictPlane(pix, at, stride, 16, 16, r.most[0])
	}
}

// predictPlane is Intra_16x16_Plane (8.3.3.4) and its kin for chroma
// (8.3.4.4).
func predictPlane[T sample](pix []T, at, stride, w, h int, most int32) {
	slope := func(n int, sample func(i int) T) int32 {
		sum := int32(0)
		for i := range n / 2 {
			sum += int32(i+1) * (int32(sample(n/2+i)) - int32(sample(n/2-2-i)))
		}
		if n == 16 {
			return (5*sum + 32) >> 6
		}
		return (34*sum + 32) >> 6
	}
	across := slope(w, func(i int) T { return pix[at-stride+i] })
	down := slope(h, func(i int) T { return pix[at+i*stride-1] })
	base := 16*(int32(pix[at+(h-1)*stride-1])+int32(pix[at-stride+w-1])) + 16 -
		across*int32(w/2-1) - down*int32(h/2-1)
	for y := range h {
		row := pix[at+y*stride:][:w]
		v := base + int32(y)*down
		for x := range row {
			row[x] = clip[T](v>>5, most)
			v += across
		}
	}
}

// intraChroma predicts the samples of a chroma plane (8.3.4).
func (r *recon[T]) intraChroma(plane, mode int, ok *around) {
	pix, at, stride, h := r.full[plane], r.chromaAt, r.chromaStride, 16>>r.chromaShift
	switch mode {
	case 0:
		r.chromaMeans(plane, ok)
	case 1:
		r.k.extend(pix, at, stride, 8, h)
	case 2:
		r.k.copy(pix[at:], stride, pix[at-stride:], 0, 8, h)
	default:
		predictPlane(pix, at, stride, 8, h, r.most[plane])
	}
}

// chromaMeans is 8.3.4.1 to 8.3.4.3: a DC of its own for every 4x4 block.
func (r *recon[T]) chromaMeans(plane int, ok *around) {
	pix, at, stride, h := r.full[plane], r.chromaAt, r.chromaStride, 16>>r.chromaShift
	var above [2]int32
	if ok.top {
		for i, v := range pix[at-stride:][:8] {
			above[i>>2] += int32(v)
		}
	}
	for y := 0; y < h; y += 4 {
		left := ok.left[y*4/h]
		if h == 8 {
			left = left && ok.left[y*4/h+1]
		}
		beside := int32(0)
		var mean [2]T
		if left {
			for i := range 4 {
				beside += int32(pix[at+(y+i)*stride-1])
			}
		}
		for x, sum := range above {
			useLeft, useTop := left, ok.top
			if x > 0 && y == 0 && useTop {
				useLeft = false
			} else if x == 0 && y > 0 && useLeft {
				useTop = false
			}
			v := (r.most[plane] + 1) >> 1
			switch {
			case useLeft && useTop:
				v = (beside + sum + 4) >> 3
			case useLeft:
				v = (beside + 2) >> 2
			case useTop:
				v = (sum + 2) >> 2
			}
			mean[x] = T(v)
		}
		for i := range 4 {
			a, b := mean[0], mean[1]
			*(*[8]T)(pix[at+(y+i)*stride:]) = [8]T{a, a, a, a, b, b, b, b}
		}
	}
}
