package h264

import (
	"vividstrain/core/media/codec/motion"

	mathbits "math/bits"

	"vividstrain/core/media/codec/framepool"
)

// deblock filters the edges of the macroblock at x, y (8.7). The macroblocks to the left and
// above are already filtered, and no macroblock still to be intra predicted uses the samples
// that change.
func (r *recon[T]) deblock(x, y int) {
	d := r.d
	addr := y*d.width + x
	mb := &d.mbs[addr]
	if mb.slice == 0 {
		return
	}
	h := &d.pic.slices[mb.slice-1].h
	if h.noDeblock == 1 || d.isQuiet(h, x, y) {
		return
	}
	e := &r.edges
	e.h, e.mb, e.mv, e.field = h, mb, &d.motion[addr], h.structure != framepool.WholeFrame || mb.field
	d.x, d.y, d.h, d.field = x, y, h, mb.field
	r.place()
	if q := h.deblockKey(mb); q != e.key {
		e.key = q
		e.setFilters(&e.inside, mb)
	}
	e.vertical(x, y)
	e.horizontal(x, y)
}

// isQuiet reports whether no edge of the macroblock at x, y is filtered because of the quantisers on both sides.
func (d *sliceDecoder) isQuiet(h *sliceHeader, x, y int) bool {
	if h.mbaff {
		return false // the neighbours may be others
	}
	i, above := y*d.width+x, d.width
	if h.structure != framepool.WholeFrame {
		above = 2 * d.width
	}
	return h.isQuiet(&d.mbs[i]) && (x == 0 || h.isQuiet(&d.mbs[i-1])) && (i < above || h.isQuiet(&d.mbs[i-above]))
}

// isQuiet reports whether the edge between two such macroblocks is not filtered: alpha is 0 (table 8-16).
func (h *sliceHeader) isQuiet(m *mbInfo) bool {
	return int(max(m.qp, m.qpc[0], m.qpc[1]))+int(h.alphaOff) < firstAlpha
}

// firstAlpha is the first index of alphas that has a value.
const firstAlpha = 16

// strengths are four strengths bS along an edge, a byte each, the first one the lowest.
type strengths uint32

// at returns one of them.
func (s strengths) at(i int) uint8 { return uint8(s >> (8 * i)) }

// allOf returns a strength along the whole edge.
func allOf(bs uint8) strengths { return strengths(bs) * 0x1010101 }

// edges filters the edges of one macroblock.
type edges[T motion.Sample] struct {
	r         *recon[T]
	h         *sliceHeader
	mb        *mbInfo
	mv        *mbMotion
	field     bool             // a field macroblock or one of a field
	inside    [3]edgeFilter[T] // for the edges within the macroblock, by plane
	across    [3]edgeFilter[T] // for the edge to another one
	key       uint64           // of inside
	strengths [4]strengths     // of the edges within the macroblock
}

// deblockKey is all that the filters for the edges within a macroblock depend on; it is never 0.
func (h *sliceHeader) deblockKey(m *mbInfo) uint64 {
	return 1 | uint64(uint8(m.qp))<<8 | uint64(uint8(m.qpc[0]))<<16 | uint64(uint8(m.qpc[1]))<<24 |
		uint64(uint8(h.alphaOff))<<32 | uint64(uint8(h.betaOff))<<40
}

// setFilters sets the filters for the edges between the macroblock and pm.
func (e *edges[T]) setFilters(f *[3]edgeFilter[T], pm *mbInfo) {
	f[0] = e.filter(0, pm.qp, e.mb.qp)
	for i := 1; i < e.r.planes; i++ {
		f[i] = e.filter(i, pm.qpc[i-1], e.mb.qpc[i-1])
	}
}

// between returns the filters for the edges between the macroblock and pm.
func (e *edges[T]) between(pm *mbInfo) *[3]edgeFilter[T] {
	if pm.qp == e.mb.qp && pm.qpc == e.mb.qpc {
		return &e.inside
	}
	e.setFilters(&e.across, pm)
	return &e.across
}

// neighbour returns the macroblock at x, y if its edge is to be filtered, else
// -1.
func (e *edges[T]) neighbour(x, y int) int {
	d := e.r.d
	if x < 0 || y < 0 {
		return -1
	}
	i := y*d.width + x
	if d.mbs[i].slice == 0 || e.h.noDeblock == 2 && d.mbs[i].slice != e.mb.slice {
		return -1
	}
	return i
}

