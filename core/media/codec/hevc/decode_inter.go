package hevc

import "vividstrain/core/media/codec/motion"

// Filters of fractional sample interpolation (tables 8-11 and 8-12).
var (
	lumaFilter   = [4][8]int16{{0, 0, 0, 64, 0, 0, 0, 0}, {-1, 4, -10, 58, 17, -5, 1, 0}, {-1, 4, -11, 40, 40, -11, 4, -1}, {0, 1, -5, 17, 58, -10, 4, -1}}
	chromaFilter = [8][8]int16{{0, 64}, {-2, 58, 10, -2}, {-4, 54, 16, -2}, {-6, 46, 28, -4}, {-4, 36, 36, -4}, {-4, 28, 46, -6}, {-2, 16, 54, -4}, {-2, 10, 58, -2}}
)

// predictInter predicts a block by its motion (8.5.3.3).
func (w *worker[T]) predictInter(b *block, m *blockMotion) {
	for c := range w.sps.chroma.Planes() {
		w.predictPlane(c, b, m)
	}
}

// predictPlane predicts a plane of a block by its motion, luma first.
func (w *worker[T]) predictPlane(c int, b *block, m *blockMotion) {
	at := area{c, b.x >> w.shiftX[c], b.y >> w.shiftY[c], b.w >> w.shiftX[c], b.h >> w.shiftY[c]}
	if c == 0 {
		w.await(b, m)
	}
	p, depth := &w.planes[c], w.depths[c]
	out := p.pix[at.y*p.stride+at.x:]
	shift, most := uint(14-depth), int32(1)<<depth-1
	switch l := m.single(); {
	case w.weighted():
		w.weigh(out, &at, m)
	case l < 0:
		for l := range 2 {
			s := w.sourceOf(&at, l, m, false)
			w.interpolate(w.pred[l][:], &s, &at)
		}
		w.k.mean(out, p.stride, w.pred[0][:], w.pred[1][:], at.w, at.h, shift+1, most)
	default:
		s := w.sourceOf(&at, l, m, true)
		if s.fx|s.fy == 0 {
			w.copyBlock(out, p.stride, &s, at.w, at.h)
			return
		}
		w.interpolate(w.pred[0][:], &s, &at)
		w.k.round(out, p.stride, w.pred[0][:], at.w, at.h, shift, most)
	}
}

// area is a block of samples of plane c.
type area struct{ c, x, y, w, h int }

// single returns the list of a block's only reference, -1 if it has two.
func (m *blockMotion) single() int {
	switch {
	case m.ref[1] < 0:
		return 0
	case m.ref[0] < 0:
		return 1
	}
	return -1
}

// weighted reports whether predictions have explicit weights.
func (w *worker[T]) weighted() bool {
	return w.pps.weighted && w.h.kind == sliceP || w.pps.weightedBi && w.h.kind == sliceB
}

// await waits for the rows of references that a block is predicted from.
func (w *worker[T]) await(b *block, m *blockMotion) {
	for l, ref := range m.ref {
		if ref >= 0 {
			last := min(max(b.y+int(m.mv[l].Y)>>2+b.h+5, 0), w.heights[0]-1)
			w.lists[l].refs[ref&(maxDPB-1)].Await(wholeFrame, int32(last))
		}
	}
}

// source are the samples of a reference for a block: at is the place of the first one, in whole samples, and fx and
// fy are the rest of its motion, in eighths.
type source[T motion.Sample] struct {
	pix        []T
	stride, at int
	fx, fy     int
}

// sourceOf returns the samples for a block's prediction from a list, with the neighbours that a filter needs, but for
// whole samples that are copied as they are. Beyond the edges of the reference its samples go on.
func (w *worker[T]) sourceOf(b *area, list int, m *blockMotion, copied bool) (s source[T]) {
	v, ux, uy := m.mv[list], 2, 2 // fractional bits
	before, after := 3, 4
	if b.c > 0 {
		ux, uy, before, after = 2+w.shiftX[1], 2+w.shiftY[1], 1, 2
	}
	s.fx, s.fy = int(v.X)&(1<<(ux&7)-1)<<(3-ux&7), int(v.Y)&(1<<(uy&7)-1)<<(3-uy&7)
	if copied && s.fx|s.fy == 0 {
		before, after = 0, 0
	}
	x, y := b.x+int(v.X)>>(ux&7), b.y+int(v.Y)>>(uy&7)
	p := &w.refs[list][m.ref[list]&(maxDPB-1)][b.c]
	if x < before || y < before || x+b.w+after > w.widths[b.c] || y+b.h+after > w.heights[b.c] {
		s.stride = b.w + before + after
		s.pix, s.at = w.padded(p, w.widths[b.c], w.heights[b.c], x-before, y-before, s.stride, b.h+before+after), before*s.stride+before
		return s
	}
	s.pix, s.stride, s.at = p.pix, p.stride, y*p.stride+x
	return s
}

