package h264

import (
	mathbits "math/bits"
	"slices"

	"vividstrain/core/media/codec/motion"
)

// codeInter codes the residual of an inter macroblock, whose prediction is in the picture, and
// reconstructs it.
func (c *macroblockEncoder[T]) codeInter() {
	c.codeLuma()
	c.d.mb.transform8 = c.d.mb.transform8 && c.d.mb.cbp != 0
	c.r.addLuma()
	c.codeChroma(3)
}

// Coefficient decimation: the lowest decimation scores with which the levels of a quarter of luma, the AC levels of a
// chroma plane, and those of the luma of Intra_16x16 with fine quantisers are coded. Chosen by BenchmarkQuality; the last
// one at 1080p30 and 12 Mb/s, where it gains up to 0.1 dB.
const (
	minLumaScore   = 3
	minChromaScore = 7
	minIntraScore  = 6
)

// codeLuma transforms and quantises luma, with the transform size that costs less. Quarters under
// the decimation threshold get no levels.
func (c *macroblockEncoder[T]) codeLuma() {
	d, live := c.d, c.activeQuarters()
	d.mb.cbp, d.coded, d.more = 0, 0, 0
	d.mb.transform8 = c.choose8x8Transform(live)
	for rest := live; rest != 0; rest &= rest - 1 {
		b8 := mathbits.TrailingZeros8(rest)
		d.mb.cbp |= uint8(oneIf(c.quantiseQuarter(b8))) << b8
	}
}

// activeQuarters has a bit set for each 8x8 quarter whose difference may leave levels after
// quantisation; the others need no transform.
func (c *macroblockEncoder[T]) activeQuarters() (quarters uint8) {
	r, nothing := c.r, c.quantisers.luma.nothing
	c.k.SADQuarters(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, &c.quarterSADs)
	for b8, sum := range c.quarterSADs {
		quarters |= uint8(oneIf(sum >= nothing)) << b8
	}
	return quarters
}

// choose8x8Transform transforms quarters, and tells whether in 8x8 blocks. The estimated costs of both sizes are
// compared in all quarters, or with a fine quantiser in the one with the largest difference alone. That one tells
// enough where most levels are noise; with coarse quantisers it loses 0.1 dB.
func (c *macroblockEncoder[T]) choose8x8Transform(quarters uint8) (large bool) {
	probes := quarters
	if quarters != 0 && c.isFine() {
		probes = 1 << slices.Index(c.quarterSADs[:], slices.Max(c.quarterSADs[:]))
	}
	q, more := &c.quantisers.luma, 0
	for rest := probes; rest != 0; rest &= rest - 1 {
		b8 := mathbits.TrailingZeros8(rest)
		c.transform8x8(b8)
		c.transform4x4(b8)
		more += c.k.bitCost(&c.coef8x8[b8], q.large, q.shift+1-6) - c.k.bitCost((*[64]int32)(c.coef4x4[64*b8:]), q.small, q.shift-6)
	}
	for rest := quarters &^ probes; rest != 0; rest &= rest - 1 {
		if b8 := mathbits.TrailingZeros8(rest); more <= 0 {
			c.transform8x8(b8)
		} else {
			c.transform4x4(b8)
		}
	}
	return more <= 0
}

// transform8x8 transforms the difference of quarter b8 of luma as one block.
func (c *macroblockEncoder[T]) transform8x8(b8 int) {
	r, at := c.r, c.lumaAt(4*b8)
	c.k.forward8(c.src[0][at:], r.stride, r.luma[at:], r.stride, &c.coef8x8[b8])
}

// transform4x4 transforms the difference of quarter b8 of luma as four blocks.
func (c *macroblockEncoder[T]) transform4x4(b8 int) {
	r, at := c.r, c.lumaAt(4*b8)
	c.k.forward4(c.src[0][at:], r.stride, r.luma[at:], r.stride, 8, 8, c.coef4x4[64*b8:][:64])
}

// quantiseQuarter quantises a quarter with the transform that was chosen, and reports whether its levels are worth
// their bits. They are dropped where they are not.
func (c *macroblockEncoder[T]) quantiseQuarter(b8 int) bool {
	q := &c.quantisers.luma
	if c.d.mb.transform8 {
		c.quantiseLuma8x8(b8, 3, &c.coef8x8[b8], q)
		if c.decimationScore8x8(b8) < minLumaScore {
			c.zeroQuarter(b8)
			return false
		}
		return true
	}
	small, nonZero := c.coef4x4[64*b8:][:64], c.nonZero[:4]
	c.quantise(cat4x4, small, q, nonZero)
	kept := c.levels.nonZeroLuma[4*b8:][:4]
	if c.orderLevels(small, nonZero, 0, c.levels.luma[64*b8:][:64], kept) < minLumaScore {
		return false
	}
	return c.scaleBlocks(small, nonZero, 4*b8, c.lumaScale(3), kept)
}

