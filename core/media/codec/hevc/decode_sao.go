package hevc

import "slices"

// saoParams is sample adaptive offset of a coding tree block, of three planes.
type saoParams struct {
	kind   [3]uint8 // 0 none, 1 band, 2 edge
	class  [3]uint8 // of edges, or the position of bands
	offset [3][4]int16
}

// readSAO reads sao (7.3.8.3).
func (w *worker[T]) readSAO(cx, cy int) {
	d, s := &w.cabac, w.sps
	rs := cy*s.ctbWidth + cx
	p := &w.st.sao[rs]
	l := w.st.layout
	if cx > 0 && rs > w.h.start && w.st.sliceAddr[rs-1] == w.st.sliceAddr[rs] && l.tileOf[rs] == l.tileOf[rs-1] && d.Decision(ctxSaoMerge) != 0 {
		*p = w.st.sao[rs-1]
		return
	}
	if up := rs - s.ctbWidth; cy > 0 && w.st.sliceAddr[up] == w.st.sliceAddr[rs] && l.tileOf[rs] == l.tileOf[up] && d.Decision(ctxSaoMerge) != 0 {
		*p = w.st.sao[up]
		return
	}
	*p = saoParams{}
	for c := range 3 {
		if c == 0 && !w.h.saoLuma || c > 0 && !w.h.saoC {
			continue
		}
		if c < 2 {
			if d.Decision(ctxSaoType) != 0 {
				p.kind[c] = 1 + uint8(d.Bypass())
			}
		} else {
			p.kind[2], p.class[2] = p.kind[1], p.class[1]
		}
		if p.kind[c] == 0 {
			continue
		}
		most := 1<<(min(w.depths[c], 10)-5) - 1
		for i := range 4 {
			n := 0
			for n < most && d.Bypass() != 0 {
				n++
			}
			p.offset[c][i] = int16(n)
		}
		read := func(n int) (v uint8) {
			for range n {
				v = v<<1 | uint8(d.Bypass())
			}
			return v
		}
		if p.kind[c] == 1 {
			for i := range 4 {
				if p.offset[c][i] != 0 && d.Bypass() != 0 {
					p.offset[c][i] = -p.offset[c][i]
				}
			}
			p.class[c] = read(5)
		} else {
			p.offset[c][2], p.offset[c][3] = -p.offset[c][2], -p.offset[c][3]
			if c < 2 {
				p.class[c] = read(2)
			}
		}
		shift := w.pps.saoShift
		if c > 0 {
			shift = w.pps.saoShiftC
		}
		for i := range 4 {
			p.offset[c][i] <<= shift
		}
	}
}

// sao applies the offsets to a row of coding tree blocks (8.7.3). They go by the samples before any
// offset, with one line above and below the row.
func (w *worker[T]) sao(cy int) {
	for c := range w.sps.chroma.Planes() {
		p := &w.planes[c]
		size := 1 << w.sps.ctb >> w.shiftY[c]
		y0 := cy * size
		y1 := min(y0+size, w.heights[c])
		if cy == 0 {
			w.saoAbove[c] = sized(w.saoAbove[c], p.stride)
		}
		if !w.hasSAO(cy, c) {
			copy(w.saoAbove[c], p.pix[(y1-1)*p.stride:])
			continue
		}
		w.saoRows = append(append(w.saoRows[:0], w.saoAbove[c]...), p.pix[y0*p.stride:min(y1+1, w.heights[c])*p.stride]...)
		copy(w.saoAbove[c], w.saoRows[(y1-y0)*p.stride:])
		for cx := range w.sps.ctbWidth {
			w.saoBlock(cx, cy, c)
		}
	}
}

// hasSAO reports whether any block of a row has offsets in a plane.
func (w *worker[T]) hasSAO(cy, c int) bool {
	row := w.st.sao[cy*w.sps.ctbWidth:][:w.sps.ctbWidth]
	return slices.ContainsFunc(row, func(p saoParams) bool { return p.kind[c] != 0 })
}

// saoSteps are the places of the first neighbour of each edge class; the second is opposite.
var saoSteps = [4][2]int{{-1, 0}, {0, -1}, {-1, -1}, {1, -1}}

