package hevc

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// quantiser quantises the coefficients of a plane: level = (|c|*factor + bias) >> shift is the inverse
// of 8.6.4.2 with flat scaling factors. shift is that of a block of one sample; each doubling of the
// side takes one less.
type quantiser struct {
	factor, scale int32 // scale is levelScale << qP/6
	shift         uint
	depth         int
	intra         bool // of I pictures
}

// quantiserFactors are 2^20 / levelScale.
var quantiserFactors = [6]int32{26214, 23302, 20560, 18396, 16384, 14564}

func newQuantiser(qp, depth int, intra bool) quantiser {
	return quantiser{quantiserFactors[qp%6], levelScale[qp%6] << (qp / 6), uint(14 + qp/6 + 15 - depth), depth, intra}
}

// bitCost is the cost of one bit in 1/4096 of the squared quantiser step, as in h264.
const bitCost = 340

// transformCost estimates the rate-distortion cost of a luma block, in 1/4096 of the squared quantiser
// step, with the prediction that is in the picture. Each coefficient counts the lesser of two costs: its
// square if it is dropped, or, if it is coded, the error that stays, 1/12 of a squared step, and four bits
// and two more for each doubling.
func (c *blockEncoder[T]) transformCost(x, y, log2 int, sine bool) (sum int64) {
	p, q, n := &c.planes[0], &c.quantisers[0], 1<<log2
	at := y*p.stride + x
	forward(c.source[0][at:], p.stride, p.pix[at:], p.stride, c.coefs[:n*n], log2, sine, q.depth)
	shift := q.shift - uint(log2) - 6
	for _, v := range c.coefs[:n*n] {
		s := uint32(motion.Abs32(v)) * uint32(q.factor) >> shift
		if s < 42 {
			sum += int64(s * s)
			continue
		}
		sum += min(int64(s)*int64(s), 4096/12+bitCost*(4+2*int64(mathbits.Len32(s>>6))))
	}
	return sum
}

// codeLuma codes the luma of an inter block as one transform block or as four, by the cost.
func (c *blockEncoder[T]) codeLuma(x, y, log2, depth int) (coded bool) {
	c.transform(x, y).log2 = uint8(log2)
	if depth < c.sps.depthInter && log2 > c.leastTransform {
		whole := c.transformCost(x, y, log2, false)
		sum, half := int64(2*bitCost), 1<<(log2-1)
		for i := 0; i < 4 && sum < whole; i++ {
			sum += c.transformCost(x+half*(i&1), y+half*(i>>1), log2-1, false)
		}
		if sum < whole {
			for i := range 4 {
				coded = c.codeLuma(x+half*(i&1), y+half*(i>>1), log2-1, depth+1) || coded
			}
			return coded
		}
	}
	if coded = c.codeBlock(x, y, log2, 0); coded {
		c.markCbf(x, y, 1<<log2)
	}
	c.blockEdges(x, y, 1<<log2, 1<<log2, edgeTransform)
	return coded
}

// codeChromaTree codes the chroma of an inter block as its luma is split.
func (c *blockEncoder[T]) codeChromaTree(x, y, log2 int) (coded bool) {
	t := c.transform(x, y)
	t.chroma = [2][2]bool{}
	if int(t.log2) == log2 || log2 == 3 {
		return c.codeChroma(t, x, y, log2)
	}
	half := 1 << (log2 - 1)
	for i := range 4 {
		coded = c.codeChromaTree(x+half*(i&1), y+half*(i>>1), log2-1) || coded
	}
	return coded
}

// codeBlock transforms and quantises the difference between the source and the prediction in the
// picture of a block, at samples of the plane, and reconstructs it. It reports whether a level is left.
func (c *blockEncoder[T]) codeBlock(x, y, log2, plane int) bool {
	p, q, n := &c.planes[plane], &c.quantisers[plane], 1<<log2
	at := y*p.stride + x
	sine := c.cuIntra && plane == 0 && log2 == 2
	forward(c.source[plane][at:], p.stride, p.pix[at:], p.stride, c.coefs[:n*n], log2, sine, q.depth)
	if !c.quantise(c.coefs[:n*n], c.levels[plane][at:], p.stride, log2, q) {
		return false
	}
	up := uint(q.depth + log2 - 5 - 4)
	round := int32(1) << up >> 1
	for j := range n {
		row, out := c.levels[plane][at+j*p.stride:][:n], c.coeffs[j<<log2:][:n]
		for i, level := range row {
			out[i] = max(-32768, min((int32(level)*q.scale+round)>>up, 32767))
		}
	}
	c.addResidual(x, y, log2, plane, rdpcmNone, false, sine)
	return true
}

// quantise turns coefficients into levels. Those of a block are dropped where they cost more than they
// are worth: D + lambda*R of the block with them and without, with about four bits for a level, two
// more for each doubling, and those of the last one's place.
func (c *blockEncoder[T]) quantise(coefs []int32, levels []int16, stride, log2 int, q *quantiser) bool {
	n, shift := 1<<log2, q.shift-uint(log2)
	bias := int32(1) << shift / 3
	gain, bits := int64(0), int32(2*log2+1)
	zero := uint32(1<<shift-bias-1) / uint32(q.factor) // the largest magnitude that becomes 0
	for j := range n {
		in, out := coefs[j<<log2:][:n], levels[j*stride:][:n]
		for i, v := range in {
			out[i] = 0
			magnitude := uint32(motion.Abs32(v))
			if magnitude <= zero {
				continue
			}
			scaled := magnitude * uint32(q.factor)
			level := int32((scaled + uint32(bias)) >> shift)
			s := int64(scaled >> (shift - 6))
			rest := s - int64(level)<<6
			gain += s*s - rest*rest
			bits += 4 + 2*int32(mathbits.Len32(uint32(level))-1)
			if v < 0 {
				level = -level
			}
			out[i] = int16(level)
		}
	}
	if gain <= int64(bits)*bitCost {
		if gain > 0 {
			for j := range n {
				clear(levels[j*stride:][:n])
			}
		}
		return false
	}
	return true
}
