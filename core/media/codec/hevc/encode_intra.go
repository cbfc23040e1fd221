package hevc

import "math"

// showSource puts the source into the picture where a block will be, for decisions by neighbours that are
// not reconstructed yet.
func (c *blockEncoder[T]) showSource(x, y, size int) {
	p, w := &c.planes[0], min(size, c.sps.width-x)
	for j := y; j < min(y+size, c.sps.height); j++ {
		copy(p.pix[j*p.stride+x:][:w], c.source[0][j*p.stride+x:])
	}
}

// decideIntra decides how a coding tree is split for intra prediction, and with which modes. It returns
// the rate-distortion cost.
func (c *blockEncoder[T]) decideIntra(x, y, log2, node int) int64 {
	size, least := 1<<log2, int64(math.MaxInt64)
	if c.inside(x, y, size) {
		least = c.intraCost(x, y, log2, &c.modes[node]) + intraBits*bitCost
	}
	c.split[node], c.nxn[node] = false, false
	sum := int64(bitCost)
	if log2 == c.sps.minCb {
		for i := range 4 {
			if bx, by := x+4*(i&1), y+4*(i>>1); sum < least {
				sum += c.intraCost(bx, by, 2, &c.modes4x4[node][i]) + intraBits*bitCost/2
			}
		}
		c.nxn[node] = sum < least
		return min(sum, least)
	}
	c.eachQuarter(x, y, log2, node, func(x, y, log2, node int) {
		if sum < least {
			sum += c.decideIntra(x, y, log2, node)
		}
	})
	c.split[node] = sum < least
	return min(sum, least)
}

// intraCost returns the rate-distortion cost of a luma block, with the best mode. The source shows in
// its place afterwards.
func (c *blockEncoder[T]) intraCost(x, y, log2 int, mode *int) int64 {
	*mode, _ = c.searchMode(x, y, log2, coarseModes[:])
	c.predictFrom(c.open, x, y, log2, 0, *mode)
	cost := c.transformCost(x, y, log2, log2 == 2)
	c.showSource(x, y, 1<<log2)
	return cost
}

// intraBits is about what a coding unit and its modes take.
const intraBits = 6

// coarseModes are the modes that are compared first; those around the best angular one follow.
var coarseModes = [...]int{modePlanar, modeDC, modeHorizontal, modeVertical, 2, 6, 14, 18, 22, 30, 34}

// searchMode returns the luma mode with the smallest cost among some and around the best of them, and
// the cost.
func (c *blockEncoder[T]) searchMode(x, y, log2 int, modes []int) (best, least int) {
	least = math.MaxInt
	candidates := c.modeCandidates(x, y)
	c.open = c.neighbours(x, y, 1<<log2, 0)
	try := func(mode int) {
		c.predictFrom(c.open, x, y, log2, 0, mode)
		bits := 6
		for i, m := range candidates {
			if m == mode {
				bits = 2 + min(i, 1)
			}
		}
		if cost := c.predictedCost(x, y, 1<<log2) + c.rateCost(bits); cost < least {
			best, least = mode, cost
		}
	}
	for _, mode := range modes {
		try(mode)
	}
	for step := 2; best > modeDC && step > 0; step-- {
		for _, mode := range [2]int{best - step, best + step} {
			if mode >= 2 && mode <= 34 {
				try(mode)
			}
		}
	}
	return best, least
}

// betterIntra reports whether intra prediction of a block costs less than the motion that was found for
// it. Then the block's tree is decided.
func (c *blockEncoder[T]) betterIntra(x, y, log2, node int) bool {
	if c.costs[node] <= c.intraThreshold<<(2*log2)>>8 {
		return false
	}
	size := 1 << log2
	b := block{xCb: x, yCb: y, nCb: size, x: x, y: y, w: size, h: size}
	m := c.f.motion[y>>2*c.f.stride4+x>>2]
	c.predictPlane(0, &b, &m)
	inter := c.transformCost(x, y, log2, false) + interBits*bitCost
	if log2 > c.leastTransform {
		parts, half := int64((interBits+2)*bitCost), size>>1
		for i := range 4 {
			parts += c.transformCost(x+half*(i&1), y+half*(i>>1), log2-1, false)
		}
		inter = min(inter, parts)
	}
	c.cuIntra = true
	c.showSource(x, y, size)
	if c.decideIntra(x, y, log2, node) < inter {
		return true
	}
	c.split[node], c.nxn[node] = false, false
	return false
}

// interBits is about what a coding unit and its motion take.
const interBits = 8

// codeIntra codes an intra coding unit.
func (c *blockEncoder[T]) codeIntra(u *codingUnit, x, y, log2, node int) {
	t := c.transform(x, y)
	*t = transformUnit{log2: uint8(log2)}
	if u.nxn = c.nxn[node]; u.nxn {
		for i, mode := range c.modes4x4[node] {
			bx, by := x+4*(i&1), y+4*(i>>1)
			c.transform(bx, by).log2 = 2
			u.coded = c.codeIntraLuma(bx, by, 2, mode) || u.coded
		}
	} else {
		u.coded = c.codeIntraLuma(x, y, log2, c.modes[node])
	}
	c.predMode = int(c.st.intraMode[y>>2*c.st.stride4+x>>2])
	if c.shiftX[1] != c.shiftY[1] {
		c.predMode = mode422[c.predMode]
	}
	u.coded = c.codeChroma(t, x, y, log2) || u.coded
}

// codeIntraLuma predicts a luma block with the mode or one around it, and codes the rest.
func (c *blockEncoder[T]) codeIntraLuma(x, y, log2, mode int) bool {
	list := append(c.modeList[:0], modePlanar, modeDC) // the neighbours have changed since it was chosen
	if mode > modeDC {
		list = append(list, mode)
	}
	mode, _ = c.searchMode(x, y, log2, list)
	c.setIntraMode(x, y, 1<<log2, uint8(mode))
	c.predictIntra(x, y, log2, 0, mode)
	coded := c.codeBlock(x, y, log2, 0)
	if coded {
		c.markCbf(x, y, 1<<log2)
	}
	return coded
}

// codeChroma codes the chroma blocks of a transform unit, after prediction where it is an intra one.
func (c *blockEncoder[T]) codeChroma(t *transformUnit, x, y, log2 int) (coded bool) {
	if !c.sps.hasChroma() {
		return false
	}
	log2 -= c.shiftX[1]
	n := 1 + c.shiftX[1] - c.shiftY[1]
	for plane := 1; plane < 3; plane++ {
		for i := range n {
			cx, cy := x>>c.shiftX[1], y>>c.shiftY[1]+i<<log2
			if c.cuIntra {
				c.predictIntra(cx, cy, log2, plane, c.predMode)
			}
			t.chroma[plane-1][i] = c.codeBlock(cx, cy, log2, plane)
			coded = coded || t.chroma[plane-1][i]
		}
	}
	return coded
}
