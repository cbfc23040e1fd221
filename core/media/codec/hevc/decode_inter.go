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

// predictPlane predicts a plane of a block by its motion.
func (w *worker[T]) predictPlane(c int, b *block, m *blockMotion) {
	x, y, bw, bh := b.x>>w.shiftX[c], b.y>>w.shiftY[c], b.w>>w.shiftX[c], b.h>>w.shiftY[c]
	if w.copyPlane(c, x, y, bw, bh, m) {
		return
	}
	n := 0
	for l := range 2 {
		if m.ref[l] < 0 {
			continue
		}
		w.interpolate(w.pred[l][:], l, int(m.ref[l]), c, x, y, bw, bh, m.mv[l])
		n++
	}
	w.weigh(c, x, y, bw, bh, m, n)
}

// copyPlane copies a block whose motion is one vector in whole samples, if it is, and nothing is weighted.
func (w *worker[T]) copyPlane(c, x, y, bw, bh int, m *blockMotion) bool {
	l := 0
	if m.ref[0] < 0 {
		l = 1
	}
	ux, uy := 2, 2 // fractional bits
	if c > 0 {
		ux, uy = ux+w.shiftX[c], uy+w.shiftY[c]
	}
	v := m.mv[l]
	if m.ref[1-l] >= 0 || int(v.X)&(1<<ux-1)|int(v.Y)&(1<<uy-1) != 0 || w.weighted() {
		return false
	}
	p := &w.planes[c]
	src, stride, at := w.around(l, int(m.ref[l]), c, x+int(v.X)>>ux, y+int(v.Y)>>uy, bw, bh, 0, 1)
	for width := motion.LineOf[T](); bw > 0; { // in parts that Copy can have
		for width > bw {
			width >>= 1
		}
		w.k.Copy(p.pix[y*p.stride+x:], p.stride, src[at:], stride, width, bh)
		x, at, bw = x+width, at+width, bw-width
	}
	return true
}

// weighted reports whether predictions have explicit weights.
func (w *worker[T]) weighted() bool {
	return w.pps.weighted && w.h.kind == sliceP || w.pps.weightedBi && w.h.kind == sliceB
}

// interpolate fills dst, whose rows are predStride long, with samples of a reference of a list, as 14-bit
// values.
func (w *worker[T]) interpolate(dst []int16, list, ref, c, x, y, bw, bh int, v motion.Vector) {
	var fx, fy *[8]int16 // of whole samples in a direction: nil
	before, taps := 3, 8
	if c == 0 {
		x, y = x+int(v.X)>>2, y+int(v.Y)>>2
		if f := v.X & 3; f != 0 {
			fx = &lumaFilter[f]
		}
		if f := v.Y & 3; f != 0 {
			fy = &lumaFilter[f]
		}
	} else {
		ux, uy := 2+w.shiftX[c], 2+w.shiftY[c] // fractional bits
		x, y = x+int(v.X)>>ux, y+int(v.Y)>>uy
		before, taps = 1, 4
		if f := int(v.X) & (1<<ux - 1) << (3 - ux); f != 0 {
			fx = &chromaFilter[f]
		}
		if f := int(v.Y) & (1<<uy - 1) << (3 - uy); f != 0 {
			fy = &chromaFilter[f]
		}
	}
	src, stride, at := w.around(list, ref, c, x, y, bw, bh, before, taps)
	shift := uint(w.depths[c] - 8)
	line := at + before*stride
	switch {
	case fy == nil:
		if fx == nil {
			if fx = &chromaFilter[0]; c == 0 {
				fx = &lumaFilter[0]
			}
		}
		w.k.across(dst, src[line:], stride, bw, bh, fx, taps, shift)
	case fx == nil:
		w.k.down(dst, src[at+before:], stride, bw, bh, fy, taps, shift)
	default:
		w.k.across(w.rows[:], src[at:], stride, bw, bh+taps-1, fx, taps, shift)
		w.k.downAgain(dst, w.rows[:], bw, bh, fy, taps, 6)
	}
}

// around returns the samples of a reference for a block at (x, y) with the neighbours that a filter needs:
// at is the place of the first one. Beyond its edges its samples go on.
func (w *worker[T]) around(list, ref, c, x, y, bw, bh, before, taps int) (src []T, stride, at int) {
	p, width, height := &w.refs[list][ref][c], w.widths[c], w.heights[c]
	last := min(max(y+bh+taps-before, 0), height-1)
	w.lists[list].refs[ref].Await(wholeFrame, int32(last<<w.shiftY[c]))
	if x < before || y < before || x+bw+taps-before > width || y+bh+taps-before > height {
		return w.padded(p, width, height, x-before, y-before, bw+taps-1, bh+taps-1), bw + taps - 1, 0
	}
	return p.pix, p.stride, (y-before)*p.stride + x - before
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

// weigh combines one or two predictions (8.5.3.3.4).
func (w *worker[T]) weigh(c, x, y, bw, bh int, m *blockMotion, n int) {
	p, depth := &w.planes[c], w.depths[c]
	most := int32(1)<<depth - 1
	explicit := w.weighted()
	shift := uint(14 - depth)
	l := 0
	if m.ref[0] < 0 {
		l = 1
	}
	var w0, w1, o0, o1 int32
	var denominator uint
	if explicit {
		t := &w.h.weights
		up := uint(depth - 8)
		if w.sps.ext.preciseOffsets {
			up = 0
		}
		denominator = uint(t.shift[min(c, 1)]) + shift
		w0, o0 = int32(t.weight[l][m.ref[l]][c]), int32(t.offset[l][m.ref[l]][c])<<up
		if n == 2 {
			w1, o1 = int32(t.weight[1][m.ref[1]][c]), int32(t.offset[1][m.ref[1]][c])<<up
		}
	}
	if !explicit {
		out := p.pix[y*p.stride+x:]
		if n == 1 {
			w.k.round(out, p.stride, w.pred[l][:], bw, bh, shift, most)
		} else {
			w.k.mean(out, p.stride, w.pred[0][:], w.pred[1][:], bw, bh, shift+1, most)
		}
		return
	}
	for i := range bh {
		out := p.pix[(y+i)*p.stride+x:][:bw]
		a, b := w.pred[l][i*predStride:][:bw], w.pred[1][i*predStride:][:bw]
		for k := range out {
			v := int32(a[k]) * w0
			if n == 2 {
				v = (v + int32(b[k])*w1 + (o0+o1+1)<<denominator) >> (denominator + 1)
			} else {
				if denominator >= 1 {
					v = (v + 1<<(denominator-1)) >> denominator
				}
				v += o0
			}
			out[k] = T(max(0, min(v, most)))
		}
	}
}
