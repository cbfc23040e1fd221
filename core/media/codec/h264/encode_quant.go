package h264

import (
	"math"

	"vividstrain/core/media/codec/motion"
)

// forward4 takes the difference of a 4x4 block to its prediction and transforms
// it: the rows of the transform of 8.5.12.2, the odd ones doubled.
func forward4[T motion.Sample](src []T, stride int, pred []T, step int, c *[16]int32) {
	for y := range 4 {
		s, p := src[y*stride:][:4], pred[y*step:][:4]
		a, b := int32(s[0])-int32(p[0]), int32(s[1])-int32(p[1])
		e, f := int32(s[2])-int32(p[2]), int32(s[3])-int32(p[3])
		s0, s1, d0, d1 := a+f, b+e, a-f, b-e
		c[4*y], c[4*y+1], c[4*y+2], c[4*y+3] = s0+s1, 2*d0+d1, s0-s1, d0-2*d1
	}
	for x := range 4 {
		s0, s1, d0, d1 := c[x]+c[12+x], c[4+x]+c[8+x], c[x]-c[12+x], c[4+x]-c[8+x]
		c[x], c[4+x], c[8+x], c[12+x] = s0+s1, 2*d0+d1, s0-s1, d0-2*d1
	}
}

// forwardBlocks does so with the 4x4 blocks of w x h samples.
func forwardBlocks[T motion.Sample](src []T, stride int, pred []T, step, w, h int, c []int32) {
	for y := 0; y < h; y += 4 {
		for x := 0; x < w; x += 4 {
			forward4(src[y*stride+x:], stride, pred[y*step+x:], step, (*[16]int32)(c))
			c = c[16:]
		}
	}
}

// forward8 does the same for an 8x8 block: the transform of 8.5.13.2, turned
// round.
func forward8[T motion.Sample](src []T, stride int, pred []T, step int, c *[64]int32) {
	for y := range 8 {
		s, p := src[y*stride:][:8], pred[y*step:][:8]
		for x := range 8 {
			c[8*y+x] = int32(s[x]) - int32(p[x])
		}
		analyse8(c, 8*y, 1)
	}
	for x := range 8 {
		analyse8(c, x, 8)
	}
}

// analyse8 is the one-dimensional transform of 8 samples, step apart: the
// products with the rows that transform8 adds up, which are 1 or
// (12, 10, 6, 3)/8 and (1, 1/2).
func analyse8(c *[64]int32, at, step int) {
	x0, x1, x2, x3 := c[at&63], c[(at+step)&63], c[(at+2*step)&63], c[(at+3*step)&63]
	x4, x5, x6, x7 := c[(at+4*step)&63], c[(at+5*step)&63], c[(at+6*step)&63], c[(at+7*step)&63]
	s0, s1, s2, s3 := x0+x7, x1+x6, x2+x5, x3+x4
	d0, d1, d2, d3 := x0-x7, x1-x6, x2-x5, x3-x4
	e0, e1, e2, e3 := s0+s3, s1+s2, s0-s3, s1-s2
	c[at&63], c[(at+4*step)&63] = e0+e1, e0-e1
	c[(at+2*step)&63], c[(at+6*step)&63] = e2+e3>>1, e2>>1-e3
	o0 := d1 + d2 + d0 + d0>>1
	o1 := d0 - d3 - d2 - d2>>1
	o2 := d0 + d3 - d1 - d1>>1
	o3 := d1 - d2 + d3 + d3>>1
	c[(at+step)&63], c[(at+7*step)&63] = o0+o3>>2, o0>>2-o3
	c[(at+3*step)&63], c[(at+5*step)&63] = o1+o2>>2, o2-o1>>2
}

// quantiser holds what the coefficients of blocks are multiplied with, and how
// far the products are shifted, so that level = (|c|*factor + bias) >> shift
// undoes levelScale with flat lists.
type quantiser struct {
	small *[64]int32 // by raster place, of four blocks
	large *[64]int32
	shift uint // of 4x4 blocks; 8x8 blocks take one more
}

