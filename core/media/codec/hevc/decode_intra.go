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
	modeVertical   = 26
)

// predictIntra predicts the block at (x, y) of plane c, in samples of the plane (8.4.4.2).
func (w *worker[T]) predictIntra(x, y, log2, c, mode int) {
	w.predictFrom(w.neighbours(x, y, 1<<log2, c), x, y, log2, c, mode)
}

// predictFrom predicts a block from its neighbours p.
func (w *worker[T]) predictFrom(p []int32, x, y, log2, c, mode int) {
	n := 1 << log2
	if w.filters(n, c, mode) {
		p = w.smooth(p, n, c)
	}
	pl := &w.planes[c]
	dst, stride := pl.pix[y*pl.stride+x:], pl.stride
	switch mode {
	case modePlanar:
		planar(dst, stride, p, n, log2)
	case modeDC:
		dc(dst, stride, p, n, log2, c == 0 && n < 32)
	default:
		edge := c == 0 && n < 32 && !(w.sps.ext.implicitRDPCM && w.cuBypass)
		angular(dst, stride, p, n, mode, edge, int32(1)<<w.depths[c]-1)
	}
}

// neighbours returns the samples around a block of n x n: from the lowest at the left (index 0) over
// the corner (2n) to the last one above (4n), with missing ones substituted (8.4.4.2.2).
func (w *worker[T]) neighbours(x, y, n, c int) []int32 {
	list := w.border[:4*n+1]
	p := &w.planes[c]
	sx, sy := w.shiftX[c], w.shiftY[c]
	unitX, unitY := max(1, 1<<w.sps.minTb>>sx), max(1, 1<<w.sps.minTb>>sy)
	have := w.have[:4*n+1]
	any := false
	lx, ly := x<<sx, y<<sy
	usable := func(nx, ny int) bool {
		nx, ny = nx<<sx, ny<<sy
		return w.available(lx, ly, nx, ny) && !(w.pps.constrainedIntra && !w.intraAt(nx, ny))
	}
	for from := 0; from < 2*n; { // left, downwards
		size := min(unitY-(y+from)%unitY, 2*n-from)
		ok := usable(x-1, y+from)
		for i := from; i < from+size; i++ {
			if have[2*n-1-i] = ok; ok {
				list[2*n-1-i] = int32(p.pix[(y+i)*p.stride+x-1])
			}
		}
		any = any || ok
		from += size
	}
	if have[2*n] = usable(x-1, y-1); have[2*n] {
		list[2*n], any = int32(p.pix[(y-1)*p.stride+x-1]), true
	}
	for from := 0; from < 2*n; {
		size := min(unitX-(x+from)%unitX, 2*n-from)
		ok := usable(x+from, y-1)
		for i := from; i < from+size; i++ {
			if have[2*n+1+i] = ok; ok {
				list[2*n+1+i] = int32(p.pix[(y-1)*p.stride+x+i])
			}
		}
		any = any || ok
		from += size
	}
	if !any {
		for i := range list {
			list[i] = 1 << (w.depths[c] - 1)
		}
		return list
	}
	if !have[0] {
		k := 0
		for !have[k] {
			k++
		}
		list[0] = list[k]
	}
	for i := 1; i < len(list); i++ {
		if !have[i] {
			list[i] = list[i-1]
		}
	}
	return list
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
func (w *worker[T]) smooth(p []int32, n, c int) []int32 {
	out := w.border2[:len(p)]
	corner, left, above := p[2*n], p[0], p[4*n]
	if w.sps.strong && c == 0 && n == 32 {
		limit := int32(1) << (w.depths[0] - 5)
		if abs32(corner+above-2*p[3*n]) < limit && abs32(corner+left-2*p[n]) < limit {
			for i := range 64 {
				out[64-i] = ((64-int32(i))*corner + int32(i)*left + 32) >> 6
				out[64+i] = ((64-int32(i))*corner + int32(i)*above + 32) >> 6
			}
			out[0], out[128], out[64] = left, above, corner
			return out
		}
	}
	out[0], out[4*n] = left, above
	for i := 1; i < 4*n; i++ {
		out[i] = (p[i-1] + 2*p[i] + p[i+1] + 2) >> 2
	}
	return out
}

func abs32(n int32) int32 {
	if n < 0 {
		return -n
	}
	return n
}

// planar is INTRA_PLANAR (8.4.4.2.4).
func planar[T motion.Sample](dst []T, stride int, p []int32, n, log2 int) {
	right, below := p[3*n+1], p[n-1]
	for y := range n {
		row, left := dst[y*stride:][:n], p[2*n-1-y]
		for x := range row {
			row[x] = T((int32(n-1-x)*left + int32(x+1)*right + int32(n-1-y)*p[2*n+1+x] + int32(y+1)*below + int32(n)) >> (log2 + 1))
		}
	}
}

// dc is INTRA_DC (8.4.4.2.5).
func dc[T motion.Sample](dst []T, stride int, p []int32, n, log2 int, edge bool) {
	sum := int32(n)
	for i := range n {
		sum += p[2*n+1+i] + p[2*n-1-i]
	}
	v := sum >> (log2 + 1)
	for y := range n {
		row := dst[y*stride:][:n]
		for x := range row {
			row[x] = T(v)
		}
	}
	if !edge {
		return
	}
	dst[0] = T((p[2*n-1] + 2*v + p[2*n+1] + 2) >> 2)
	for i := 1; i < n; i++ {
		dst[i] = T((p[2*n+1+i] + 3*v + 2) >> 2)
		dst[i*stride] = T((p[2*n-1-i] + 3*v + 2) >> 2)
	}
}

// angular is INTRA_ANGULAR2 to 34 (8.4.4.2.6).
func angular[T motion.Sample](dst []T, stride int, p []int32, n, mode int, edge bool, most int32) {
	angle := intraAngle[mode]
	vertical := mode >= 18
	// side(i) are the samples along the main direction: above for vertical modes, from the corner.
	at := func(main bool, i int) int32 { // -1 is the corner
		if main == vertical {
			return p[2*n+1+i]
		}
		return p[2*n-1-i]
	}
	var store [3*32 + 1]int32
	ref := store[32:]
	for i := range n + 1 {
		ref[i] = at(true, i-1)
	}
	if angle < 0 {
		last := n * angle >> 5
		for i := -1; i >= last && last < -1; i-- {
			store[32+i] = at(false, -1+(i*invAngle[mode]+128)>>8)
		}
	} else {
		for i := n + 1; i <= 2*n; i++ {
			ref[i] = at(true, i-1)
		}
	}
	for k := range n { // along the direction
		offset, fraction := (k+1)*angle>>5, int32((k+1)*angle&31)
		for i := range n {
			a := store[32+i+offset+1]
			if fraction != 0 {
				a = ((32-fraction)*a + fraction*store[32+i+offset+2] + 16) >> 5
			}
			if vertical {
				dst[k*stride+i] = T(a)
			} else {
				dst[i*stride+k] = T(a)
			}
		}
	}
	if angle == 0 && edge {
		corner := p[2*n]
		for i := range n {
			v := max(0, min(at(true, 0)+(at(false, i)-corner)>>1, most))
			if vertical {
				dst[i*stride] = T(v)
			} else {
				dst[i] = T(v)
			}
		}
	}
}
