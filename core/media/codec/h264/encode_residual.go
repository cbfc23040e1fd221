package h264

import (
	"vividstrain/core/media/codec/motion"

	mathbits "math/bits"
)

// codeInter reconstructs the macroblock with the motion that was taken, of which
// the prediction stands in the picture.
func (c *coder[T]) codeInter() {
	c.codeLuma()
	c.d.mb.transform8 = c.d.mb.transform8 && c.d.mb.cbp != 0
	c.r.addLuma()
	c.codeChroma(3)
}

// Least worths with which the levels of a quarter of luma, and the AC levels of a plane
// of chroma are coded.
const (
	leastLuma   = 3
	leastChroma = 7
)

// codeLuma finds the levels of luma, with the transforms with which they cost less.
// What is hardly worth its bits is left out.
func (c *coder[T]) codeLuma() {
	d, live := c.d, c.live()
	d.mb.cbp, d.coded, d.more = 0, 0, 0
	d.mb.transform8 = c.transform(live)
	for rest := live; rest != 0; rest &= rest - 1 {
		b8 := mathbits.TrailingZeros8(rest)
		if c.quarter(b8) < leastLuma {
			c.leaveOut(b8)
		} else {
			d.mb.cbp |= 1 << b8
		}
	}
}

// live are the quarters of the macroblock that may have levels, a bit each.
func (c *coder[T]) live() (quarters uint8) {
	r, nothing := c.r, c.q.luma.nothing()
	c.k.SADQuarters(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, &c.quarterSADs)
	for b8, sum := range c.quarterSADs {
		quarters |= uint8(oneIf(sum >= nothing)) << b8
	}
	return quarters
}

// transform transforms quarters in both sizes and tells whether that of 8x8 samples is
// the better one.
func (c *coder[T]) transform(quarters uint8) (large bool) {
	r, q, more := c.r, &c.q.luma, 0
	for rest := quarters; rest != 0; rest &= rest - 1 {
		b8 := mathbits.TrailingZeros8(rest)
		at := c.lumaAt(4 * b8)
		src, pred, small := c.src[0][at:], r.luma[at:], c.coef[64*b8:][:64]
		c.k.forward8(src, r.stride, pred, r.stride, &c.coef8[b8])
		c.k.forward4(src, r.stride, pred, r.stride, 8, 8, small)
		more += c.k.toll(&c.coef8[b8], q.large, q.shift+1-6) - c.k.toll((*[64]int32)(small), q.small, q.shift-6)
	}
	return more <= 0
}

// quarter finds the levels of a quarter and tells what they are worth.
func (c *coder[T]) quarter(b8 int) (value int) {
	q := &c.q.luma
	if c.d.mb.transform8 {
		c.largeLevels(b8, 3, &c.coef8[b8], q)
		return c.worthOfLarge(b8)
	}
	small, has := c.coef[64*b8:][:64], c.has[:4]
	c.quantise(cat4x4, small, q, has)
	for i, places := range has {
		k := 4*b8 + i
		c.smallLevels(k, 3, small[16*i:16*i+16], places)
		value += worth(c.l.hasLuma[k], c.l.luma[16*k:16*k+16], &worths4)
	}
	return value
}

// worths8 and worths4 are what a level of 1 or -1 is worth by how many levels of 0 stand
// before it in its block.
var (
	worths8 = [64]uint8{3, 3, 3, 3, 2, 2, 2, 2, 2, 2, 2, 2, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}
	worths4 = [64]uint8{3, 2, 2, 1, 1, 1}
)

// worth is that of the levels of a block, of which has tells those that are not 0: a
// few of 1 or -1 far apart change little and cost much.
func worth(has uint64, levels []int16, worths *[64]uint8) (sum int) {
	const much = 9
	next := 0
	for ; has != 0 && sum < much; has &= has - 1 {
		i := mathbits.TrailingZeros64(has)
		if v := levels[i]; v > 1 || v < -1 {
			return much
		}
		sum += int(worths[(i-next)&63])
		next = i + 1
	}
	return sum
}

// worthOfLarge is that of 8x8 block b8 of luma.
func (c *coder[T]) worthOfLarge(b8 int) int {
	return worth(c.l.hasLuma[4*b8], c.l.luma[64*b8:64*b8+64], &worths8)
}

// leaveOut gives up the levels of a quarter.
func (c *coder[T]) leaveOut(b8 int) {
	clear(c.d.coeffs[64*b8:][:64])
	c.d.coded &^= 15 << (4 * b8)
	c.d.more &^= 15 << (4 * b8)
}

// leaveOutChroma gives up the AC levels of a plane of chroma.
func (c *coder[T]) leaveOutChroma(plane, blocks int) {
	d := c.d
	c.l.hasChroma[plane] = [8]uint64{}
	for k := range blocks {
		block := d.coeffs[256+128*plane+16*k:][:16]
		clear(block[1:])
		bit := 16*(1+plane) + k
		d.more &^= 1 << bit
		d.coded = d.coded&^(1<<bit) | uint64(oneIf(block[0] != 0))<<bit
	}
}

// trySkip predicts the macroblock as a skipped one and tells whether nothing is
// left to be coded.
func (c *coder[T]) trySkip() bool {
	d, r := c.d, c.r
	c.predicted = false
	if d.h.kind == sliceP {
		v := d.predictSkip()
		c.skip = choice{lists: [4]uint8{1, 1, 1, 1}, mv: [2][4]motion.Vector{{v, v, v, v}}}
		t := target{w: 16, h: 16}
		c.aim(&t)
		c.skip.cost = c.satdAt(&t, v)
		if c.skip.cost > c.price(16*8) {
			return false
		}
		c.take(&c.skip)
		r.inter()
	} else {
		c.skip = choice{shape: part8x8, direct: 15}
		c.take(&c.skip)
		r.inter()
		c.skip.cost = c.k.SATD(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, 16, 16)
		if c.skip.cost > c.price(16*8) {
			return false
		}
	}
	c.predicted = true
	return c.nothingLeft()
}

// nothingLeft tells whether nothing of the macroblock is to be coded, whose prediction
// stands in the picture. Once there is something it looks no further.
func (c *coder[T]) nothingLeft() bool {
	d, live := c.d, c.live()
	d.mb.cbp, d.coded, d.more = 0, 0, 0
	for ; live != 0; live &= live - 1 {
		b8 := mathbits.TrailingZeros8(live)
		at := c.lumaAt(4 * b8)
		if c.large(b8, at, 3, &c.q.luma) {
			value := c.worthOfLarge(b8)
			if c.leaveOut(b8); value >= leastLuma {
				return false
			}
		}
	}
	d.mb.transform8 = false
	c.codeChroma(3)
	c.predicted = false
	return d.mb.cbp == 0
}
