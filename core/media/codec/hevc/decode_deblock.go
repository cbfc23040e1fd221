package hevc

import "vividstrain/core/media/codec/motion"

// Kinds of edges.
const (
	edgePrediction = 1
	edgeTransform  = 3
)

// edges marks the left and the upper edge of a coding block, unless they are not filtered (8.7.2.3).
func (w *worker[T]) edges(x, y, size int) {
	if w.h.deblockOff {
		return
	}
	if x > 0 && w.crosses(x, y, x-1, y) {
		w.markEdge(w.st.edgeV, x, y, size, w.st.stride4, edgeTransform)
	}
	if y > 0 && w.crosses(x, y, x, y-1) {
		w.markEdge(w.st.edgeH, x, y, size, 1, edgeTransform)
	}
}

// crosses reports whether the filter goes across the edge between two blocks.
func (w *worker[T]) crosses(x, y, nx, ny int) bool {
	a, b := y>>w.sps.ctb*w.sps.ctbWidth+x>>w.sps.ctb, ny>>w.sps.ctb*w.sps.ctbWidth+nx>>w.sps.ctb
	if a == b {
		return true
	}
	l := w.st.layout
	return (w.h.across || w.st.sliceAddr[a] == w.st.sliceAddr[b]) && (w.pps.acrossTiles || l.tileOf[a] == l.tileOf[b])
}

func (w *worker[T]) markEdge(list []uint8, x, y, size, step int, kind uint8) {
	at := y>>2*w.st.stride4 + x>>2
	for range size >> 2 {
		list[at] |= kind
		at += step
	}
}

// blockEdges marks the edges of a block inside the coding block. Inter blocks are marked before their
// transform blocks.
func (w *worker[T]) blockEdges(x, y, bw, bh int, kind uint8) {
	if w.h.deblockOff {
		return
	}
	if x > w.cuX && x&7 == 0 {
		w.markEdge(w.st.edgeV, x, y, bh, w.st.stride4, kind)
	}
	if y > w.cuY && y&7 == 0 {
		w.markEdge(w.st.edgeH, x, y, bw, 1, kind)
	}
}

// leastTC is the first place of tcTable that is not 0.
const leastTC = 18

// Tables of the thresholds (table 8-12).
var (
	betaTable = [52]uint8{16: 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 20, 22, 24, 26, 28, 30, 32, 34, 36, 38, 40, 42, 44, 46, 48, 50, 52, 54, 56, 58, 60, 62, 64}
	tcTable   = [54]uint8{leastTC: 1, 1, 1, 1, 1, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 5, 5, 6, 6, 7, 8, 9, 10, 11, 13, 14, 16, 18, 20, 22, 24}
)

// deblock filters the edges of a row of coding tree blocks, with its upper edge: first all vertical
// ones, then the horizontal ones (8.7.2). They are on a grid of 8x8 samples; two of four samples in line are
// filtered together.
func (w *worker[T]) deblock(cy int) {
	w.edgeLimits = edgeLimits{} // those of another picture
	end, stride := min((cy+1)<<w.sps.ctb, w.sps.height), w.st.stride4
	for y := cy << w.sps.ctb; y < end; y += 8 {
		upper, lower := w.st.edgeV[y>>2*stride:][:stride], w.st.edgeV[(y>>2+1)*stride:][:stride]
		for i := 0; i < len(upper); i += 2 {
			if kinds := [2]uint8{upper[i], lower[i]}; kinds != [2]uint8{} {
				w.filterEdges(4*i, y, true, kinds)
			}
		}
	}
	for y := cy << w.sps.ctb; y < end; y += 8 {
		row := w.st.edgeH[y>>2*stride:][:stride]
		for i := 1; i < len(row); i += 2 {
			if kinds := [2]uint8{row[i-1], row[i]}; kinds != [2]uint8{} {
				w.filterEdges(4*i-4, y, false, kinds)
			}
		}
	}
}

