package h264

import "vividstrain/core/media/picture"

// halves are the luma samples halfway between those of a frame, for a picture
// that is searched again and again.
type halves struct {
	owner  *frame
	planes [3]picture.Plane // of the samples b, h and j of figure 8-4
}

// newHalves makes room for a frame like f.
func newHalves(f *frame) *halves {
	h := new(halves)
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

// lend makes the samples those of f, and no longer of the frame that had them.
func (h *halves) lend(f *frame) {
	if h.owner != nil && h.owner.halves == h {
		h.owner.halves = nil
	}
	h.owner, f.halves = f, h
}

// fillHalves interpolates between all luma samples of a picture.
func (r *recon[T]) fillHalves(s *source[T]) {
	whole := *s
	whole.halves = [4][]T{}
	for y := 0; y < s.height; y += 16 {
		for x := 0; x < s.width; x += 16 {
			at := y*s.stride[0] + x
			r.fetchLuma(s.halves[1][at:], s.stride[0], &whole, x, y, 16, 16, 2, 0)
			r.fetchLuma(s.halves[2][at:], s.stride[0], &whole, x, y, 16, 16, 0, 2)
			r.fetchLuma(s.halves[3][at:], s.stride[0], &whole, x, y, 16, 16, 2, 2)
		}
	}
}

// between is a sample at or halfway between whole ones: in which plane, and how far
// right and down from G.
type between struct{ plane, right, down int }

// means are the two samples of which one at quarters is the average (table 8-12), by
// the quarters down and right.
var means = func() (m [4][4][2]between) {
	const g, b, h, j = 0, 1, 2, 3 // as are planes
	G, H, M := between{g, 0, 0}, between{g, 1, 0}, between{g, 0, 1}
	B, S := between{b, 0, 0}, between{b, 0, 1}
	V, U := between{h, 0, 0}, between{h, 1, 0} // h and m
	J := between{j, 0, 0}
	return [4][4][2]between{
		{{G, G}, {G, B}, {B, B}, {B, H}},
		{{G, V}, {B, V}, {B, J}, {B, U}},
		{{V, V}, {V, J}, {J, J}, {J, U}},
		{{V, M}, {V, S}, {J, S}, {S, U}},
	}
}()

// pair gives the two blocks of which a block at quarters dx, dy from x, y is the
// average, if they are there.
func (s *source[T]) pair(x, y, w, h, dx, dy int) (a, b []T, ok bool) {
	if s.halves[1] == nil || x < 0 || y < 0 || x+w >= s.width || y+h >= s.height {
		return nil, nil, false
	}
	m := &means[dy][dx]
	at := y*s.stride[0] + x
	return s.halves[m[0].plane][at+m[0].down*s.stride[0]+m[0].right:], s.halves[m[1].plane][at+m[1].down*s.stride[0]+m[1].right:], true
}
