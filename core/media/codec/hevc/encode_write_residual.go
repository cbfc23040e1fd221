package hevc

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// writeDifference writes mvd_coding (7.3.8.9).
func (c *blockEncoder[T]) writeDifference(v motion.Vector) {
	x, y := motion.Abs32(int32(v.X)), motion.Abs32(int32(v.Y))
	c.flag(ctxMvdGreater0, x > 0)
	c.flag(ctxMvdGreater0, y > 0)
	if x > 0 {
		c.flag(ctxMvdGreater1, x > 1)
	}
	if y > 0 {
		c.flag(ctxMvdGreater1, y > 1)
	}
	for _, d := range [2]int16{v.X, v.Y} {
		if d == 0 {
			continue
		}
		if n := motion.Abs32(int32(d)); n > 1 {
			c.out.ExpGolomb(n-2, 1)
		}
		c.out.Bypass(int(uint16(d) >> 15))
	}
}

// writeResidual writes residual_coding (7.3.8.11) of the block at samples of a plane.
func (c *blockEncoder[T]) writeResidual(x0, y0, log2, plane int) {
	c.out.MakeRoom()
	chroma, scanIdx := min(plane, 1), c.scanIndex(log2, plane)
	at := c.levelsAt(x0, y0)
	levels, coded := c.levels[plane][at:][:1<<(2*log2)], c.coded[plane][at>>4]
	subScan, scan, sets := scans[scanIdx][log2-2], &rasterScans[scanIdx], &setsInScan[scanIdx]
	last := len(subScan) - 1
	for coded>>(subScan[last]>>4<<3|subScan[last]&7)&1 == 0 {
		last--
	}
	previous := -1 // greater1Ctx of the sub-block before
	for i := last; i >= 0; i-- {
		sx, sy := uint(subScan[i]&7), uint(subScan[i]>>4)
		has := coded>>(sy<<3|sx)&1 != 0
		right, below := coded>>(sy<<3|sx+1)&1, coded>>(sy<<3|sx+8)&1
		if sx == 7 {
			right = 0
		}
		neighbours := int(right | below<<1)
		if i < last && i > 0 {
			if c.flag(ctxCodedSub+2*chroma+min(neighbours, 1), has); !has {
				continue
			}
		}
		list := (*[16]int16)(levels[(sy<<(log2-2)+sx)<<4:])
		set := c.k.nonZero(list)
		which := uint(sets[0][set&255] | sets[1][set>>8&255])
		first := 15
		if i == last {
			first = mathbits.Len(which) - 1
			p := int(scan[first])
			c.writeLast(int(sx)<<2+p&3, int(sy)<<2+p>>2, log2, chroma, scanIdx)
			first--
		}
		contexts, base := sigTable(log2, chroma, scanIdx, neighbours, i == 0)
		end := 0
		switch {
		case i > 0 && i < last && which>>1 == 0: // the last flag is inferred
			end = 1
		case i == 0 && log2 > 2: // the first of all has a context of its own
			end = 1
		}
		for k := first; k >= end; k-- {
			c.out.Decision(base+int(contexts[k&15]), int(which>>k&1))
		}
		if end > 0 && i == 0 && first >= 0 {
			c.out.Decision(ctxSig+27*chroma, int(which&1))
		}
		if has {
			c.out.MakeRoom()
			previous = c.writeLevels(list, scan, which, i, chroma, previous)
		}
	}
}

// rasterScans are the scans of the coefficients of a sub-block as places in raster order.
var rasterScans = func() (list [3][16]uint8) {
	for i := range list {
		for k, p := range scans[i][2] {
			list[i][k] = p>>4<<2 | p&15
		}
	}
	return list
}()

// setsInScan turn sets of the places of a sub-block in raster order, the first and the last eight, into sets
// of places in scan order.
var setsInScan = func() (list [3][2][256]uint16) {
	for i := range list {
		for k, p := range rasterScans[i] {
			for set := range 256 {
				list[i][p>>3][set] |= uint16(set >> (p & 7) & 1 << k)
			}
		}
	}
	return list
}()

// writeLast writes the place of the last level.
func (c *blockEncoder[T]) writeLast(x, y, log2, chroma, scanIdx int) {
	if scanIdx == 2 {
		x, y = y, x
	}
	offset, shift := lastContexts(log2, chroma)
	prefix := func(ctx, v int) (p int) {
		if p = v; v > 3 {
			n := mathbits.Len(uint(v)) - 2
			p = 2*n + 2 + v>>n&1
		}
		for n := range p {
			c.out.Decision(ctx+offset+n>>shift, 1)
		}
		if p < 2*log2-1 {
			c.out.Decision(ctx+offset+p>>shift, 0)
		}
		return p
	}
	suffix := func(p, v int) {
		if p > 3 {
			n := p>>1 - 1
			c.fixed(v&(1<<n-1), n)
		}
	}
	px := prefix(ctxLastX, x)
	py := prefix(ctxLastY, y)
	suffix(px, x)
	suffix(py, y)
}

// writeLevels writes the levels of a sub-block, of which those whose bits are set in which are not 0, from
// the last in scan order to the first. It returns greater1Ctx after it.
func (c *blockEncoder[T]) writeLevels(list *[16]int16, scan *[16]uint8, which uint, sub, chroma, before int) int {
	set := greater1Set(sub, chroma, before)
	base := ctxGreater1 + set*4 + 16*chroma
	greater, n, firstG2 := 1, 0, -1
	signs, count := 0, mathbits.OnesCount(which)
	var magnitudes [16]int32
	for which != 0 {
		k := mathbits.Len(which) - 1
		which &^= 1 << k
		v := int32(list[scan[k&15]&15])
		sign := v >> 31
		signs, v = signs<<1-int(sign), v^sign-sign
		magnitudes[n&15] = v
		if n++; n > 8 {
			continue
		}
		c.flag(base+greater, v > 1)
		switch {
		case v > 1:
			if greater = 0; firstG2 < 0 {
				firstG2 = n - 1
			}
		case greater > 0 && greater < 3:
			greater++
		}
	}
	if firstG2 >= 0 {
		c.flag(ctxGreater2+set+4*chroma, magnitudes[firstG2] > 2)
	}
	c.fixed(signs, count)
	rice := 0
	for k, v := range magnitudes[:n] {
		least := leastRemaining(k, firstG2)
		if v < least {
			continue
		}
		c.writeRemaining(v-least, rice)
		if v > 3<<rice {
			rice = min(rice+1, 4)
		}
	}
	return greater
}

// greater1Set returns ctxSet of a sub-block (9.3.4.2.6); before is greater1Ctx after the one before it.
func greater1Set(sub, chroma, before int) (set int) {
	if sub > 0 && chroma == 0 {
		set = 2
	}
	if before == 0 {
		set++
	}
	return set
}

// leastRemaining returns the magnitude from which the k-th level of a sub-block has
// coeff_abs_level_remaining; firstG2 is the one with coeff_abs_level_greater2_flag.
func leastRemaining(k, firstG2 int) int32 {
	switch {
	case k == firstG2:
		return 3
	case k < 8:
		return 2
	}
	return 1
}

// writeRemaining writes coeff_abs_level_remaining (9.3.3.11).
func (c *blockEncoder[T]) writeRemaining(v int32, rice int) {
	if v < 4<<rice {
		for range v >> rice {
			c.out.Bypass(1)
		}
		c.out.Bypass(0)
		c.fixed(int(v), rice)
		return
	}
	v -= 4 << rice
	for range 4 {
		c.out.Bypass(1)
	}
	c.out.ExpGolomb(v, rice+1)
}
