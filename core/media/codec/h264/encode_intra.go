package h264

import "math"

// lambdas are the Lagrange multipliers of bits against SATD, indexed by QPY + 6 for each bit of
// depth above 8, in sixteenths: sqrt(0.85) * 2^((QP-12)/6).
var lambdas = func() (l [maxQP + 1]int) {
	for qp := range l {
		l[qp] = int(16*math.Sqrt(0.85)*math.Exp2(float64(qp-12)/6) + 0.5)
	}
	return l
}()

// rateCost returns the cost of bits in units of SATD.
func (c *macroblockEncoder[T]) rateCost(bits int) int { return c.lambda * bits >> 4 }

// findNeighbours determines which neighbours intra prediction may use.
func (c *macroblockEncoder[T]) findNeighbours() {
	d := c.d
	c.available = d.intraNeighbours()
}

// chooseIntra16x16 returns the best mode of Intra_16x16 and its cost.
func (c *macroblockEncoder[T]) chooseIntra16x16() (mode, cost int) {
	r := c.r
	left := c.available.left == allRows
	cost = math.MaxInt
	modes, brief := []int{2, 0, 1, 3}, !c.thorough && c.d.h.kind != sliceI
	if brief {
		modes = modes[:3]
	}
	for _, m := range modes {
		if m == 0 && !c.available.top || m == 1 && !left || m == 3 && !(left && c.available.top && c.available.topLeft) {
			continue
		}
		// Vertical and DC predictions have equal rows.
		pred, step := c.candidate[:], 0
		switch m {
		case 0:
			pred = r.luma[r.at-r.stride:]
		case 2:
			r.k.Fill(c.candidate[:], 16, 16, 1, r.mean(r.at, r.stride, 16, left, c.available.top))
		default:
			r.intra16(r.at, m, &c.available)
			pred, step = r.luma[r.at:], r.stride
		}
		if v := c.k.SATD(c.src[0][r.at:], r.stride, pred, step, 16, 16) + c.rateCost(3); v < cost {
			mode, cost = m, v
		}
		if brief && c.isPlain(cost) {
			break // no other mode predicts noise
		}
	}
	return mode, cost
}

// isPlain reports whether an intra cost is so near the noise floor that no smaller block predicts better: noise
// cannot be predicted.
func (c *macroblockEncoder[T]) isPlain(cost int) bool {
	limit := c.noiseThreshold
	if c.isFine() {
		limit = fineNoiseThreshold
	}
	return c.d.h.kind != sliceI && cost*8 < c.noiseFloor*limit
}

// chooseIntraChroma finds the best mode of chroma, sets it and predicts with it.
func (c *macroblockEncoder[T]) chooseIntraChroma() {
	d, r := c.d, c.r
	if r.planes == 1 {
		return
	}
	left := c.available.left == allRows
	best, cost, modes := 0, math.MaxInt, 4
	if !c.thorough && d.h.kind != sliceI {
		modes = 0
		if d.mb.kind == kind16x16 {
			best = [4]int{2, 1, 0, 3}[d.mode16] // as luma
		}
	}
	for m := range modes {
		if m == 1 && !left || m == 2 && !c.available.top || m == 3 && !(left && c.available.top && c.available.topLeft) {
			continue
		}
		v := c.rateCost(min(2*m+1, 5))
		for i := range 2 {
			r.intraChroma(1+i, m, &c.available)
			v += c.k.SATD(c.src[1+i][r.chromaAt:], r.chromaStride, r.chroma[i][r.chromaAt:], r.chromaStride, 8, r.chromaRows)
		}
		if v < cost {
			best, cost = m, v
		}
	}
	d.mb.chromaMode = uint8(best)
	for i := range 2 {
		r.intraChroma(1+i, best, &c.available)
	}
}

// codeIntraBlocks chooses the modes of an Intra_4x4 or, with large, Intra_8x8 macroblock and
// reconstructs its luma. It stops when the cost exceeds limit.
func (c *macroblockEncoder[T]) codeIntraBlocks(large bool, limit int) (cost int, ok bool) {
	d := c.d
	step := c.beginIntraBlocks(large)
	d.loadModes()
	cost = c.rateCost(2)
	for k := 0; k < 16; k += step {
		at, place := c.lumaAt(k), cacheAt[blockOf[k]]
		mode, v := c.chooseIntraMode(k, at, place, large)
		if cost += v; cost >= limit {
			return cost, false
		}
		d.modes[place] = mode
		if large {
			d.modes[place+1], d.modes[place+cacheStep], d.modes[place+cacheStep+1] = mode, mode, mode
		}
		c.codeIntraBlock(k, at, large)
	}
	for i, at := range cacheAt {
		d.mb.modes[i] = d.modes[at]
	}
	return cost, true
}

