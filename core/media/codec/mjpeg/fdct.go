package mjpeg

import "math"

// dctScale is the factor by which fdct's output exceeds that of A.3.3, for each frequency in one
// dimension.
var dctScale = func() (s [8]float64) {
	for k := range s {
		s[k] = 1
		if k > 0 {
			s[k] = math.Sqrt2 * math.Cos(float64(k)*math.Pi/16)
		}
	}
	return s
}()

// fdct is the forward cosine transform of a block. Each output is too large by 8 and by the
// dctScale of its row and column: Y. Arai, T. Agui, M. Nakajima, "A fast DCT-SQ scheme for
// images", Trans. IEICE E-71 (1988).
func fdct(b *[64]float32) {
	for i := 0; i < 64; i += 8 {
		fdct8(b, i, 1)
	}
	for i := range 8 {
		fdct8(b, i, 8)
	}
}

// fdct8 transforms eight values of b, step apart, from b[at] on.
func fdct8(b *[64]float32, at, step int) {
	const (
		c4   = 0.707106781 // cos(4 pi/16)
		c6   = 0.382683433 // cos(6 pi/16)
		diff = 0.541196100 // cos(2 pi/16) - cos(6 pi/16)
		sum  = 1.306562965 // cos(2 pi/16) + cos(6 pi/16)
	)
	v := func(i int) *float32 { return &b[(at+i*step)&63] }
	s0, d0 := *v(0)+*v(7), *v(0)-*v(7)
	s1, d1 := *v(1)+*v(6), *v(1)-*v(6)
	s2, d2 := *v(2)+*v(5), *v(2)-*v(5)
	s3, d3 := *v(3)+*v(4), *v(3)-*v(4)

	a, c := s0+s3, s0-s3
	e, f := s1+s2, s1-s2
	*v(0), *v(4) = a+e, a-e
	turned := (f + c) * c4
	*v(2), *v(6) = c+turned, c-turned

	p, q, r := d3+d2, d2+d1, d1+d0
	z5 := (p - r) * c6
	z2, z4 := diff*p+z5, sum*r+z5
	z3 := q * c4
	z11, z13 := d0+z3, d0-z3
	*v(5), *v(3) = z13+z2, z13-z2
	*v(1), *v(7) = z11+z4, z11-z4
}
