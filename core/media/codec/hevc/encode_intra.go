package hevc

import (
	"math"
	"math/bits"

	"vividstrain/core/media/codec/motion"
)

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
	if least <= intraBits*bitCost+2*codedCost { // hardly a level
		return least
	}
	if log2 == c.sps.minCb {
		if c.wholeIntra {
			return least
		}
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
	*mode, _ = c.searchMode(x, y, log2, c.likelyModes(x, y, log2))
	c.predictFrom(c.border[:4<<log2+1], x, y, log2, 0, *mode)
	cost := c.transformCost(c.coefs[:], x, y, log2, log2 == 2)
	c.showSource(x, y, 1<<log2)
	return cost
}

// intraBits is about what a coding unit and its modes take.
const intraBits = 12

// searchMode returns the luma mode of a block with the smallest cost, and the cost: planar and DC are
// compared, angular ones, and those around the best of these.
func (c *blockEncoder[T]) searchMode(x, y, log2 int, angular []int) (best, least int) {
	n, src := 1<<log2, c.source[0][y*c.planes[0].stride+x:]
	least = math.MaxInt
	candidates := c.modeCandidates(x, y)
	border := c.neighbours(x, y, n, 0)
	var smooth []int16
	turned := false
	try := func(mode int) {
		p, compared, stride := border, src, c.planes[0].stride
		if c.filters(n, 0, mode) {
			if smooth == nil {
				smooth = c.smooth(border, n, 0)
			}
			p = smooth
		}
		switch {
		case mode == modePlanar:
			c.k.planar(c.candidate[:], n, p, n, log2)
		case mode == modeDC:
			c.dc(c.candidate[:], n, p, n, log2, n < 32)
		default:
			c.angular(c.candidate[:], n, p, n, 0, mode)
			if mode < firstVertical {
				if !turned {
					turnBlock(c.turnedSource[:], src, stride, n)
					turned = true
				}
				compared, stride = c.turnedSource[:], n
			}
		}
		bits := 6
		for i, m := range candidates {
			if m == mode {
				bits = 2 + min(i, 1)
			}
		}
		if cost := c.satd(compared, stride, c.candidate[:], n, n) + c.rateCost(bits); cost < least {
			best, least = mode, cost
		}
	}
	try(modePlanar)
	try(modeDC)
	for _, mode := range angular {
		try(mode)
	}
	for step := c.modeSteps; best > modeDC && step > 0; step-- {
		for _, mode := range [2]int{best - step, best + step} {
			if mode >= 2 && mode <= 34 {
				try(mode)
			}
		}
	}
	return best, least
}

// turnBlock swaps the rows and columns of a block.
func turnBlock[T motion.Sample](dst, src []T, stride, n int) {
	for y := range n {
		for x, v := range src[y*stride:][:n] {
			dst[x*n+y] = v
		}
	}
}

// directions are the n edges at up to four places of 4x4 samples: the angular mode along each one, and its strength.
type directions struct {
	known    bool
	n        uint8
	mode     [4]uint8
	strength [4]uint16
}

// likelyModes returns the angular modes whose directions most edges of a block have.
func (c *blockEncoder[T]) likelyModes(x, y, log2 int) []int {
	var sum [35]int // by mode
	for by := y; by < y+1<<log2; by += 4 {
		for bx := x; bx < x+1<<log2; bx += 4 {
			d := c.directionsAt(bx, by)
			for i, mode := range d.mode[:d.n&7] {
				sum[mode] += int(d.strength[i])
			}
		}
	}
	list := c.modeList[:0]
	for range c.likely {
		best := modeVertical
		for mode := 2; mode <= 34; mode++ {
			if sum[mode] > sum[best] {
				best = mode
			}
		}
		sum[best] = -1
		list = append(list, best)
	}
	return list
}

