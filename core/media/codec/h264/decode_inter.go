package h264

import (
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// interPart is a partition of a macroblock: it is predicted with one set of vectors.
type interPart struct {
	x, y, w, h int // in luma samples, within the macroblock
	block      int // its first 4x4 block
}

// inter predicts an inter macroblock (8.4.2).
func (r *recon[T]) inter() {
	d := r.d
	switch d.shape {
	case part16x16:
		r.part(&interPart{0, 0, 16, 16, 0})
	case part16x8:
		r.part(&interPart{0, 0, 16, 8, 0})
		r.part(&interPart{0, 8, 16, 8, 8})
	case part8x16:
		r.part(&interPart{0, 0, 8, 16, 0})
		r.part(&interPart{8, 0, 8, 16, 2})
	default:
		if d.mb.direct == 15 && r.uniform() {
			r.part(&interPart{0, 0, 16, 16, 0})
			return
		}
		for b8 := range 4 {
			r.sub(b8)
		}
	}
}

// uniform reports whether the whole macroblock has one motion, which is frequent with direct
// prediction.
func (r *recon[T]) uniform() bool {
	m := r.d.mv
	for l := range 2 {
		if m.ref[l] != [4]int8{m.ref[l][0], m.ref[l][0], m.ref[l][0], m.ref[l][0]} {
			return false
		}
		if m.ref[l][0] < 0 {
			continue
		}
		for _, v := range &m.mv[l] {
			if v != m.mv[l][0] {
				return false
			}
		}
	}
	return true
}

func (r *recon[T]) sub(b8 int) {
	x, y := b8&1*8, b8>>1*8
	first := b8&1*2 + b8>>1*8
	w, h := subSizes[r.d.sub[b8]][0], subSizes[r.d.sub[b8]][1]
	for j := 0; j < 2; j += h {
		for i := 0; i < 2; i += w {
			r.part(&interPart{x + 4*i, y + 4*j, 4 * w, 4 * h, first + 4*j + i})
		}
	}
}

// part predicts one partition from one or two pictures.
func (r *recon[T]) part(p *interPart) {
	d := r.d
	b8 := p.block>>3<<1 | p.block>>1&1
	ref0, ref1 := d.mv.ref[0][b8], d.mv.ref[1][b8]
	if ref0 >= 0 && ref1 >= 0 {
		r.fetch(0, ref0, p, false)
		r.fetch(1, ref1, p, true)
		r.combine(ref0, ref1, p)
		return
	}
	l, ref := 0, ref0
	if ref < 0 {
		l, ref = 1, ref1
	}
	r.fetch(l, ref, p, false)
	if d.h.weighted {
		r.weigh(l, ref, p)
	}
}

// target returns where the prediction of plane i of a partition is written: into the picture, or
// into the buffer of the second prediction.
func (r *recon[T]) target(i int, p *interPart, second bool) (dst []T, stride int) {
	x, y := p.x, p.y
	if i > 0 {
		x, y = x>>1, r.toChroma(y)
	}
	if second {
		return r.second[i][y*16+x:], 16
	}
	if i == 0 {
		return r.luma[r.at+y*r.stride+x:], r.stride
	}
	return r.chroma[i-1][r.chromaAt+y*r.chromaStride+x:], r.chromaStride
}

// fetch predicts a partition from one reference picture.
func (r *recon[T]) fetch(l int, index int8, p *interPart, second bool) {
	d := r.d
	f, s := d.referred(l, index)
	if f != r.from || s != r.fields {
		r.from, r.fields, r.origin = f, s, r.source(f, s)
	}
	src, v := &r.origin, d.mv.mv[l][p.block]
	x := d.x*16 + p.x + int(v.X>>2)
	y := r.row + p.y + int(v.Y>>2)
	if d.pic.shared {
		f.Await(s, int32(max(0, min(y+p.h+3, src.height-1))))
	}
	dst, stride := r.target(0, p, second)
	r.fetchLuma(dst, stride, src, x, y, p.w, p.h, int(v.X&3), int(v.Y&3))
	if r.planes == 3 {
		r.fetchChroma(src, s, v, p, second)
	}
}

// source is a reference picture: its planes, and half-pel planes where an encoder keeps them.
type source[T motion.Sample] struct {
	planes        [3][]T
	stride        [3]int
	width, height int    // of luma
	halfpel       [4][]T // luma and its three half-pel planes, or nil
}

// has reports whether a block of luma is inside the picture.
func (s *source[T]) has(x, y, w, h int) bool {
	return motion.Inside(s.width, s.height, x, y, w, h)
}

// source returns the planes of a reference: the rows of a frame, or those of one of its fields.
func (r *recon[T]) source(f *frame, fields framepool.Fields) (s source[T]) {
	for i := range r.planes {
		s.planes[i], s.stride[i] = samplesOf[T](&f.Planes[i])
		if fields != framepool.WholeFrame {
			if fields == framepool.BottomField {
				s.planes[i] = s.planes[i][s.stride[i]:]
			}
			s.stride[i] *= 2
		}
	}
	if f.halfpel != nil {
		s.halfpel[0] = s.planes[0]
		for i := range f.halfpel.planes {
			s.halfpel[1+i], _ = samplesOf[T](&f.halfpel.planes[i])
			if fields == framepool.BottomField {
				s.halfpel[1+i] = s.halfpel[1+i][s.stride[0]/2:]
			}
		}
	}
	s.width, s.height = r.d.width*16, r.d.height*16
	if fields != framepool.WholeFrame {
		s.height /= 2
	}
	return s
}

// fetchLuma interpolates luma samples (8.4.2.2.1).
func (r *recon[T]) fetchLuma(dst []T, stride int, src *source[T], x, y, w, h, dx, dy int) {
	pix, step := src.planes[0], src.stride[0]
	if dx|dy == 0 {
		if src.has(x, y, w, h) {
			pix = pix[y*step+x:]
		} else {
			pix, step = motion.Clamped(&r.edge, pix, step, src.width, src.height, x, y, w, h)
		}
		r.k.Copy(dst, stride, pix, step, w, h)
		return
	}
	if a, b, ok := src.quarterpelPair(x, y, w, h, dx, dy); ok {
		r.k.Copy(dst, stride, a, src.stride[0], w, h)
		r.k.Average(dst, stride, b, src.stride[0], w, h)
		return
	}
	if src.has(x-2, y-2, w+5, h+5) {
		pix = pix[(y-2)*step+x-2:]
	} else {
		pix, step = motion.Clamped(&r.edge, pix, step, src.width, src.height, x-2, y-2, w+5, h+5)
	}
	const two = 2
	at := two*step + two // of the sample G
	switch {
	case dy == 0:
		r.k.across(dst, stride, pix[at-2:], step, w, h, r.maxSample[0])
		if dx != 2 {
			r.k.Average(dst, stride, pix[at+dx>>1:], step, w, h)
		}
	case dx == 0:
		r.k.down(dst, stride, pix[at-2*step:], step, w, h, r.maxSample[0])
		if dy != 2 {
			r.k.Average(dst, stride, pix[at+dy>>1*step:], step, w, h)
		}
	case dx == 2 || dy == 2:
		r.k.center(dst, stride, pix, step, w, h, r.maxSample[0])
		tmp := r.half[:]
		switch {
		case dx != 2: // i, k: with h or m
			r.k.down(tmp, 16, pix[at-2*step+dx>>1:], step, w, h, r.maxSample[0])
		case dy != 2: // f, q: with b or s
			r.k.across(tmp, 16, pix[at-2+dy>>1*step:], step, w, h, r.maxSample[0])
		default:
			return
		}
		r.k.Average(dst, stride, tmp, 16, w, h)
	default: // e, g, p, r
		r.k.across(dst, stride, pix[at-2+dy>>1*step:], step, w, h, r.maxSample[0])
		r.k.down(r.half[:], 16, pix[at-2*step+dx>>1:], step, w, h, r.maxSample[0])
		r.k.Average(dst, stride, r.half[:], 16, w, h)
	}
}

// fetchChroma derives the chroma vector and interpolates chroma samples (8.4.1.4, 8.4.2.2.2).
func (r *recon[T]) fetchChroma(src *source[T], fields framepool.Fields, v motion.Vector, p *interPart, second bool) {
	d := r.d
	my := int(v.Y)
	if r.chromaShift == 1 && fields != framepool.WholeFrame {
		switch parity := d.parity(); {
		case fields == framepool.BottomField && parity == framepool.TopField:
			my -= 2
		case fields == framepool.TopField && parity == framepool.BottomField:
			my += 2
		}
	}
	dx, x := int(v.X)&7, d.x*8+p.x>>1+int(v.X)>>3
	dy, y := my&7, my>>3
	if r.chromaShift == 0 {
		dy, y = my&3<<1, my>>2
	}
	y += r.toChroma(r.row + p.y)
	w, h := p.w>>1, r.toChroma(p.h)
	width, height := src.width>>1, r.toChroma(src.height)
	inside := motion.Inside(width, height, x, y, w+1, h+1)
	for i := 1; i < 3; i++ {
		pix, step := src.planes[i], src.stride[i]
		if inside {
			pix = pix[y*step+x:]
		} else {
			pix, step = motion.Clamped(&r.edge, pix, step, width, height, x, y, w+1, h+1)
		}
		dst, stride := r.target(i, p, second)
		if dx|dy == 0 {
			r.k.Copy(dst, stride, pix, step, w, h)
		} else {
			r.k.bilinear(dst, stride, pix, step, w, h, dx, dy)
		}
	}
}

// combine weights and combines the predictions from both lists (8.4.2.3).
func (r *recon[T]) combine(ref0, ref1 int8, p *interPart) {
	d := r.d
	var weights [3][2]weight
	shift := uint(6)
	plain := false
	switch {
	case d.h.weighted:
		w0, w1 := r.explicit(0, ref0), r.explicit(1, ref1)
		for i := range weights {
			weights[i] = [2]weight{w0[i], w1[i]}
		}
	case d.h.kind == sliceB && d.h.pps.bipred == 2:
		w := d.implicit(ref0, ref1)
		plain = w == 32
		for i := range weights {
			weights[i] = [2]weight{{64 - w, 0}, {w, 0}}
		}
	default:
		plain = true
	}
	for i := range r.planes {
		dst, stride := r.target(i, p, false)
		other, step := r.target(i, p, true)
		w, h := p.w, p.h
		if i > 0 {
			w, h = w>>1, r.toChroma(h)
		}
		if plain {
			r.k.Average(dst, stride, other, step, w, h)
			continue
		}
		if d.h.weighted {
			shift = uint(r.denominator(i)) + 1
		}
		blend(dst, stride, other, step, w, h, &weights[i], shift, r.maxSample[i])
	}
}

func (r *recon[T]) denominator(plane int) uint8 {
	if plane == 0 {
		return r.d.h.lumaDenom
	}
	return r.d.h.chromaDenom
}

// explicit returns the explicit prediction weights of a reference, by plane.
func (r *recon[T]) explicit(l int, index int8) *[3]weight {
	if r.d.h.mbaff && r.d.field {
		index >>= 1
	}
	return &r.d.h.weights[l][index]
}

// implicit returns the implicit weight of the picture of list 1 (8.4.2.3.1).
func (d *sliceDecoder) implicit(ref0, ref1 int8) int16 {
	a, b := d.reference(0, ref0), d.reference(1, ref1)
	factor, scaled := distScale(d.pic.pocOf(d.parity()), a, b)
	if !scaled || b.long || factor>>2 < -64 || factor>>2 > 128 {
		return 32
	}
	return int16(factor >> 2)
}

// weigh applies the explicit weight to a prediction from one picture.
func (r *recon[T]) weigh(l int, index int8, p *interPart) {
	weights := r.explicit(l, index)
	for i := range r.planes {
		shift := r.denominator(i)
		if weights[i] == (weight{1 << shift, 0}) {
			continue
		}
		dst, stride := r.target(i, p, false)
		w, h := p.w, p.h
		if i > 0 {
			w, h = w>>1, r.toChroma(h)
		}
		scaleBlock(dst, stride, w, h, weights[i], uint(shift), r.maxSample[i])
	}
}

// scaleBlock weights a prediction from one picture (equation 8-298).
func scaleBlock[T motion.Sample](dst []T, stride, w, h int, by weight, shift uint, most int32) {
	round := int32(1) << shift >> 1
	for y := range h {
		row := dst[y*stride:][:w]
		for x := range row {
			row[x] = clip[T]((int32(row[x])*int32(by.w)+round)>>shift+int32(by.o), most)
		}
	}
}

// blend combines two weighted predictions (equation 8-299).
func blend[T motion.Sample](dst []T, stride int, other []T, step, w, h int, by *[2]weight, shift uint, most int32) {
	w0, w1 := int32(by[0].w), int32(by[1].w)
	round, offset := int32(1)<<shift>>1, (int32(by[0].o)+int32(by[1].o)+1)>>1
	for y := range h {
		row, add := dst[y*stride:][:w], other[y*step:][:w]
		for x := range row {
			row[x] = clip[T]((int32(row[x])*w0+int32(add[x])*w1+round)>>shift+offset, most)
		}
	}
}