// copyBlock copies a block of w x h samples.
func (w *worker[T]) copyBlock(out []T, stride int, s *source[T], width, height int) {
	at := 0
	for part := motion.LineOf[T](); at < width; at += part { // in parts that Copy can have
		for part > width-at {
			part >>= 1
		}
		w.k.Copy(out[at:], stride, s.pix[s.at+at:], s.stride, part, height)
	}
}

// interpolate fills dst, whose rows are predStride long, with the samples of a source, as 14-bit values.
func (w *worker[T]) interpolate(dst []int16, s *source[T], b *area) {
	taps, before := 8, 3
	fx, fy := &lumaFilter[s.fx>>1&3], &lumaFilter[s.fy>>1&3]
	if b.c > 0 {
		taps, before = 4, 1
		fx, fy = &chromaFilter[s.fx&7], &chromaFilter[s.fy&7]
	}
	shift := uint(w.depths[b.c] - 8)
	switch {
	case s.fy == 0:
		w.k.across(dst, s.pix[s.at-before:], s.stride, b.w, b.h, fx, taps, shift)
	case s.fx == 0:
		w.k.down(dst, s.pix[s.at-before*s.stride:], s.stride, b.w, b.h, fy, taps, shift)
	default:
		w.k.across(w.rows[:], s.pix[s.at-before*s.stride-before:], s.stride, b.w, b.h+taps-1, fx, taps, shift)
		w.k.downAgain(dst, w.rows[:], b.w, b.h, fy, taps, 6)
	}
}

// padded returns a block of a reference that reaches beyond its edges, whose samples go on there.
func (w *worker[T]) padded(p *plane[T], width, height, x, y, bw, bh int) []T {
	out := w.edge[:]
	left, right := max(0, min(-x, bw)), max(0, min(x+bw-width, bw))
	for i := range bh {
		row, line := p.pix[max(0, min(y+i, height-1))*p.stride:], out[i*bw:][:bw]
		if left+right < bw {
			copy(line[left:bw-right], row[x+left:])
		}
		for k := range left {
			line[k] = row[0]
		}
		for k := bw - right; k < bw; k++ {
			line[k] = row[width-1]
		}
	}
	return out
}

// weigh predicts a plane of a block with explicit weights (8.5.3.3.4.3).
func (w *worker[T]) weigh(out []T, b *area, m *blockMotion) {
	stride, depth := w.planes[b.c].stride, w.depths[b.c]
	t, up, most := &w.h.weights, uint(depth-8), int32(1)<<depth-1
	if w.sps.ext.preciseOffsets {
		up = 0
	}
	denominator := uint(t.shift[min(b.c, 1)]) + uint(14-depth)
	var weight, offset [2]int32
	for l, ref := range m.ref {
		if ref >= 0 {
			weight[l], offset[l] = int32(t.weight[l][ref][b.c]), int32(t.offset[l][ref][b.c])<<up
			s := w.sourceOf(b, l, m, false)
			w.interpolate(w.pred[l][:], &s, b)
		}
	}
	single := m.single()
	for y := range b.h {
		row := out[y*stride:][:b.w]
		p, q := w.pred[max(single, 0)][y*predStride:][:b.w], w.pred[1][y*predStride:][:b.w]
		for x := range row {
			var v int32
			switch {
			case single < 0:
				v = (int32(p[x])*weight[0] + int32(q[x])*weight[1] + (offset[0]+offset[1]+1)<<denominator) >> (denominator + 1)
			default:
				v = (int32(p[x])*weight[single]+1<<denominator>>1)>>denominator + offset[single]
			}
			row[x] = T(max(0, min(v, most)))
		}
	}
}