func (e *edges[T]) vertical(x, y int) {
	r := e.r
	if i := e.neighbour(x-1, y); i >= 0 {
		if e.h.mbaff && r.d.mbs[i].field != e.mb.field {
			e.mixedLeft(x, y)
		} else {
			if bs := e.outer(i, 3, 1); bs != 0 {
				e.border(bs, true, &r.d.mbs[i])
			}
		}
	}
	e.within(true, 1)
}

// within filters the edges within the macroblock; step is as for inner.
func (e *edges[T]) within(columns bool, step int) {
	r, f, bs := e.r, &e.inside, &e.strengths
	switch {
	case e.mb.intra():
		*bs = [4]strengths{0, allOf(3), allOf(3), allOf(3)} // odd edges in 8x8 transforms are passed over below
	case e.mb.still && e.mb.luma == 0:
		return
	default:
		any := strengths(0)
		for k := 1; k < 4; k++ {
			bs[k] = e.inner(k, step)
			any |= bs[k]
		}
		if any == 0 {
			return
		}
	}
	if r.planes == 3 && f[1].alpha|f[2].alpha != 0 {
		e.chromaWithin(columns, bs)
	}
	if e.mb.transform8 {
		bs[1], bs[3] = 0, 0
	}
	if f[0].alpha != 0 && bs[1]|bs[2]|bs[3] != 0 {
		r.k.lumaInner(r.luma, r.at, r.stride, columns, &f[0], bs)
	}
}

// chromaWithin filters the edges of chroma within the macroblock.
func (e *edges[T]) chromaWithin(columns bool, bs *[4]strengths) {
	if bs[2] != 0 {
		e.chromaEdge(bs[2], 2, columns, &e.inside)
	}
	if columns || e.r.chromaShift == 1 {
		return
	}
	for k := 1; k < 4; k += 2 {
		if bs[k] != 0 {
			e.chromaEdge(bs[k], k, false, &e.inside)
		}
	}
}

// outer returns the strengths of the edge to macroblock i, which begins there with
// block first; step is as for inner.
func (e *edges[T]) outer(i, first, step int) (bs strengths) {
	pm, pv := &e.r.d.mbs[i], &e.r.d.motion[i]
	if pm.intra() || e.mb.intra() {
		return allOf(e.intraStrength(pm, step == 1))
	}
	if pm.still && e.mb.still && !e.h.mbaff {
		coded := pm.luma>>first | e.mb.luma
		if step == 1 {
			coded = inColumn(coded)
		}
		return codedStrengths[oneIf(differs(pv, e.mv, first, 0, e.limit()))][coded&15]
	}
	for j := range 4 {
		q := j * (5 - step)
		bs |= strengths(e.strength(pm, pv, first+q, q, true, step == 1)) << (8 * j)
	}
	return bs
}

// limit is the difference between vertical vector components from which blocks count as moving
// differently.
func (e *edges[T]) limit() int32 {
	if e.field {
		return 2
	}
	return 4
}

// inner returns the strengths of inner edge k; step is the way across it in 4x4
// blocks: 1 for vertical edges, 4 for horizontal ones.
func (e *edges[T]) inner(k, step int) (bs strengths) {
	// Of odd edges in a macroblock of 8x8 transforms only the chroma of
	// 4:2:2 has some.
	if k&1 != 0 && e.mb.transform8 && (step == 1 || e.r.chromaShift == 1) {
		return 0
	}
	if e.mb.still {
		coded := e.mb.luma>>(k*step) | e.mb.luma>>(k*step-step)
		if step == 1 {
			coded = inColumn(coded)
		}
		return codedStrengths[0][coded&15]
	}
	for j := range 4 {
		q := k*step + j*(5-step)
		bs |= strengths(e.strength(e.mb, e.mv, q-step, q, false, step == 1)) << (8 * j)
	}
	return bs
}

// inColumn returns the bits of a column of 4x4 blocks: every fourth of blocks, from the first
// on.
func inColumn(blocks uint16) uint16 { return uint16(uint32(blocks&0x1111) * 0x1248 >> 12) }

// codedStrengths holds the four strengths bS along an edge, by which blocks beside it have
// coefficients (a bit each) and whether both sides are predicted alike.
var codedStrengths = func() (t [2][16]strengths) {
	for apart := range t {
		for coded := range t[apart] {
			for j := range 4 {
				t[apart][coded] |= strengths(max(apart, coded>>j&1<<1)) << (8 * j)
			}
		}
	}
	return t
}()