// saoBlock applies the offsets of a coding tree block of a plane.
func (w *worker[T]) saoBlock(cx, cy, c int) {
	s := w.sps
	rs := cy*s.ctbWidth + cx
	params, h := &w.st.sao[rs], w.st.headers[w.f.sliceOf[rs]]
	if w.st.sliceAddr[rs] < 0 || params.kind[c] == 0 || c == 0 && !h.saoLuma || c > 0 && !h.saoC {
		return
	}
	p := &w.planes[c]
	most := int32(1)<<w.depths[c] - 1
	x0, y0 := cx<<s.ctb>>w.shiftX[c], cy<<s.ctb>>w.shiftY[c]
	x1, y1 := min(x0+1<<s.ctb>>w.shiftX[c], w.widths[c]), min(y0+1<<s.ctb>>w.shiftY[c], w.heights[c])
	var bands [32]int16
	shift := w.depths[c] - 5
	for i := range 4 {
		bands[(i+int(params.class[c]))&31] = params.offset[c][i]
	}
	byEdge := &w.offsets // by edgeIdx
	byEdge[0], byEdge[1], byEdge[3], byEdge[4] = params.offset[c][0], params.offset[c][1], params.offset[c][2], params.offset[c][3]
	before, first := w.saoRows, (y0-1)*p.stride // and the place of its first sample
	keeps := w.pps.bypass || w.sps.pcmUnfiltered
	if params.kind[c] == 1 {
		for y := y0; y < y1; y++ {
			row, old := p.pix[y*p.stride:][:x1], before[y*p.stride-first:][:x1]
			for x := x0; x < x1; x++ {
				if v := int32(old[x]); !keeps || !w.st.bypass[w.cb(x<<w.shiftX[c], y<<w.shiftY[c])] {
					row[x] = T(max(0, min(v+int32(bands[v>>shift]), most)))
				}
			}
		}
		return
	}
	step := saoSteps[params.class[c]&3]
	if keeps || !w.saoOpen(cx, cy) {
		w.saoEach(rs, c, x0, y0, x1, y1, step, byEdge, most)
		return
	}
	// Samples at the edges of the picture lack neighbours.
	if step[0] != 0 {
		x0, x1 = max(x0, 1), min(x1, w.widths[c]-1)
	}
	if step[1] != 0 {
		y0, y1 = max(y0, 1), min(y1, w.heights[c]-1)
	}
	at, n, rows := y0*p.stride+x0, x1-x0, y1-y0
	from, to := at-first, step[1]*p.stride+step[0]
	if n < 16 {
		addEdges(p.pix[at:], before, from, p.stride, to, n, rows, byEdge, most)
		return
	}
	w.k.edges(p.pix[at:], before, from, p.stride, to, n&^15, rows, byEdge, most)
	if last := n - 16; n&15 != 0 { // some samples twice, which does no harm
		w.k.edges(p.pix[at+last:], before, from+last, p.stride, to, 16, rows, byEdge, most)
	}
}

// saoOpen reports whether the samples of a coding tree block may be compared with those of all blocks
// around it.
func (w *worker[T]) saoOpen(cx, cy int) bool {
	if w.pps.columns*w.pps.rows == 1 && len(w.st.headers) == 1 {
		return true
	}
	rs := cy*w.sps.ctbWidth + cx
	for y := max(cy-1, 0); y <= min(cy+1, w.sps.ctbHeight-1); y++ {
		for x := max(cx-1, 0); x <= min(cx+1, w.sps.ctbWidth-1); x++ {
			if !w.saoCrosses(rs, y*w.sps.ctbWidth+x) {
				return false
			}
		}
	}
	return true
}

// saoEach applies edge offsets to those samples of a block that have neighbours to be compared with.
func (w *worker[T]) saoEach(rs, c, x0, y0, x1, y1 int, step [2]int, byEdge *[8]int16, most int32) {
	p, before, first := &w.planes[c], w.saoRows, (y0-1)*w.planes[c].stride
	keeps := w.pps.bypass || w.sps.pcmUnfiltered
	block := func(x, y int) int {
		return y<<w.shiftY[c]>>w.sps.ctb*w.sps.ctbWidth + x<<w.shiftX[c]>>w.sps.ctb
	}
	for y := y0; y < y1; y++ {
		for x := x0; x < x1; x++ {
			ax, ay, bx, by := x+step[0], y+step[1], x-step[0], y-step[1]
			if keeps && w.st.bypass[w.cb(x<<w.shiftX[c], y<<w.shiftY[c])] ||
				min(ax, bx, ay, by) < 0 || max(ax, bx) >= w.widths[c] || max(ay, by) >= w.heights[c] ||
				!w.saoCrosses(rs, block(ax, ay)) || !w.saoCrosses(rs, block(bx, by)) {
				continue
			}
			at := y*p.stride + x
			v, a, b := int32(before[at-first]), int32(before[ay*p.stride+ax-first]), int32(before[by*p.stride+bx-first])
			p.pix[at] = T(max(0, min(v+int32(byEdge[2+sign(v-a)+sign(v-b)]), most)))
		}
	}
}

func sign(v int32) int {
	switch {
	case v > 0:
		return 1
	case v < 0:
		return -1
	}
	return 0
}

// saoCrosses reports whether a sample of one block may be compared with one of another.
func (w *worker[T]) saoCrosses(rs, other int) bool {
	l := w.st.layout
	if other == rs {
		return true
	}
	if !w.pps.acrossTiles && l.tileOf[other] != l.tileOf[rs] {
		return false
	}
	if w.st.sliceAddr[other] == w.st.sliceAddr[rs] {
		return true
	}
	later := rs
	if l.rsToTs[other] > l.rsToTs[rs] {
		later = other
	}
	return w.st.sliceAddr[later] >= 0 && w.st.headers[w.f.sliceOf[later]].across
}
