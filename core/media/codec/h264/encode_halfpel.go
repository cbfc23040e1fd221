package h264

import "vividstrain/core/media/picture"

// halfpelPlanes are the half-sample positions of a reference frame's luma, interpolated once for all
// searches in it.
type halfpelPlanes struct {
	owner  *frame
	planes [3]picture.Plane // of the samples b, h and j of figure 8-4
}

// newHalfpelPlanes makes room for the planes of frames like f.
func newHalfpelPlanes(f *frame) *halfpelPlanes {
	h := new(halfpelPlanes)
	for i := range h.planes {
		p := &h.planes[i]
		p.Stride = f.Planes[0].Stride
		if f.Planes[0].Wide != nil {
			p.Wide = make([]uint16, len(f.Planes[0].Wide))
		} else {
			p.Pix = make([]byte, len(f.Planes[0].Pix))
		}
	}
	return h
}

// assign gives the planes to f, and takes them from the frame that had them.
func (h *halfpelPlanes) assign(f *frame) {
	if h.owner != nil && h.owner.halfpel == h {
		h.owner.halfpel = nil
	}
	h.owner, f.halfpel = f, h
}

// interpolateHalfpel fills the half-sample planes of a picture (8.4.2.2.1).
func (r *recon[T]) interpolateHalfpel(s *source[T]) {
	whole := *s
	whole.halfpel = [4][]T{}
	for y := 0; y < s.height; y += 16 {
		for x := 0; x < s.width; x += 16 {
			at := y*s.stride[0] + x
			r.fetchLuma(s.halfpel[1][at:], s.stride[0], &whole, x, y, 16, 16, 2, 0)
			r.fetchLuma(s.halfpel[2][at:], s.stride[0], &whole, x, y, 16, 16, 0, 2)
			r.fetchLuma(s.halfpel[3][at:], s.stride[0], &whole, x, y, 16, 16, 2, 2)
		}
	}
}

// halfpelSample is an integer or half-sample position: its plane (0: integer, 1 to 3: b, h, j of
// figure 8-4), and its offset from G in whole samples.
type halfpelSample struct{ plane, right, down int }

// quarterpelPairs are the two positions whose average is a quarter-sample position (8.4.2.2.1), by
// its y and x in quarters.
var quarterpelPairs = func() (m [4][4][2]halfpelSample) {
	const g, b, h, j = 0, 1, 2, 3 // planes
	G, H, M := halfpelSample{g, 0, 0}, halfpelSample{g, 1, 0}, halfpelSample{g, 0, 1}
	B, S := halfpelSample{b, 0, 0}, halfpelSample{b, 0, 1}
	V, U := halfpelSample{h, 0, 0}, halfpelSample{h, 1, 0} // h and m
	J := halfpelSample{j, 0, 0}
	return [4][4][2]halfpelSample{
		{{G, G}, {G, B}, {B, B}, {B, H}},
		{{G, V}, {B, V}, {B, J}, {B, U}},
		{{V, V}, {V, J}, {J, J}, {J, U}},
		{{V, M}, {V, S}, {J, S}, {S, U}},
	}
}()

// quarterpelPair returns the two blocks whose average is the block at dx, dy quarters from x, y. ok
// is false where there are no half-sample planes or the block reaches out of the picture.
func (s *source[T]) quarterpelPair(x, y, w, h, dx, dy int) (a, b []T, ok bool) {
	if s.halfpel[1] == nil || !s.has(x, y, w+1, h+1) {
		return nil, nil, false
	}
	m := &quarterpelPairs[dy][dx]
	at := y*s.stride[0] + x
	return s.halfpel[m[0].plane][at+m[0].down*s.stride[0]+m[0].right:], s.halfpel[m[1].plane][at+m[1].down*s.stride[0]+m[1].right:], true
}