// orderLevels copies the levels of 4x4 blocks in scan order for the writer, notes in kept which are not 0, and returns
// their decimation score, from level first on.
func (c *macroblockEncoder[T]) orderLevels(coef []int32, nonZero []uint16, first int, levels []int16, kept []uint64) (score int) {
	order := orders4[c.d.fieldScan()][:]
	for i, raster := range nonZero {
		if kept[i] = 0; raster != 0 {
			l := levels[16*i:][:16]
			kept[i] = toScanOrder(coef[16*i:][:16], uint64(raster), order, l)
			score += decimationScore(kept[i]>>first, l[first:], &decimationScores4x4)
		}
	}
	return score
}

// scaleBlocks scales the levels of 4x4 blocks from block k on for reconstruction, and reports whether there are any.
func (c *macroblockEncoder[T]) scaleBlocks(coef []int32, nonZero []uint16, k int, scale *[16]int32, kept []uint64) (any bool) {
	for i, raster := range nonZero {
		if raster != 0 {
			scaleLevels(coef[16*i:][:16], uint64(raster), c.d.coeffs[16*(k+i):][:16], scale)
			c.markCoded(k+i, kept[i])
			any = true
		}
	}
	return any
}

// decimationScores8x8 and decimationScores4x4 are the scores of a level of 1 or -1 by the number of
// zeros before it in scan order (run_before): the more zeros, the more bits for the same gain.
var (
	decimationScores8x8 = [64]uint8{3, 3, 3, 3, 2, 2, 2, 2, 2, 2, 2, 2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}
	decimationScores4x4 = [64]uint8{3, 2, 2, 1, 1, 1}
)

// decimationScore rates the levels of a block in scan order: isolated levels of magnitude 1 score
// low, and the later in the scan the lower. A block whose score is under the threshold costs more
// bits than it is worth. Bit i of nonZero is set where levels[i] is not 0; any greater magnitude
// gives the highest score. (K.-P. Lim, G. Sullivan, T. Wiegand: Text Description of Joint Model
// Reference Encoding Methods and Decoding Concealment Methods, JVT-X101, 2007)
func decimationScore(nonZero uint64, levels []int16, scores *[64]uint8) (sum int) {
	const maxScore = 9
	next := 0
	for ; nonZero != 0 && sum < maxScore; nonZero &= nonZero - 1 {
		i := mathbits.TrailingZeros64(nonZero)
		if v := levels[i]; v > 1 || v < -1 {
			return maxScore
		}
		sum += int(scores[(i-next)&63])
		next = i + 1
	}
	return sum
}

// decimationScore8x8 is the score of 8x8 block b8 of luma.
func (c *macroblockEncoder[T]) decimationScore8x8(b8 int) int {
	return decimationScore(c.levels.nonZeroLuma[4*b8], c.levels.luma[64*b8:64*b8+64], &decimationScores8x8)
}

// zeroQuarter removes the coefficients of a quarter.
func (c *macroblockEncoder[T]) zeroQuarter(b8 int) {
	clear(c.d.coeffs[64*b8:][:64])
	c.d.coded &^= 15 << (4 * b8)
	c.d.more &^= 15 << (4 * b8)
}

// trySkip predicts the macroblock as P_Skip or B_Skip and tells whether no residual is left.
func (c *macroblockEncoder[T]) trySkip() bool {
	d, r := c.d, c.r
	c.skipPredicted = false
	if d.h.kind == sliceP {
		v := d.predictSkip()
		c.skip = choice{lists: [4]uint8{1, 1, 1, 1}, mv: [2][4]motion.Vector{{v, v, v, v}}}
		t := target{w: 16, h: 16}
		c.aim(&t)
		c.skip.cost = c.satdAt(&t, v)
		if c.skip.cost > c.rateCost(16*8) {
			return false
		}
		c.applyChoice(&c.skip)
		r.inter()
	} else {
		c.skip = choice{shape: part8x8, direct: 15}
		c.applyChoice(&c.skip)
		r.inter()
		c.skip.cost = c.k.SATD(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, 16, 16)
		if c.skip.cost > c.rateCost(16*8) {
			return false
		}
	}
	c.skipPredicted = true
	return c.isAllZero()
}

// isAllZero tells whether the residual of the macroblock, whose prediction is in the picture, is
// quantised to nothing. It stops at the first quarter that is not.
func (c *macroblockEncoder[T]) isAllZero() bool {
	d, live := c.d, c.activeQuarters()
	d.mb.cbp, d.coded, d.more = 0, 0, 0
	for ; live != 0; live &= live - 1 {
		b8 := mathbits.TrailingZeros8(live)
		at := c.lumaAt(4 * b8)
		if c.codeLuma8x8(b8, at, 3, &c.quantisers.luma) {
			value := c.decimationScore8x8(b8)
			if c.zeroQuarter(b8); value >= minLumaScore {
				return false
			}
		}
	}
	d.mb.transform8 = false
	c.codeChroma(3)
	c.skipPredicted = false
	return d.mb.cbp == 0
}