// strength derives bS between block p of a neighbour and block q of the
// macroblock (8.7.2.1).
func (e *edges[T]) strength(pm *mbInfo, pv *mbMotion, p, q int, edge, vertical bool) uint8 {
	if pm.intra() || e.mb.intra() {
		if edge {
			return e.intraStrength(pm, vertical)
		}
		return 3
	}
	if pm.luma>>p&1|e.mb.luma>>q&1 != 0 {
		return 2
	}
	if e.h.mbaff && pm.field != e.mb.field {
		return 1
	}
	if differs(pv, e.mv, p, q, e.limit()) {
		return 1
	}
	return 0
}

// intraStrength is strength at the edge of a macroblock where one of both sides is intra predicted.
func (e *edges[T]) intraStrength(pm *mbInfo, vertical bool) uint8 {
	if vertical || !e.field && !pm.field {
		return 4
	}
	return 3
}

// differs reports whether two blocks are predicted from different pictures, or with vectors that
// differ by at least one sample.
func differs(pv, qv *mbMotion, p, q int, limit int32) bool {
	p8, q8 := p>>3<<1|p>>1&1, q>>3<<1|q>>1&1
	p0, p1, q0, q1 := pv.id[0][p8], pv.id[1][p8], qv.id[0][q8], qv.id[1][q8]
	far := func(lp, lq int, used int32) bool {
		if used < 0 {
			return false
		}
		a, b := pv.mv[lp][p], qv.mv[lq][q]
		return motion.Abs32(int32(a.X)-int32(b.X)) >= 4 || motion.Abs32(int32(a.Y)-int32(b.Y)) >= limit
	}
	switch {
	case p0 == q0 && p1 == q1:
		return (far(0, 0, p0) || far(1, 1, p1)) && (p0 != p1 || far(0, 1, p0) || far(1, 0, p1))
	case p0 == q1 && p1 == q0:
		return far(0, 1, p0) || far(1, 0, p1)
	}
	return true
}

// border filters the edge to another macroblock, with columns the left one, else the upper one; each strength is
// for four lines.
func (e *edges[T]) border(bs strengths, columns bool, pm *mbInfo) {
	r, f := e.r, e.between(pm)
	if f[0].alpha != 0 {
		r.k.lumaEdge(r.luma, r.at, r.stride, columns, &f[0], bs)
	}
	if r.planes == 3 && f[1].alpha|f[2].alpha != 0 {
		e.chromaEdge(bs, 0, columns, f)
	}
}

// chromaEdge filters the edge of chroma that belongs to edge k of luma.
func (e *edges[T]) chromaEdge(bs strengths, k int, columns bool, f *[3]edgeFilter[T]) {
	r, both := e.r, (*[2]edgeFilter[T])(f[1:])
	at := r.chromaAt + r.toChroma(4*k)*r.chromaStride
	if columns {
		at = r.chromaAt + 2*k
	}
	if !columns || r.chromaShift == 1 {
		r.k.chromaEdges(&r.chroma, at, r.chromaStride, columns, both, bs)
		return
	}
	r.k.chromaEdges(&r.chroma, at, r.chromaStride, true, both, bs&0xFF*0x101|bs>>8&0xFF*0x1010000)
	r.k.chromaEdges(&r.chroma, at+8*r.chromaStride, r.chromaStride, true, both, bs>>16&0xFF*0x101|bs>>24*0x1010000)
}

func (e *edges[T]) horizontal(x, y int) {
	e.topEdge(x, y)
	e.within(false, 4)
}

func (e *edges[T]) topEdge(x, y int) {
	d := e.r.d
	above := y - 1
	switch {
	case e.h.structure != framepool.WholeFrame:
		above = y - 2
	case e.h.mbaff && e.mb.field:
		above = y&^1 - 1
		if i := e.neighbour(x, y&^1-2); i >= 0 && d.mbs[i].field {
			above = y - 2
		}
	case e.h.mbaff && y&1 == 0:
		if i := e.neighbour(x, y-2); i >= 0 && d.mbs[i].field {
			e.mixedTop(i)
			return
		}
	}
	i := e.neighbour(x, above)
	if i < 0 {
		return
	}
	if bs := e.outer(i, 12, 4); bs != 0 {
		e.border(bs, false, &d.mbs[i])
	}
}