// strength returns bS of four samples of an edge (8.7.2.4), from the places of the blocks on its sides and the
// reference lists of their slices.
func (w *worker[T]) strength(q, p int, lb, la *[2]refList, kind uint8) int {
	a, b := &w.f.motion[p], &w.f.motion[q]
	switch {
	case a.intra() || b.intra():
		return 2
	case kind == edgeTransform && (w.st.cbf[q] || w.st.cbf[p]):
		return 1
	case a.equals(b) && la == lb:
		return 0
	}
	ref := func(m *blockMotion, lists *[2]refList, l int) *frame {
		if m.ref[l] < 0 {
			return nil
		}
		return lists[l].refs[m.ref[l]]
	}
	a0, a1, b0, b1 := ref(a, la, 0), ref(a, la, 1), ref(b, lb, 0), ref(b, lb, 1)
	if !(a0 == b0 && a1 == b1 || a0 == b1 && a1 == b0) {
		return 1
	}
	far := func(v, u motion.Vector) bool {
		return abs(int(v.X)-int(u.X)) >= 4 || abs(int(v.Y)-int(u.Y)) >= 4
	}
	vector := func(m *blockMotion, l int) motion.Vector {
		if m.ref[l] < 0 {
			return motion.Vector{}
		}
		return m.mv[l]
	}
	straight := far(vector(a, 0), vector(b, 0)) || far(vector(a, 1), vector(b, 1))
	crossed := far(vector(a, 0), vector(b, 1)) || far(vector(a, 1), vector(b, 0))
	var different bool
	switch {
	case a0 == a1:
		different = straight && crossed
	case a0 == b0:
		different = straight
	default:
		different = crossed
	}
	if different {
		return 1
	}
	return 0
}

// edgeLimits are the thresholds of edges, which go by their quantiser and their slice: those of luma for each bS.
type edgeLimits struct {
	h    *sliceHeader
	qp   int
	beta int32
	tc   [3]int32
}

// limits returns the thresholds of an edge, which are often those of the one before.
func (w *worker[T]) limits(h *sliceHeader, qp int) *edgeLimits {
	l := &w.edgeLimits
	if l.h == h && l.qp == qp {
		return l
	}
	l.h, l.qp = h, qp
	l.beta = int32(betaTable[max(0, min(qp+h.beta, 51))]) << uint(w.depths[0]-8)
	for bs := 1; bs < 3; bs++ {
		l.tc[bs] = int32(tcTable[max(0, min(qp+2*(bs-1)+h.tc, 53))]) << uint(w.depths[0]-8)
	}
	return l
}

