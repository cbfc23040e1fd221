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
	chroma, scanIdx, stride := min(plane, 1), c.scanIndex(log2, plane), c.planes[plane].stride
	levels := c.levels[plane][y0*stride+x0:]
	subScan, scan := scans[scanIdx][log2-2], scans[scanIdx][2]
	var coded [9]uint16 // of each row of sub-blocks, a bit for each that has levels
	last := 0
	for i, p := range subScan {
		sx, sy := int(p&15), int(p>>4)
		at := sy<<2*stride + sx<<2
		any := int16(0)
		for j := range 4 {
			row := levels[at+j*stride:][:4]
			any |= row[0] | row[1] | row[2] | row[3]
		}
		if any != 0 {
			coded[sy] |= 1 << sx
			last = i
		}
	}
	previous := -1 // greater1Ctx of the sub-block before
	for i := last; i >= 0; i-- {
		sx, sy := int(subScan[i]&15), int(subScan[i]>>4)
		neighbours := int(coded[sy]>>(sx+1)&1 | coded[sy+1]>>sx&1<<1)
		has := coded[sy]>>sx&1 != 0
		if i < last && i > 0 {
			c.flag(ctxCodedSub+2*chroma+min(neighbours, 1), has)
		}
		if !has && (i < last && i > 0) {
			continue
		}
		coded[sy] |= 1 << sx // the first sub-block counts as coded
		var list [16]int16
		for k, p := range scan {
			list[k] = levels[(sy<<2+int(p>>4))*stride+sx<<2+int(p&15)]
		}
		first := 15
		if i == last {
			for list[first] == 0 {
				first--
			}
			c.writeLast(sx<<2+int(scan[first]&15), sy<<2+int(scan[first]>>4), log2, chroma, scanIdx)
			first--
		}
		contexts, base := sigTable(log2, chroma, scanIdx, neighbours, i == 0)
		infer := i < last && i > 0
		for k := first; k >= 0; k-- {
			if k == 0 && infer {
				break
			}
			ctx := base + int(contexts[k])
			if k == 0 && i == 0 && log2 > 2 {
				ctx = ctxSig + 27*chroma
			}
			c.flag(ctx, list[k] != 0)
			infer = infer && list[k] == 0
		}
		if has {
			c.out.MakeRoom()
			previous = c.writeLevels(&list, i, chroma, previous)
		}
	}
}

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

// writeLevels writes the levels of a sub-block, in scan order, from the last to the first. It returns
// greater1Ctx after it.
func (c *blockEncoder[T]) writeLevels(list *[16]int16, sub, chroma, before int) int {
	set := greater1Set(sub, chroma, before)
	base := ctxGreater1 + set*4 + 16*chroma
	greater, n, firstG2 := 1, 0, -1
	signs, count := 0, 0
	var magnitudes [16]int32
	for k := 15; k >= 0; k-- {
		v := int32(list[k])
		if v == 0 {
			continue
		}
		signs, count = signs<<1, count+1
		if v < 0 {
			signs, v = signs|1, -v
		}
		magnitudes[n] = v
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
