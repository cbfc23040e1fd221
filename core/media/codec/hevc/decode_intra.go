package hevc

import "vividstrain/core/media/codec/motion"

// intraPredAngle and invAngle (tables 8-5 and 8-6), by mode from 2.
var (
	intraAngle = [35]int{2: 32, 26, 21, 17, 13, 9, 5, 2, 0, -2, -5, -9, -13, -17, -21, -26, -32, -26, -21, -17, -13, -9, -5, -2, 0, 2, 5, 9, 13, 17, 21, 26, 32}
	invAngle   = [35]int{11: -4096, -1638, -910, -630, -482, -390, -315, -256, -315, -390, -482, -630, -910, -1638, -4096}
)

// Intra prediction modes with a name.
const (
	modePlanar     = 0
	modeDC         = 1
	modeHorizontal = 10
	firstVertical  = 18
	modeVertical   = 26
)

// predictIntra predicts the block at (x, y) of plane c, in samples of the plane (8.4.4.2).
func (w *worker[T]) predictIntra(x, y, log2, c, mode int) {
	w.predictFrom(w.neighbours(x, y, 1<<log2, c), x, y, log2, c, mode)
}

// predictFrom predicts a block from its neighbours p.
func (w *worker[T]) predictFrom(p []int16, x, y, log2, c, mode int) {
	n, pl := 1<<log2, &w.planes[c]
	dst := pl.pix[y*pl.stride+x:]
	if w.filters(n, c, mode) {
		p = w.smooth(p, n, c)
	}
	switch {
	case mode == modePlanar && w.depths[c] <= 10:
		w.k.planar(dst, pl.stride, p, n, log2)
	case mode == modePlanar:
		planar(dst, pl.stride, p, n, log2)
	case mode == modeDC:
		w.dc(dst, pl.stride, p, n, log2, c == 0 && n < 32)
	case mode >= firstVertical:
		w.angular(dst, pl.stride, p, n, c, mode)
	default:
		w.angular(w.turned[:], n, p, n, c, mode)
		for j := range n {
			row := dst[j*pl.stride:][:n]
			for i := range row {
				row[i] = w.turned[i*n+j]
			}
		}
	}
}

// neighbours returns the samples around a block of n x n: from the lowest at the left (index 0) over
// the corner (2n) to the last one above (4n), with missing ones substituted (8.4.4.2.2).
func (w *worker[T]) neighbours(x, y, n, c int) []int16 {
	list, have := w.border[:4*n+1], w.have[:0]
	p := &w.planes[c]
	sx, sy := w.shiftX[c], w.shiftY[c]
	// Blocks are available as a whole, unless intra blocks alone are used or chroma is 4:2:2.
	unitX, unitY := n, n
	if w.pps.constrainedIntra || sx != sy {
		unitX, unitY = max(1, 1<<w.sps.minTb>>sx), max(1, 1<<w.sps.minTb>>sy)
	}
	lx, ly := x<<sx, y<<sy
	usable := func(nx, ny int) bool {
		nx, ny = nx<<sx, ny<<sy
		return w.available(lx, ly, nx, ny) && !(w.pps.constrainedIntra && !w.intraAt(nx, ny))
	}
	bottom := min(2*n, w.heights[c]-y)
	for to := 2 * n; to > 0; { // left, upwards
		from := (to - 1) &^ (unitY - 1)
		if end := min(to, bottom); from < end && usable(x-1, y+from) {
			at := (y+from)*p.stride + x - 1
			for i := from; i < end; i++ {
				list[2*n-1-i] = int16(p.pix[at])
				at += p.stride
			}
			have = append(have, span{2*n - end, 2*n - from})
		}
		to = from
	}
	if usable(x-1, y-1) {
		list[2*n] = int16(p.pix[(y-1)*p.stride+x-1])
		have = append(have, span{2 * n, 2*n + 1})
	}
	right := min(2*n, w.widths[c]-x)
	for from := 0; from < right; from += unitX {
		if end := min(from+unitX, right); usable(x+from, y-1) {
			row, out := p.pix[(y-1)*p.stride+x+from:][:end-from], list[2*n+1+from:]
			for i, v := range row {
				out[i] = int16(v)
			}
			have = append(have, span{2*n + 1 + from, 2*n + 1 + end})
		}
	}
	substitute(list, have, int16(1)<<(w.depths[c]-1))
	return list
}

// span is a part of a list, without its end.
type span struct{ from, end int }

// substitute fills what is between the spans with the sample before, before the first one with that after
// it, and a list of none with a value.
func substitute(list []int16, have []span, v int16) {
	if len(have) > 0 {
		v = list[have[0].from]
	}
	at := 0
	for _, s := range have {
		for ; at < s.from; at++ {
			list[at] = v
		}
		at, v = s.end, list[s.end-1]
	}
	for ; at < len(list); at++ {
		list[at] = v
	}
}

// filters reports whether the neighbours are smoothed (8.4.4.2.3).
func (w *worker[T]) filters(n, c, mode int) bool {
	if w.sps.ext.noIntraSmoothing || c > 0 || mode == modeDC || n == 4 {
		return false
	}
	if mode == modePlanar {
		return true
	}
	least := [6]int{3: 7, 4: 1, 5: 0}[log2Of(n)]
	return min(abs(mode-modeVertical), abs(mode-modeHorizontal)) > least
}