// directionsAt returns the directions of the edges in 4x4 samples of the source: at right angles to
// gradients (Sobel's operator) at every second place.
func (c *blockEncoder[T]) directionsAt(x, y int) *directions {
	mask := 1<<c.sps.ctb - 1
	d := &c.edgesOf[y&mask>>2*8+x&mask>>2]
	if d.known {
		return d
	}
	*d = directions{known: true}
	src, stride, left := c.source[0], c.planes[0].stride, max(x, 1)
	for j := max(y, 1); j < min(y+4, c.sps.height-1); j += 2 {
		at := j*stride + left - 1
		a, b, e := (*[5]T)(src[at-stride:]), (*[5]T)(src[at:]), (*[5]T)(src[at+stride:])
		for i := 0; i < 4 && left+i < min(x+4, c.sps.width-1); i += 2 {
			gx := int32(a[i+2]) + 2*int32(b[i+2]) + int32(e[i+2]) - int32(a[i]) - 2*int32(b[i]) - int32(e[i])
			gy := int32(e[i]) + 2*int32(e[i+1]) + int32(e[i+2]) - int32(a[i]) - 2*int32(a[i+1]) - int32(a[i+2])
			across, down := motion.Abs32(gx), motion.Abs32(gy)
			switch {
			case across|down == 0:
				continue
			case down > across:
				d.mode[d.n&3] = angleModes[0][32+32*gx/gy]
			default:
				d.mode[d.n&3] = angleModes[1][32+32*gy/gx]
			}
			d.strength[d.n&3] = uint16(across + down)
			d.n++
		}
	}
	return d
}

// angleModes are the modes nearest to an angle in 1/32 of a sample plus 32: horizontal and vertical ones.
var angleModes = func() (list [2][65]uint8) {
	for i := range 65 {
		for k, from := range [2]int{2, firstVertical} {
			best := from
			for mode := from; mode < from+16+k; mode++ {
				if abs(intraAngle[mode]-(i-32)) < abs(intraAngle[best]-(i-32)) {
					best = mode
				}
			}
			list[k][i] = uint8(best)
		}
	}
	return list
}()

// betterIntra reports whether intra prediction of a block costs less than the motion that was found for
// it. Then the block's tree is decided.
func (c *blockEncoder[T]) betterIntra(x, y, log2, node int) bool {
	if c.costs[node] <= c.intraThreshold<<(2*log2)>>8 {
		return false
	}
	size := 1 << log2
	if c.unevenness(x, y, size) > c.costs[node]*c.flatness>>2 {
		return false
	}
	b := block{xCb: x, yCb: y, nCb: size, x: x, y: y, w: size, h: size}
	m := c.f.motion[y>>2*c.f.stride4+x>>2]
	c.predictPlane(0, &b, &m)
	inter := c.transformCost(c.coefs[:], x, y, log2, false)
	if !c.quantise(c.coefs[:], log2, 0) { // nothing would be coded
		return false
	}
	if log2 > c.leastTransform {
		quarters, _ := c.quartersCost(x, y, log2, inter)
		inter = min(inter, quarters)
	}
	c.cuIntra = true
	c.showSource(x, y, size)
	if c.decideIntra(x, y, log2, node) < inter+interBits*bitCost {
		return true
	}
	c.split[node], c.nxn[node] = false, false
	return false
}

// unevenness is the SATD of a luma block around its mean.
func (c *blockEncoder[T]) unevenness(x, y, size int) int {
	stride := c.planes[0].stride
	src, sum := c.source[0][y*stride+x:], 0
	for j := range size {
		for _, v := range src[j*stride:][:size] {
			sum += int(v)
		}
	}
	motion.FillBlock(c.candidate[:], size, size, 1, T(sum>>(2*bits.TrailingZeros(uint(size))))) // a row that is used for all
	return c.satd(src, stride, c.candidate[:], 0, size)
}

// interBits is about what a coding unit and its motion take.
const interBits = 6

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
	c.predMode = c.chromaModeOf(c.lumaModeAt(x, y))
	u.coded = c.codeChroma(t, x, y, log2) || u.coded
}

// codeIntraLuma predicts a luma block with the mode or one around it, and codes the rest.
func (c *blockEncoder[T]) codeIntraLuma(x, y, log2, mode int) bool {
	if mode > modeDC {
		c.modeList[0] = mode
		mode, _ = c.searchMode(x, y, log2, c.modeList[:1]) // the neighbours have changed since it was chosen
	}
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
