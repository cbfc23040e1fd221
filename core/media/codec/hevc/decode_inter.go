package hevc

import "vividstrain/core/media/codec/motion"

// Filters of fractional sample interpolation (tables 8-11 and 8-12).
var (
	lumaFilter   = [4][8]int32{{0, 0, 0, 64, 0, 0, 0, 0}, {-1, 4, -10, 58, 17, -5, 1, 0}, {-1, 4, -11, 40, 40, -11, 4, -1}, {0, 1, -5, 17, 58, -10, 4, -1}}
	chromaFilter = [8][4]int32{{0, 64, 0, 0}, {-2, 58, 10, -2}, {-4, 54, 16, -2}, {-6, 46, 28, -4}, {-4, 36, 36, -4}, {-4, 28, 46, -6}, {-2, 16, 54, -4}, {-2, 10, 58, -2}}
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
	n := 0
	for l := range 2 {
		if m.ref[l] < 0 {
			continue
		}
		ref := w.lists[l].refs[m.ref[l]]
		w.interpolate(w.pred[l][:], ref, c, x, y, bw, bh, m.mv[l])
		n++
	}
	w.weigh(c, x, y, bw, bh, m, n)
}

// interpolate fills dst, whose rows are 64 long, with samples of a reference, as 14-bit values.
func (w *worker[T]) interpolate(dst []int16, ref *frame, c, x, y, bw, bh int, v motion.Vector) {
	p := planeOf[T](ref, c)
	width, height := w.widths[c], w.heights[c]
	var fx, fy []int32
	var before, taps int
	if c == 0 {
		x, y = x+int(v.X)>>2, y+int(v.Y)>>2
		before, taps = 3, 8
		if f := v.X & 3; f != 0 {
			fx = lumaFilter[f][:]
		}
		if f := v.Y & 3; f != 0 {
			fy = lumaFilter[f][:]
		}
	} else {
		ux, uy := 2+w.shiftX[c], 2+w.shiftY[c] // fractional bits
		x, y = x+int(v.X)>>ux, y+int(v.Y)>>uy
		before, taps = 1, 4
		if f := int(v.X) & (1<<ux - 1) << (3 - ux); f != 0 {
			fx = chromaFilter[f][:]
		}
		if f := int(v.Y) & (1<<uy - 1) << (3 - uy); f != 0 {
			fy = chromaFilter[f][:]
		}
	}
	last := min(max(y+bh+taps-before, 0), height-1)
	ref.Await(wholeFrame, int32(last<<w.shiftY[c]))
	src, stride, at := p.pix, p.stride, (y-before)*p.stride+x-before
	if x < before || y < before || x+bw+taps-before > width || y+bh+taps-before > height {
		src, stride, at = w.padded(p, width, height, x-before, y-before, bw+taps-1, bh+taps-1), bw+taps-1, 0
	}
	shift := uint(w.depths[c] - 8)
	up := uint(14 - w.depths[c])
	line := at + before*stride
	switch {
	case fx == nil && fy == nil:
		for i := range bh {
			row := src[line+i*stride+before:][:bw]
			out := dst[i*64:][:bw]
			for k, s := range row {
				out[k] = int16(s) << up
			}
		}
	case fy == nil:
		for i := range bh {
			filter(dst[i*64:][:bw], src[line+i*stride:], 1, fx, shift)
		}
	case fx == nil:
		for i := range bh {
			filter(dst[i*64:][:bw], src[at+i*stride+before:], stride, fy, shift)
		}
	default:
		for i := range bh + taps - 1 {
			filter(w.rows[i*64:][:bw], src[at+i*stride:], 1, fx, shift)
		}
		for i := range bh {
			filter(dst[i*64:][:bw], w.rows[i*64:], 64, fy, 6)
		}
	}
}

// filter fills out with sums of samples that are step apart, by a filter of 8 or 4 taps.
func filter[E motion.Sample | int16](out []int16, src []E, step int, taps []int32, shift uint) {
	n := len(out)
	s0, s1, s2, s3 := src[:n], src[step:][:n], src[2*step:][:n], src[3*step:][:n]
	f0, f1, f2, f3 := taps[0], taps[1], taps[2], taps[3]
	if len(taps) == 4 {
		for k := range out {
			out[k] = int16((f0*int32(s0[k]) + f1*int32(s1[k]) + f2*int32(s2[k]) + f3*int32(s3[k])) >> shift)
		}
		return
	}
	s4, s5, s6, s7 := src[4*step:][:n], src[5*step:][:n], src[6*step:][:n], src[7*step:][:n]
	f4, f5, f6, f7 := taps[4], taps[5], taps[6], taps[7]
	for k := range out {
		out[k] = int16((f0*int32(s0[k]) + f1*int32(s1[k]) + f2*int32(s2[k]) + f3*int32(s3[k]) +
			f4*int32(s4[k]) + f5*int32(s5[k]) + f6*int32(s6[k]) + f7*int32(s7[k])) >> shift)
	}
}

// padded returns a block of a reference that reaches beyond its edges, whose samples go on there.
func (w *worker[T]) padded(p plane[T], width, height, x, y, bw, bh int) []T {
	out := w.edge[:bw*bh]
	for i := range bh {
		row := p.pix[max(0, min(y+i, height-1))*p.stride:]
		for k := range bw {
			out[i*bw+k] = row[max(0, min(x+k, width-1))]
		}
	}
	return out
}

// weigh combines one or two predictions (8.5.3.3.4).
func (w *worker[T]) weigh(c, x, y, bw, bh int, m *blockMotion, n int) {
	p, depth := &w.planes[c], w.depths[c]
	most := int32(1)<<depth - 1
	explicit := w.pps.weighted && w.h.kind == sliceP || w.pps.weightedBi && w.h.kind == sliceB
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
	for i := range bh {
		out := p.pix[(y+i)*p.stride+x:][:bw]
		a, b := w.pred[l][i*64:][:bw], w.pred[1][i*64:][:bw]
		for k := range out {
			var v int32
			switch {
			case n == 1 && !explicit:
				v = int32(a[k])
				if shift > 0 {
					v = (v + 1<<(shift-1)) >> shift
				}
			case n == 1:
				v = int32(a[k]) * w0
				if denominator >= 1 {
					v = (v + 1<<(denominator-1)) >> denominator
				}
				v += o0
			case !explicit:
				v = (int32(a[k]) + int32(b[k]) + 1<<shift) >> (shift + 1)
			default:
				v = (int32(a[k])*w0 + int32(b[k])*w1 + (o0+o1+1)<<denominator) >> (denominator + 1)
			}
			out[k] = T(max(0, min(v, most)))
		}
	}
}
