package h264

import (
	"math"

	"vividstrain/core/media/codec/motion"
)

// choice is how a macroblock is predicted from other pictures.
type choice struct {
	shape  partShape
	lists  [4]uint8 // which lists each 8x8 block uses, a bit each
	ref    [2][4]int8
	mv     [2][4]motion.Vector
	direct uint8 // 8x8 blocks whose motion is inferred
	cost   int
}

// applyChoice makes the choice the macroblock's motion.
func (c *macroblockEncoder[T]) applyChoice(o *choice) {
	d := c.d
	d.setInter()
	lists := 1
	if d.h.kind == sliceB {
		lists = 2
	}
	d.shape, d.mb.still, d.mb.direct = o.shape, o.shape == part16x16, 0
	if o.direct != 0 {
		d.predictDirect(int(o.direct))
	}
	if o.shape == part16x16 {
		for l := range lists {
			ref, v := int8(-1), motion.Vector{}
			if o.lists[0]>>l&1 != 0 {
				ref, v = o.ref[l][0], o.mv[l][0]
			}
			d.setWhole(l, ref, v)
		}
		if lists == 1 {
			d.setUnused(1)
		}
		return
	}
	for b8 := range 4 {
		if o.direct>>b8&1 != 0 {
			continue
		}
		d.sub[b8] = sub8x8
		first := b8&1*2 + b8>>1*8
		for l := range lists {
			if o.lists[b8]>>l&1 != 0 {
				d.setRef(l, first, 2, 2, o.ref[l][b8])
				d.setVector(l, first, 2, 2, o.mv[l][b8])
			} else {
				d.setRef(l, first, 2, 2, -1)
				d.setVector(l, first, 2, 2, motion.Vector{})
			}
		}
	}
	d.keepRefs(lists)
}

// target is a block of the macroblock, to be searched for in picture ref of list l.
type target struct {
	x, y, w, h int // in the macroblock
	l, ref     int
	pred       motion.Vector // the difference to it is sent
}

// aim prepares the search of a block.
func (c *macroblockEncoder[T]) aim(t *target) {
	r, ref, s := c.r, &c.refs[t.l][t.ref], &c.search
	s.Block, s.Stride, s.W, s.H = c.src[0][r.at+t.y*r.stride+t.x:], r.stride, t.w, t.h
	s.Ref, s.RefStride, s.RefWidth, s.RefHeight = ref.planes[0], ref.stride[0], ref.width, ref.height
	s.X, s.Y, s.Pred = c.d.x*16+t.x, r.row+t.y, t.pred
}

// predictAt predicts a block with vector v.
func (c *macroblockEncoder[T]) predictAt(dst []T, t *target, v motion.Vector) {
	r := c.r
	r.fetchLuma(dst, 16, &c.refs[t.l][t.ref], c.d.x*16+t.x+int(v.X>>2), r.row+t.y+int(v.Y>>2), t.w, t.h, int(v.X&3), int(v.Y&3))
}

// satdAt returns the SATD between the block that is searched for and the reference at v.
func (c *macroblockEncoder[T]) satdAt(t *target, v motion.Vector) int {
	s, x, y := &c.search, c.search.X+int(v.X>>2), c.search.Y+int(v.Y>>2)
	if v.X&3|v.Y&3 == 0 && s.Holds(x, y) {
		return c.k.SATD(s.Block, s.Stride, s.Ref[y*s.RefStride+x:], s.RefStride, t.w, t.h)
	}
	if a, b, ok := c.refs[t.l][t.ref].quarterpelPair(x, y, t.w, t.h, int(v.X&3), int(v.Y&3)); ok {
		return c.k.SATDMean(s.Block, s.Stride, a, b, s.RefStride, t.w, t.h)
	}
	c.predictAt(c.candidate[:], t, v)
	return c.k.SATD(s.Block, s.Stride, c.candidate[:], 16, t.w, t.h)
}

// costAt returns the cost of predicting the block with v: SATD and the bits of the vector.
func (c *macroblockEncoder[T]) costAt(t *target, v motion.Vector) int {
	cost := c.search.VectorCost(v)
	if c.d.h.kind == sliceP && t.w == 16 && t.ref == 0 && v == c.skip.mv[0][0] {
		return c.skip.cost + cost
	}
	return c.satdAt(t, v) + cost
}

// notRefined is the cost of a block whose search was given up at whole samples.
const notRefined = 1 << 30