// newQuantiser is for the quantiser qp with the offset of the bit depth in it.
func newQuantiser(qp int) quantiser {
	return quantiser{&factors4[qp%6], &factors8[qp%6], uint(15 + qp/6)}
}

// bias rounds levels: down more often than up, since small ones cost more than
// they are worth.
func (q *quantiser) bias(shift uint) int32 {
	return int32(1<<shift) / 3
}

// nothing is the sum of absolute differences under which an 8x8 block has no DC
// coefficient and hardly any other.
func (q *quantiser) nothing() int {
	return int((int64(1)<<(q.shift+1) - int64(q.bias(q.shift+1))) / int64(q.large[0]))
}

// factors4 and factors8 follow from norm4 and norm8 and the squared lengths of
// the transforms' rows: of 4x4 blocks 4, and 5/2 that count twice; of 8x8 blocks
// 8, 289/32 and 5.
var (
	factors4 = func() (f [6][64]int32) {
		length := [4]float64{4, 5, 4, 5}
		for m := range f {
			for i := range f[m] {
				x, y := i&3, i>>2&3
				f[m][i] = int32(64*(1<<15)/(float64(norm4[m][norm4Class(x, y)])*length[x]*length[y]) + 0.5)
			}
		}
		return f
	}()
	factors8 = func() (f [6][64]int32) {
		length := [8]float64{8, 289.0 / 32, 5, 289.0 / 32, 8, 289.0 / 32, 5, 289.0 / 32}
		for m := range f {
			for i := range f[m] {
				x, y := i&7, i>>3
				f[m][i] = int32(256*(1<<16)/(float64(norm8[m][norm8Class(x, y)])*length[x]*length[y]) + 0.5)
			}
		}
		return f
	}()
)

// quantise turns coefficients into levels, in place, and tells which are not 0.
func quantise(c, factors []int32, bias int32, shift uint) (has uint64) {
	for i, v := range c {
		sign := v >> 31
		level := int32(uint32((v^sign-sign)*factors[i]+bias) >> shift)
		has |= uint64(oneIf(level != 0)) << i
		c[i] = level ^ sign - sign
	}
	return has
}

// quantiseBlocks quantises 4x4 blocks, one for each of has.
func quantiseBlocks(c []int32, factors *[64]int32, bias int32, shift uint, has []uint16) {
	for k := range has {
		has[k] = uint16(quantise(c[16*k:16*k+16], factors[:16], bias, shift))
	}
}

// quantise8 quantises an 8x8 block; where there are levels, of which has tells, it
// scales them into coeffs.
func quantise8(c, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (has uint64) {
	if has = quantise(c[:], factors[:], bias, shift); has != 0 {
		for i, v := range c {
			coeffs[i] = (v*scale[i] + 32) >> 6
		}
	}
	return has
}

// tollOfBit is what a bit weighs in the unit of toll where levels are weighed: with it
// the scenes came out best. By lambdas it would be 4096/7.35, as in toll.
const tollOfBit = 340

// toll is about what 64 coefficients cost that are multiplied and shifted to be 1/64 of
// a quantiser's step, in 1/4096 of the square of that step. Of each it is the less of
// what is lost without it, its square, and of what coding it takes: the error that stays,
// a twelfth of the square, and bits, four and two more whenever it doubles, of which 7.35
// weigh as much as the square (as with lambdas). The logarithm is that of a number's first
// bits, which every processor rounds alike.
func toll(c, factors *[64]int32, shift uint) (sum int) {
	for i, v := range c {
		x := min(uint32(motion.Abs32(v)*factors[i])>>shift, 1<<14-1)
		log := max(0, int(math.Float32bits(float32(x))>>16)-(127+6)<<7)
		sum += min(int(x*x), 2570+9*log)
	}
	return sum
}