// repeatIntraBlocks reconstructs the luma of a macroblock in the modes chosen last.
func (c *macroblockEncoder[T]) repeatIntraBlocks(large bool) {
	for k, step := 0, c.beginIntraBlocks(large); k < 16; k += step {
		at, mode := c.lumaAt(k), c.d.mb.modes[blockOf[k]]
		if large {
			c.r.intra8(at, k>>2, mode, &c.available)
		} else {
			c.r.intra4(at, blockOf[k], mode, &c.available)
		}
		c.codeIntraBlock(k, at, large)
	}
}

// beginIntraBlocks returns how many 4x4 blocks are predicted at once.
func (c *macroblockEncoder[T]) beginIntraBlocks(large bool) (step int) {
	d := c.d
	d.mb.transform8, d.mb.cbp, d.coded, d.more = large, 0, 0, 0
	return 1 + 3*oneIf(large)
}

// codeIntraBlock codes block k against its prediction, which is in the picture.
func (c *macroblockEncoder[T]) codeIntraBlock(k, at int, large bool) {
	coded := false
	if large {
		coded = c.codeLuma8x8(k>>2, at, 0, &c.quantisers.luma)
	} else {
		coded = c.codeLuma4x4(k, at, 0, &c.quantisers.luma)
	}
	if coded {
		c.d.mb.cbp |= 1 << (k >> 2)
		c.r.addLumaBlock(k, at)
	}
}

// chooseIntraMode predicts block k in its best mode.
func (c *macroblockEncoder[T]) chooseIntraMode(k, at, place int, large bool) (best int8, cost int) {
	d, r, block, n := c.d, c.r, blockOf[k], 4
	left, top, above := block&3 > 0 || c.available.beside(block>>2), block > 3 || c.available.top, r.border[6:10]
	if large {
		n, above = 8, r.border[10:18]
		left, top = r.loadBorder8(at, k>>2, &c.available)
	} else {
		r.loadBorder4(at, block, &c.available)
	}
	c.k.directions(&r.border, n, &c.preds)
	r.k.Fill(c.preds[2*n*n:], n, n, n, meanOf(r.border[1:1+n], above, left, top, r.maxSample[0]))
	c.k.satdEach(c.src[0][at:], r.stride, &c.preds, n, &c.modeCosts)
	lacks := oneIf(!left)*needLeft | oneIf(!top)*needTop | oneIf(!cornerOf(block, &c.available))*needCorner
	predicted := min(d.modes[place-1], d.modes[place-cacheStep])
	if predicted < 0 {
		predicted = 2
	}
	best, cost = c.modeCosts.least(predicted, int32(c.rateCost(5)), lacks)
	r.k.Copy(r.luma[at:], r.stride, c.preds[int(best)*n*n:], n, n, n)
	return best, cost + c.rateCost(1)
}

// codeIntra chooses the intra prediction of the macroblock and reconstructs it,
// unless it costs limit or more. With hasty it does this for plain macroblocks only.
func (c *macroblockEncoder[T]) codeIntra(limit int, hasty bool) bool {
	d := c.d
	c.findNeighbours()
	mode, cost := c.chooseIntra16x16()
	if cost > limit {
		return false // smaller blocks will not make up the difference
	}
	plain := c.isPlain(cost)
	if hasty && !plain {
		return false
	}
	c.updateNoiseFloor(cost)
	best, size := limit, 0
	if cost < best {
		best, size = cost, 16
	}
	d.setIntra(kindIntra)
	whole := true // the last block size was tried completely
	if !plain {
		for _, large := range c.blockSizes {
			var v int
			if v, whole = c.codeIntraBlocks(large, best); whole {
				best, size = v, 4+4*oneIf(large)
			}
		}
	}
	switch {
	case size == 0:
		return false
	case size == 16:
		c.codeIntra16x16(mode)
	case !whole:
		c.repeatIntraBlocks(size == 8) // another size was tried after it
	}
	c.chooseIntraChroma()
	c.codeChroma(0)
	return true
}

// codeIntra16x16 reconstructs the luma of a macroblock of Intra_16x16.
func (c *macroblockEncoder[T]) codeIntra16x16(mode int) {
	d, r := c.d, c.r
	d.mb.kind, d.mb.transform8, d.mb.cbp, d.coded, d.more = kind16x16, false, 0, 0, 0
	d.mb.modes = dcModes
	d.mode16 = mode
	r.intra16(r.at, mode, &c.available)
	c.codeResidual16x16()
	r.addLuma()
}

// codeChroma reconstructs chroma, whose prediction is in the picture.
func (c *macroblockEncoder[T]) codeChroma(list int) {
	if c.r.planes == 1 {
		return
	}
	c.codeResidualChroma(list)
	if c.d.coded>>16 != 0 {
		c.r.addChroma()
	}
}