// mixedTop filters the top edge of a frame macroblock that is under a pair of field macroblocks,
// whose top one has index i: each field on its own.
func (e *edges[T]) mixedTop(i int) {
	r := e.r
	at, chromaAt, stride, chromaStride := r.at, r.chromaAt, r.stride, r.chromaStride
	r.stride, r.chromaStride = 2*stride, 2*chromaStride
	for parity := range 2 {
		pm := &r.d.mbs[i+parity*r.d.width]
		bs := e.outer(i+parity*r.d.width, 12, 4)
		r.at, r.chromaAt = at+parity*stride, chromaAt+parity*chromaStride
		e.border(bs, false, pm)
	}
	r.at, r.chromaAt, r.stride, r.chromaStride = at, chromaAt, stride, chromaStride
}

// mixedLeft filters the left edge between a pair of frame macroblocks and one
// of field macroblocks, row by row.
func (e *edges[T]) mixedLeft(x, y int) {
	r, d := e.r, e.r.d
	left := (y&^1)*d.width + x - 1
	beside := func(row int) (mb, block int) { // what is to the left of a row of luma
		if e.mb.field {
			line := 2*row + y&1
			return left + line>>4*d.width, line & 15 >> 2
		}
		line := row + y&1*16
		return left + line&1*d.width, line >> 3
	}
	strengthAt := func(row int) (b uint8, pm *mbInfo) {
		i, block := beside(row)
		return e.strength(&d.mbs[i], &d.motion[i], 4*block+3, row>>2*4, true, true), &d.mbs[i]
	}
	for row := range 16 {
		b, pm := strengthAt(row)
		f := e.filter(0, pm.qp, e.mb.qp)
		if at := r.at + row*r.stride; b == 4 {
			f.strong(r.luma, at, 1)
		} else {
			f.normal(r.luma, at, 1, f.limit(b))
		}
	}
	if r.planes == 1 {
		return
	}
	for row := range r.chromaRows {
		luma := row
		if r.chromaShift == 1 {
			luma = row >> 1 * 4
			if e.mb.field {
				luma = 2 * row
			} else {
				luma += row & 1
			}
		}
		b, pm := strengthAt(luma)
		for i := range r.chroma {
			f := e.filter(1+i, pm.qpc[i], e.mb.qpc[i])
			f.chromaLine(r.chroma[i], r.chromaAt+row*r.chromaStride, 1, b)
		}
	}
}

// edgeFilter holds the thresholds of an edge (8.7.2.2). The assembly relies on the order of its
// fields.
type edgeFilter[T motion.Sample] struct {
	alpha, beta int32
	tc0         [8]int8 // indexed by bS
	shift       uint    // scales tc0 for the bit depth
	most        int32
}

// filter derives the thresholds for a plane from the quantisers on both sides.
func (e *edges[T]) filter(plane int, qpP, qpQ int8) edgeFilter[T] {
	qp := (int(qpP) + int(qpQ) + 1) >> 1
	a, b := max(0, min(qp+int(e.h.alphaOff), 51)), max(0, min(qp+int(e.h.betaOff), 51))
	most := e.r.maxSample[plane]
	shift := uint(mathbits.Len32(uint32(most)) - 8)
	return edgeFilter[T]{int32(alphas[a]) << shift, int32(betas[b]) << shift, tc0ByStrength[a], shift, most}
}

// limit returns tC0 for a strength bS under 4.
func (f *edgeFilter[T]) limit(bs uint8) int32 { return int32(f.tc0[bs&7]) << f.shift }

// normal filters a line of luma with bS under 4 (8.7.2.3).
func (f *edgeFilter[T]) normal(pix []T, at, across int, tc0 int32) {
	p0, p1, p2 := int32(pix[at-across]), int32(pix[at-2*across]), int32(pix[at-3*across])
	q0, q1, q2 := int32(pix[at]), int32(pix[at+across]), int32(pix[at+2*across])
	if motion.Abs32(p0-q0) >= f.alpha || motion.Abs32(p1-p0) >= f.beta || motion.Abs32(q1-q0) >= f.beta {
		return
	}
	tc := tc0
	if motion.Abs32(p2-p0) < f.beta {
		tc++
		pix[at-2*across] = T(p1 + clip3(-tc0, tc0, (p2+(p0+q0+1)>>1-2*p1)>>1))
	}
	if motion.Abs32(q2-q0) < f.beta {
		tc++
		pix[at+across] = T(q1 + clip3(-tc0, tc0, (q2+(p0+q0+1)>>1-2*q1)>>1))
	}
	delta := clip3(-tc, tc, ((q0-p0)*4+p1-q1+4)>>3)
	pix[at-across], pix[at] = clip[T](p0+delta, f.most), clip[T](q0-delta, f.most)
}