// motionSearch returns a vector for a block, searched from the best of starts, and its cost.
func (c *macroblockEncoder[T]) motionSearch(t *target, starts []motion.Vector, steps int) (motion.Vector, int) {
	c.aim(t)
	surrounded := c.search.Run(starts, steps)
	if c.search.Cost > c.refineLimit {
		return motion.Vector{}, notRefined
	}
	return c.refine(t, surrounded)
}

// refine continues at quarter samples: it compares the predicted vector and, if the positions
// around the best one were compared, the minimum of a parabola through them. A thorough search
// also compares the eight quarter samples around the best of these.
func (c *macroblockEncoder[T]) refine(t *target, surrounded bool) (motion.Vector, int) {
	s := &c.search
	at := motion.Vector{X: int16(4 * s.I), Y: int16(4 * s.J)}
	minimum := at
	if surrounded {
		minimum.X += motion.SubpelMinimum(s.Distances[0], s.Distance, s.Distances[1])
		minimum.Y += motion.SubpelMinimum(s.Distances[2], s.Distance, s.Distances[3])
	}
	best := c.costAt(t, at)
	for _, v := range [2]motion.Vector{minimum, t.pred} {
		if v == at || !s.Within(v) {
			continue
		}
		if cost := c.costAt(t, v); cost < best {
			best, at = cost, v
		}
	}
	if !c.thorough {
		return at, best
	}
	for _, steps := range [2]*[4][2]int{&motion.SmallDiamond, &motion.SquareCorners} {
		for from, k := at, 0; k < 4; k++ {
			v := motion.Vector{X: from.X + int16(steps[k][0]), Y: from.Y + int16(steps[k][1])}
			if cost := c.costAt(t, v); cost < best {
				best, at = cost, v
			}
		}
	}
	return at, best
}

// search16x16 searches for the whole macroblock in picture ref of list l.
func (c *macroblockEncoder[T]) search16x16(l, ref int) (motion.Vector, int) {
	d := c.d
	t := target{0, 0, 16, 16, l, ref, d.predict(l, 0, 4, int8(ref))}
	starts := append(c.starts[:0], t.pred, motion.Vector{})
	for _, at := range [...]int{cacheFirst - 1, 1, 5} { // left, above, right above
		if d.ref[l][at] >= 0 && (c.thorough || len(starts) < 4) {
			starts = append(starts, d.vec[l][at])
		}
	}
	c.search.Usual = c.neighbourCost(c.searchCosts)
	v, cost := c.motionSearch(&t, starts, 16)
	if ref == 0 && l == 0 {
		c.searchCosts[d.addr] = int32(c.search.Cost)
	}
	return v, cost + c.rateCost(refBits(ref, len(c.refs[l])))
}

// neighbourCost returns the cost of the cheaper of the macroblocks to the left and above, or 0.
func (c *macroblockEncoder[T]) neighbourCost(costs []int32) int {
	n := &c.d.n
	if n.left[0] < 0 || n.top < 0 {
		return 0
	}
	least := min(costs[n.left[0]], costs[n.top])
	return int(least)
}

// refBits returns the approximate number of bits of a reference index.
func refBits(ref, n int) int {
	if n == 1 {
		return 0
	}
	return 2*ref + 1
}

// searchGains follows what motion searches gain over the predicted vector in macroblocks where that one costs little
// more than usual. Where pictures are still and most of the cost is noise, they gain nothing.
type searchGains struct {
	mean  int // of the last 16 or so, in 1/4096 of the cost
	count int // calls of leaveOut
}

// restart begins with searches that are worth their time.
func (g *searchGains) restart() { *g = searchGains{mean: 4096} }

// leaveOut reports whether to leave the next search out: an early termination. It counts the calls: every eighth search
// is made, to notice when they gain again. The limit is 2.4 percent, and twice as much with each of four steps of the
// quantiser under 19, with which costs are more and more noise. With 2.4 percent, harbour and kelp keep their PSNR at
// 1080p30 and 12 Mb/s, where the quantisers are 17 to 20; 6 percent costs kelp 0.06 dB there. At 2160p30 and 40 Mb/s, 15
// to 18, the doubling takes 13 to 17 percent less time and gains 0.1 dB, since the vectors that noise asked for took bits.
func (g *searchGains) leaveOut(qp int) bool {
	g.count++
	return g.mean < 100<<max(0, min(19-qp, 4)) && g.count&7 != 0
}

// add takes note of a search: the cost of the predicted vector and that of the best one.
func (g *searchGains) add(predicted, best int) {
	g.mean += (4096*max(0, predicted-best)/max(1, predicted) - g.mean) / 16
}

