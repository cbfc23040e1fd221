package h264

import (
	"math"

	"vividstrain/core/media/codec/motion"
)

// forward4 transforms the difference of a 4x4 block to its prediction: the forward transform of the
// inverse of 8.5.12.2, with the odd rows doubled (H. Malvar, A. Hallapuro, M. Karczewicz, L. Kerofsky:
// Low-Complexity Transform and Quantization in H.264/AVC, 2003).
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

// forwardBlocks is forward4 of the 4x4 blocks of w x h samples, in raster order.
func forwardBlocks[T motion.Sample](src []T, stride int, pred []T, step, w, h int, c []int32) {
	for y := 0; y < h; y += 4 {
		for x := 0; x < w; x += 4 {
			forward4(src[y*stride+x:], stride, pred[y*step+x:], step, (*[16]int32)(c))
			c = c[16:]
		}
	}
}

// forward8 transforms the difference of an 8x8 block to its prediction: the forward transform of the
// inverse of 8.5.13.
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

// analyse8 is the one-dimensional transform of 8 samples that are step apart. The basis functions
// are those of 8.5.13: 1, (12, 10, 6, 3)/8 and (1, 1/2).
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

// quantiser holds the factors and the shift with which level = (|c|*factor + bias) >> shift is the
// inverse of levelScale with flat scaling lists.
type quantiser struct {
	small *[64]int32 // by raster place, of four blocks
	dc    *[64]int32 // as small, for DC coefficients that are transformed once more: all are the same
	large *[64]int32
	shift uint  // of 4x4 blocks; 8x8 blocks take one more
	share int32 // of a step: 1/share is the rounding offset
	// nothing is the sum of absolute differences under which the DC coefficient of an 8x8 block is
	// quantised to 0, and nearly always all others.
	nothing int
}

// newQuantiser returns the quantiser of QP'Y or QP'C, which contains the offset of the bit depth. It rounds by
// 1/share of a step.
func newQuantiser(qp int, share int32) quantiser {
	q := quantiser{small: &factors4[qp%6], dc: &factorsDC[qp%6], large: &factors8[qp%6], shift: uint(15 + qp/6), share: share}
	q.nothing = int((int64(1)<<(q.shift+1) - int64(q.bias(q.shift+1))) / int64(q.large[0]))
	return q
}

// bias is the rounding offset before the shift: less than a half, since small levels cost more bits than they
// save distortion.
func (q *quantiser) bias(shift uint) int32 { return int32(1<<shift) / q.share }

// Rounding offsets as shares of a step: a third, and an eighth for a fast encoder with fine quantisers, where most
// levels are noise. At 1080p30 and 12 Mb/s, with QP 17 to 22, an eighth has 0.2 to 0.4 dB more, in less time; at 720p30
// and 4 Mb/s, with QP 25 to 28, a sixth has 0.3 dB less (made-up scenes).
const (
	usualRounding = 3
	noiseRounding = 8
)

// factors4 and factors8 follow from norm4 and norm8 and the squared norms of the transforms' basis
// functions: 4 and 5 (doubled rows) of 4x4 blocks, 8, 289/32 and 5 of 8x8 blocks.
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
	factorsDC = func() (f [6][64]int32) {
		for m := range f {
			for i := range f[m] {
				f[m][i] = factors4[m][0]
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

// quantise turns coefficients into levels, in place. Bit i of nonZero is set where level i is not 0.
func quantise(c, factors []int32, bias int32, shift uint) (nonZero uint64) {
	for i, v := range c {
		sign := v >> 31
		level := int32(uint32((v^sign-sign)*factors[i]+bias) >> shift)
		nonZero |= uint64(oneIf(level != 0)) << i
		c[i] = level ^ sign - sign
	}
	return nonZero
}

// quantiseBlocks quantises len(nonZero) blocks of 4x4.
func quantiseBlocks(c []int32, factors *[64]int32, bias int32, shift uint, nonZero []uint16) {
	for k := range nonZero {
		nonZero[k] = uint16(quantise(c[16*k:16*k+16], factors[:16], bias, shift))
	}
}

// quantise8 quantises an 8x8 block in place and, if a level is left, dequantises into coeffs.
func quantise8(c, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (nonZero uint64) {
	if nonZero = quantise(c[:], factors[:], bias, shift); nonZero != 0 {
		for i, v := range c {
			coeffs[i] = (v*scale[i] + 32) >> 6
		}
	}
	return nonZero
}

// rdoqLambda is the cost of one bit in 1/4096 of the squared quantiser step. Theory gives
// 4096/7.35 = 557 (lambda = 0.85*2^((QP-12)/3)); 340 gave the best PSNR at equal bits over the
// made-up scenes (BenchmarkQuality, 720p).
const rdoqLambda = 340

// bitCost estimates the rate-distortion cost of 64 coefficients, in 1/4096 of the squared quantiser
// step; c*factors>>shift are 1/64 of a step. Each counts the lesser of two costs: its square if it
// is dropped, or, if it is coded, the error that stays, 1/12 of a squared step, and four bits and
// two more for each doubling, a bit at 4096/7.35. The logarithm is taken from the leading bits of a
// float, so that every processor rounds alike.
func bitCost(c, factors *[64]int32, shift uint) (sum int) {
	for i, v := range c {
		x := min(uint32(motion.Abs32(v)*factors[i])>>shift, 1<<14-1)
		log := max(0, int(math.Float32bits(float32(x))>>16)-(127+6)<<7)
		sum += min(int(x*x), 2570+9*log)
	}
	return sum
}