// filterEdges filters eight luma samples of an edge, the halves of which are of these kinds, and the chroma
// samples there. The smallest coding block has 8x8 samples, so that both halves have the same quantisers.
func (w *worker[T]) filterEdges(x, y int, vertical bool, kinds [2]uint8) {
	px, py, across, along := x, y-1, w.st.stride4, 1 // the steps are in 4x4 blocks
	if vertical {
		px, py, across, along = x-1, y, 1, w.st.stride4
	}
	ctb := y>>(w.ctb&7)*w.sps.ctbWidth + x>>(w.ctb&7)
	slice, before := w.f.sliceOf[ctb], w.f.sliceOf[py>>(w.ctb&7)*w.sps.ctbWidth+px>>(w.ctb&7)]
	h := w.st.headers[slice]
	cq, cp := w.cb(x, y), w.cb(px, py)
	qp := (int(w.st.qp[cq]) + int(w.st.qp[cp]) + 1) >> 1
	limits := w.limits(h, qp)
	beta := limits.beta
	if beta == 0 && qp+h.tc+max(0, w.pps.cbOffset, w.pps.crOffset) < leastTC-2 {
		return
	}
	var bs [2]int
	var tc [2]int32
	q := y>>2*w.st.stride4 + x>>2
	for i, kind := range kinds {
		if kind != 0 {
			bs[i] = w.strength(q, q-across, &w.f.lists[slice], &w.f.lists[before], kind)
			tc[i] = limits.tc[bs[i]]
		}
		q += along
	}
	keepQ, keepP := w.st.bypass[cq], w.st.bypass[cp]
	if p, most := &w.planes[0], int32(1)<<w.depths[0]-1; tc != [2]int32{} {
		if at := y*p.stride + x; keepP || keepQ || w.depths[0] > 10 {
			filterPair(p.pix, at, p.stride, vertical, beta, tc, most, keepP, keepQ)
		} else {
			w.k.deblock(p.pix, at, p.stride, vertical, beta, tc, most)
		}
	}
	if max(bs[0], bs[1]) < 2 || !w.sps.hasChroma() {
		return
	}
	if vertical && x>>w.shiftX[1]&7 != 0 || !vertical && y>>w.shiftY[1]&7 != 0 {
		return
	}
	from, to := 0, 8 // in luma samples
	if bs[0] < 2 {
		from = 4
	}
	if bs[1] < 2 {
		to = 4
	}
	for c := 1; c < 3; c++ {
		o := w.pps.cbOffset
		if c == 2 {
			o = w.pps.crOffset
		}
		p, at := &w.planes[c], 0
		e := chromaEdge{tc: int32(tcTable[max(0, min(w.chromaQP(qp+o)+2+h.tc, 53))]) << uint(w.depths[c]-8), most: int32(1)<<w.depths[c] - 1, keepP: keepP, keepQ: keepQ}
		if vertical {
			at, e.n = (y+from)>>w.shiftY[c]*p.stride+x>>w.shiftX[c], (to-from)>>w.shiftY[c]
			filterChromaDown(p.pix[at-2:], p.stride, &e)
		} else {
			at, e.n = y>>w.shiftY[c]*p.stride+(x+from)>>w.shiftX[c], (to-from)>>w.shiftX[c]
			filterChromaAcross(p.pix[at-2*p.stride:], p.stride, &e)
		}
	}
}

// chromaEdge is an edge of n chroma samples.
type chromaEdge struct {
	n            int
	tc, most     int32
	keepP, keepQ bool
}

// filter returns p0 and q0 after filtering (8.7.2.5.8).
func (e *chromaEdge) filter(p1, p0, q0, q1 int32) (p, q int32) {
	d := max(-e.tc, min(((q0-p0)<<2+p1-q1+4)>>3, e.tc))
	p, q = max(0, min(p0+d, e.most)), max(0, min(q0-d, e.most))
	if e.keepP {
		p = p0
	}
	if e.keepQ {
		q = q0
	}
	return p, q
}

// filterChromaDown filters rows across a vertical edge of chroma. pix[0] is p1 of the first one.
func filterChromaDown[T motion.Sample](pix []T, stride int, e *chromaEdge) {
	for i := range e.n {
		row := (*[4]T)(pix[i*stride:])
		p, q := e.filter(int32(row[0]), int32(row[1]), int32(row[2]), int32(row[3]))
		row[1], row[2] = T(p), T(q)
	}
}

// filterChromaAcross filters columns across a horizontal edge of chroma. pix[0] is p1 of the first one.
func filterChromaAcross[T motion.Sample](pix []T, stride int, e *chromaEdge) {
	p1, p0, q0, q1 := pix[:e.n], pix[stride:][:e.n], pix[2*stride:][:e.n], pix[3*stride:][:e.n]
	for i, v := range p1 {
		p, q := e.filter(int32(v), int32(p0[i]), int32(q0[i]), int32(q1[i]))
		p0[i], q0[i] = T(p), T(q)
	}
}

// deblockPair is filterPair of both sides of an edge.
func deblockPair[T motion.Sample](pix []T, at, stride int, vertical bool, beta int32, tc [2]int32, most int32) {
	filterPair(pix, at, stride, vertical, beta, tc, most, false, false)
}

// filterPair is filterLuma of two edges in line, where tc is not 0.
func filterPair[T motion.Sample](pix []T, at, stride int, vertical bool, beta int32, tc [2]int32, most int32, keepP, keepQ bool) {
	step := 4
	if vertical {
		step = 4 * stride
	}
	for i, tc := range tc {
		if tc != 0 {
			filterLuma(pix, at+i*step, stride, vertical, beta, tc, most, keepP, keepQ)
		}
	}
}