// strong filters a line of luma with bS 4 (8.7.2.4).
func (f *edgeFilter[T]) strong(pix []T, at, across int) {
	p0, p1, p2 := int32(pix[at-across]), int32(pix[at-2*across]), int32(pix[at-3*across])
	q0, q1, q2 := int32(pix[at]), int32(pix[at+across]), int32(pix[at+2*across])
	gap := motion.Abs32(p0 - q0)
	if gap >= f.alpha || motion.Abs32(p1-p0) >= f.beta || motion.Abs32(q1-q0) >= f.beta {
		return
	}
	small := gap < f.alpha>>2+2
	if small && motion.Abs32(p2-p0) < f.beta {
		p3 := int32(pix[at-4*across])
		pix[at-across] = T((p2 + 2*p1 + 2*p0 + 2*q0 + q1 + 4) >> 3)
		pix[at-2*across] = T((p2 + p1 + p0 + q0 + 2) >> 2)
		pix[at-3*across] = T((2*p3 + 3*p2 + p1 + p0 + q0 + 4) >> 3)
	} else {
		pix[at-across] = T((2*p1 + p0 + q1 + 2) >> 2)
	}
	if small && motion.Abs32(q2-q0) < f.beta {
		q3 := int32(pix[at+3*across])
		pix[at] = T((p1 + 2*p0 + 2*q0 + 2*q1 + q2 + 4) >> 3)
		pix[at+across] = T((p0 + q0 + q1 + q2 + 2) >> 2)
		pix[at+2*across] = T((2*q3 + 3*q2 + q1 + q0 + p0 + 4) >> 3)
	} else {
		pix[at] = T((2*q1 + q0 + p1 + 2) >> 2)
	}
}

// chromaLine filters a line of chroma.
func (f *edgeFilter[T]) chromaLine(pix []T, at, across int, bs uint8) {
	p0, p1 := int32(pix[at-across]), int32(pix[at-2*across])
	q0, q1 := int32(pix[at]), int32(pix[at+across])
	if motion.Abs32(p0-q0) >= f.alpha || motion.Abs32(p1-p0) >= f.beta || motion.Abs32(q1-q0) >= f.beta {
		return
	}
	if bs == 4 {
		pix[at-across] = T((2*p1 + p0 + q1 + 2) >> 2)
		pix[at] = T((2*q1 + q0 + p1 + 2) >> 2)
		return
	}
	tc := f.limit(bs) + 1
	delta := clip3(-tc, tc, ((q0-p0)*4+p1-q1+4)>>3)
	pix[at-across], pix[at] = clip[T](p0+delta, f.most), clip[T](q0-delta, f.most)
}

// tc0ByStrength is tC0 by indexA and bS; negative means that nothing is filtered.
var tc0ByStrength = func() (t [52][8]int8) {
	for a, row := range tc0s {
		t[a] = [8]int8{-1, int8(row[0]), int8(row[1]), int8(row[2])}
	}
	return t
}()

// alphas, betas and tc0s are tables 8-16 and 8-17; tc0s is indexed by bS - 1.
var (
	alphas = [52]uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 4, 4, 5, 6, 7, 8, 9, 10, 12, 13, 15, 17, 20, 22, 25, 28,
		32, 36, 40, 45, 50, 56, 63, 71, 80, 90, 101, 113, 127, 144, 162, 182, 203, 226, 255, 255}
	betas = [52]uint8{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 6, 6, 7, 7, 8, 8,
		9, 9, 10, 10, 11, 11, 12, 12, 13, 13, 14, 14, 15, 15, 16, 16, 17, 17, 18, 18}
	tc0s = [52][4]uint8{{0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0},
		{0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0}, {0, 0, 0},
		{0, 0, 1}, {0, 0, 1}, {0, 0, 1}, {0, 0, 1}, {0, 1, 1}, {0, 1, 1}, {1, 1, 1}, {1, 1, 1}, {1, 1, 1}, {1, 1, 1},
		{1, 1, 2}, {1, 1, 2}, {1, 1, 2}, {1, 1, 2}, {1, 2, 3}, {1, 2, 3}, {2, 2, 3}, {2, 2, 4}, {2, 3, 4}, {2, 3, 4},
		{3, 3, 5}, {3, 4, 6}, {3, 4, 6}, {4, 5, 7}, {4, 5, 8}, {4, 6, 9}, {5, 7, 10}, {6, 8, 11}, {6, 8, 13},
		{7, 10, 14}, {8, 11, 16}, {9, 12, 18}, {10, 13, 20}, {11, 15, 23}, {13, 17, 25}}
)