func log2Of(n int) (log2 int) {
	for n > 1 {
		n >>= 1
		log2++
	}
	return log2
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// smooth filters the neighbours, strongly where a large block is nearly flat.
func (w *worker[T]) smooth(p []int16, n, c int) []int16 {
	out := w.border2[:len(p)]
	corner, left, above := int32(p[2*n]), int32(p[0]), int32(p[4*n])
	if w.sps.strong && c == 0 && n == 32 {
		limit := int32(1) << (w.depths[0] - 5)
		if motion.Abs32(corner+above-2*int32(p[3*n])) < limit && motion.Abs32(corner+left-2*int32(p[n])) < limit {
			for i := range int32(64) {
				out[64-i] = int16(((64-i)*corner + i*left + 32) >> 6)
				out[64+i] = int16(((64-i)*corner + i*above + 32) >> 6)
			}
			out[0], out[128], out[64] = p[0], p[4*n], p[2*n]
			return out
		}
	}
	out[0], out[4*n] = p[0], p[4*n]
	before, v, list := int32(p[0]), int32(p[1]), p[2:4*n+1]
	inner := out[1:][:len(list)]
	for i, next := range list {
		inner[i] = int16((before + 2*v + int32(next) + 2) >> 2)
		before, v = v, int32(next)
	}
	return out
}

// planar is INTRA_PLANAR (8.4.4.2.4).
func planar[T motion.Sample](dst []T, stride int, p []int16, n, log2 int) {
	right, below := int32(p[3*n+1]), int32(p[n-1])
	var columns [32]int32 // (n-1-y)*above + (y+1)*below + n
	above := p[2*n+1:][:n]
	for x, v := range above {
		columns[x] = int32(n-1)*int32(v) + below + int32(n)
	}
	for y := range n {
		row, left := dst[y*stride:][:n], int32(p[2*n-1-y])
		sum, list := int32(n-1)*left+right, columns[:n]
		for x := range row {
			row[x] = T((sum + list[x]) >> (log2 + 1))
			sum += right - left
			list[x] += below - int32(above[x])
		}
	}
}

// dc is INTRA_DC (8.4.4.2.5).
func (w *worker[T]) dc(dst []T, stride int, p []int16, n, log2 int, edge bool) {
	sum := int32(n)
	for i := range n {
		sum += int32(p[2*n+1+i]) + int32(p[2*n-1-i])
	}
	v := sum >> (log2 + 1)
	for x := 0; x < n; x += 16 {
		w.k.Fill(dst[x:], stride, min(n, 16), n, T(v))
	}
	if !edge {
		return
	}
	dst[0] = T((int32(p[2*n-1]) + 2*v + int32(p[2*n+1]) + 2) >> 2)
	for i := 1; i < n; i++ {
		dst[i] = T((int32(p[2*n+1+i]) + 3*v + 2) >> 2)
		dst[i*stride] = T((int32(p[2*n-1-i]) + 3*v + 2) >> 2)
	}
}

// angular is INTRA_ANGULAR2 to 34 (8.4.4.2.6). Modes below firstVertical are predicted turned: with
// columns for rows.
func (w *worker[T]) angular(dst []T, stride int, p []int16, n, c, mode int) {
	angle := intraAngle[mode]
	main, side, step := p[2*n:], p[:2*n+1], 1 // both from the corner on
	at := func(i int) int16 { return side[2*n-i] }
	if mode < firstVertical {
		main, step = nil, -1
		at = func(i int) int16 { return p[2*n+i] }
	}
	store := &w.directions
	ref := store[32:]
	last := n
	if angle >= 0 {
		last = 2 * n
	}
	if step > 0 {
		copy(ref, main[:last+1])
	} else {
		for i := range last + 1 {
			ref[i] = p[2*n-i]
		}
	}
	if before := n * angle >> 5; before < -1 {
		for i := -1; i >= before; i-- {
			store[32+i] = at((i*invAngle[mode] + 128) >> 8)
		}
	}
	w.k.directions(dst, stride, store, n, angle)
	if angle == 0 && c == 0 && n < 32 && !(w.sps.ext.implicitRDPCM && w.cuBypass) {
		most := int32(1)<<w.depths[c] - 1
		for i := range n {
			dst[i*stride] = T(max(0, min(int32(ref[1])+(int32(at(i+1))-int32(ref[0]))>>1, most)))
		}
	}
}

// predictDirections predicts n x n samples from a border whose corner is ref[32]: row k is the border
// moved by k+1 times the angle, in 1/32 of a sample.
func predictDirections[T motion.Sample](dst []T, stride int, ref *[32 + 65 + 16]int16, n, angle int) {
	for k := range n {
		offset, fraction := 33+(k+1)*angle>>5, int32((k+1)*angle&31)
		row, line := dst[k*stride:][:n], ref[offset:][:n+1]
		for i := range row {
			row[i] = T(((32-fraction)*int32(line[i]) + fraction*int32(line[i+1]) + 16) >> 5)
		}
	}
}