// filterLuma filters four lines across a luma edge (8.7.2.5.3, 8.7.2.5.6, 8.7.2.5.7). pix[at] is q0 of the
// first one.
func filterLuma[T motion.Sample](pix []T, at, stride int, vertical bool, beta, tc, most int32, keepP, keepQ bool) {
	across, along := stride, 1
	if vertical {
		across, along = 1, stride
	}
	all := pix[at-4*across : at+3*along+3*across+1]
	sample := func(line, k int) int32 { return int32(all[line*along+k*across]) } // p3 to q3
	dp0, dq0 := motion.Abs32(sample(0, 1)-2*sample(0, 2)+sample(0, 3)), motion.Abs32(sample(0, 6)-2*sample(0, 5)+sample(0, 4))
	dp3, dq3 := motion.Abs32(sample(3, 1)-2*sample(3, 2)+sample(3, 3)), motion.Abs32(sample(3, 6)-2*sample(3, 5)+sample(3, 4))
	if dp0+dq0+dp3+dq3 >= beta {
		return
	}
	strong := func(line int, d int32) bool {
		p0, q0 := sample(line, 3), sample(line, 4)
		return 2*d < beta>>2 && motion.Abs32(sample(line, 0)-p0)+motion.Abs32(q0-sample(line, 7)) < beta>>3 && motion.Abs32(p0-q0) < (5*tc+1)>>1
	}
	side := (beta + beta>>1) >> 3
	changeP, changeQ := dp0+dp3 < side, dq0+dq3 < side
	isStrong := strong(0, dp0+dq0) && strong(3, dp3+dq3)
	var l [8]int32
	for range 4 {
		for k := range l {
			l[k] = int32(all[k*across])
		}
		if isStrong {
			smoothStrongly(&l, tc)
		} else {
			smoothEdge(&l, tc, most, changeP, changeQ)
		}
		if !keepP {
			all[across], all[2*across], all[3*across] = T(l[1]), T(l[2]), T(l[3])
		}
		if !keepQ {
			all[4*across], all[5*across], all[6*across] = T(l[4]), T(l[5]), T(l[6])
		}
		if len(all) > along {
			all = all[along:]
		}
	}
}

// smoothStrongly filters three samples on both sides of an edge.
func smoothStrongly(l *[8]int32, tc int32) {
	p3, p2, p1, p0, q0, q1, q2, q3 := l[0], l[1], l[2], l[3], l[4], l[5], l[6], l[7]
	near := func(old, r int32) int32 { return max(old-2*tc, min(r, old+2*tc)) }
	l[1], l[2], l[3] = near(p2, (2*p3+3*p2+p1+p0+q0+4)>>3), near(p1, (p2+p1+p0+q0+2)>>2), near(p0, (p2+2*p1+2*p0+2*q0+q1+4)>>3)
	l[4], l[5], l[6] = near(q0, (p1+2*p0+2*q0+2*q1+q2+4)>>3), near(q1, (p0+q0+q1+q2+2)>>2), near(q2, (p0+q0+q1+3*q2+2*q3+4)>>3)
}

// smoothEdge filters one or two samples on both sides of an edge, if the step is small enough.
func smoothEdge(l *[8]int32, tc, most int32, changeP, changeQ bool) {
	p2, p1, p0, q0, q1, q2 := l[1], l[2], l[3], l[4], l[5], l[6]
	d := (9*(q0-p0) - 3*(q1-p1) + 8) >> 4
	if motion.Abs32(d) >= tc*10 {
		return
	}
	d = max(-tc, min(d, tc))
	l[3], l[4] = max(0, min(p0+d, most)), max(0, min(q0-d, most))
	if changeP {
		l[2] = max(0, min(p1+max(-(tc>>1), min(((p2+p0+1)>>1-p1+d)>>1, tc>>1)), most))
	}
	if changeQ {
		l[5] = max(0, min(q1+max(-(tc>>1), min(((q2+q0+1)>>1-q1-d)>>1, tc>>1)), most))
	}
}