// chooseP chooses the best prediction from an earlier picture.
func (c *macroblockEncoder[T]) chooseP() {
	o := &c.best
	usual := c.neighbourCost(c.finalCosts)
	near := c.isFine() && c.skip.cost < usual+usual/2
	if !c.thorough && c.skip.cost < usual || near && c.gains.leaveOut(c.qp) {
		*o = c.skip
		c.searchCosts[c.d.addr] = int32(c.skip.cost)
		return
	}
	*o = choice{cost: math.MaxInt, lists: [4]uint8{1, 1, 1, 1}}
	c.refineLimit = math.MaxInt
	for ref := range c.refs[0] {
		v, cost := c.search16x16(0, ref)
		c.refineLimit = min(c.refineLimit, c.search.Cost+c.search.Cost/16) // for other pictures, at whole samples
		if cost < o.cost {
			o.cost = cost
			o.ref[0] = [4]int8{int8(ref), int8(ref), int8(ref), int8(ref)}
			o.mv[0] = [4]motion.Vector{v, v, v, v}
		}
	}
	if near {
		c.gains.add(c.skip.cost, o.cost)
	}
	c.refineLimit = math.MaxInt
	o.cost += c.rateCost(1)
	noise := c.noiseFloor * 5 / 4
	if c.isFine() {
		noise *= 2 // what is left is noise, which no vector predicts
	}
	if o.cost > max(c.splitThreshold, noise) {
		c.searchPartitions(0)
	}
}

// searchPartitions tries to predict each 8x8 block of the macroblock on its own.
func (c *macroblockEncoder[T]) searchPartitions(l int) {
	o := c.best
	o.shape, o.cost = part8x8, c.rateCost(9)
	ref := o.ref[l][0]
	starts := [2]motion.Vector{o.mv[l][0]}
	for b8 := range 4 {
		t := target{b8 & 1 * 8, b8 >> 1 * 8, 8, 8, l, int(ref), c.best.mv[l][0]}
		v, cost := c.motionSearch(&t, starts[:1+min(b8, 1)], c.splitSteps)
		o.mv[l][b8] = v
		starts[1] = v
		if o.cost += cost; o.cost >= c.best.cost {
			return
		}
	}
	m := &o.mv[l]
	switch {
	case m[0] == m[1] && m[2] == m[3] && m[0] == m[2]:
		return
	case m[0] == m[1] && m[2] == m[3]:
		o.shape = part16x8
	case m[0] == m[2] && m[1] == m[3]:
		o.shape = part8x16
	}
	c.best = o
}

// chooseB chooses the best prediction from earlier pictures, later ones, or both.
func (c *macroblockEncoder[T]) chooseB() {
	r, o := c.r, &c.best
	c.refineLimit = math.MaxInt
	*o = choice{cost: math.MaxInt}
	var v [2]motion.Vector
	var ref [2]int
	var cost [2]int
	for l := range 2 {
		cost[l] = math.MaxInt
		for i := range c.refs[l] {
			if w, n := c.search16x16(l, i); n < cost[l] {
				v[l], ref[l], cost[l] = w, i, n
			}
		}
	}
	uses := uint8(list0)
	o.cost = cost[0]
	if cost[1] < o.cost {
		uses, o.cost = list1, cost[1]
	}
	o.cost += c.rateCost(3)
	// Bidirectional: the mean of the two predictions.
	var price int
	for l, dst := range [2][]T{c.candidate[:], c.candidate2[:]} {
		t := target{0, 0, 16, 16, l, ref[l], c.d.predict(l, 0, 4, int8(ref[l]))}
		c.predictAt(dst, &t, v[l])
		c.search.Pred = t.pred
		price += c.search.VectorCost(v[l]) + c.rateCost(refBits(ref[l], len(c.refs[l])))
	}
	r.k.Average(c.candidate[:], 16, c.candidate2[:], 16, 16, 16)
	if n := c.k.SATD(c.src[0][r.at:], r.stride, c.candidate[:], 16, 16, 16) + price + c.rateCost(5); n < o.cost {
		uses, o.cost = both, n
	}
	for b8 := range 4 {
		o.lists[b8] = uses
		for l := range 2 {
			o.ref[l][b8], o.mv[l][b8] = int8(ref[l]), v[l]
		}
	}
	if direct := c.skip.cost + c.rateCost(1); direct <= o.cost {
		*o = c.skip
		o.cost = direct
	}
}
