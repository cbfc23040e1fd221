package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// choice is how a macroblock is predicted from other pictures.
type choice struct {
	shape  partShape
	lists  [4]uint8 // which lists each 8x8 block uses, a bit each
	ref    [2][4]int8
	mv     [2][4]vector
	direct uint8 // 8x8 blocks whose motion is inferred
	cost   int
}

// take makes the choice the macroblock's motion.
func (c *coder[T]) take(o *choice) {
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
			ref, v := int8(-1), vector{}
			if o.lists[0]>>l&1 != 0 {
				ref, v = o.ref[l][0], o.mv[l][0]
			}
			d.setRef(l, 0, 4, 4, ref)
			d.setVector(l, 0, 4, 4, v)
		}
		d.keepRefs(lists)
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
				d.setVector(l, first, 2, 2, vector{})
			}
		}
	}
	d.keepRefs(lists)
}

// vectorBits is about how many bits a component of a difference takes, by its
// absolute value.
var vectorBits = func() (n [1 << 11]uint8) {
	for v := range n {
		n[v] = uint8(1 + 2*mathbits.Len(uint(v)))
	}
	return n
}()

func (c *coder[T]) vectorPrice(v, pred vector) int {
	x, y := v.x-pred.x, v.y-pred.y
	return c.price(int(vectorBits[min(max(x, -x), 1<<11-1)&(1<<11-1)]) + int(vectorBits[min(max(y, -y), 1<<11-1)&(1<<11-1)]))
}

// target is a block of the macroblock that is searched for.
type target struct {
	x, y, w, h int // in the macroblock
	l, ref     int
	pred       vector // the difference to it is sent
}

// window is where a target's block is looked for.
type window[T motion.Sample] struct {
	src         []T // the block itself
	of          *source[T]
	pix         []T // of the reference picture
	stride      int
	x, y        int // of the block in the picture
	right, down int // the largest x and y with which the block lies within the picture
}

func (c *coder[T]) window(t *target) (w window[T]) {
	r, s := c.r, &c.refs[t.l][t.ref]
	return window[T]{c.src[0][r.at+t.y*r.stride+t.x:], s, s.planes[0], s.stride[0], c.d.x*16 + t.x, r.rowOf() + t.y, s.width - t.w, s.height - t.h}
}

// holds tells whether a block at x, y of the picture lies within it.
func (w *window[T]) holds(x, y int) bool { return uint(x) <= uint(w.right) && uint(y) <= uint(w.down) }

// sadAt compares a block with the reference at whole samples x, y away.
func (c *coder[T]) sadAt(t *target, w *window[T], x, y int) int {
	x, y = x+w.x, y+w.y
	if w.holds(x, y) {
		return c.k.SAD(w.src, c.r.stride, w.pix[y*w.stride+x:], w.stride, t.w, t.h)
	}
	pix, step := c.r.inside(w.pix, w.stride, w.right+t.w, w.down+t.h, x, y, t.w, t.h)
	return c.k.SAD(w.src, c.r.stride, pix, step, t.w, t.h)
}

// predictAt makes the prediction of a block with vector v.
func (c *coder[T]) predictAt(dst []T, t *target, v vector) {
	r := c.r
	r.fetchLuma(dst, 16, &c.refs[t.l][t.ref], c.d.x*16+t.x+int(v.x>>2), r.rowOf()+t.y+int(v.y>>2), t.w, t.h, int(v.x&3), int(v.y&3))
}

// satdAt compares a block with the reference at v.
func (c *coder[T]) satdAt(t *target, w *window[T], v vector) int {
	stride, x, y := c.r.stride, w.x+int(v.x>>2), w.y+int(v.y>>2)
	if v.x&3|v.y&3 == 0 && w.holds(x, y) {
		return c.k.SATD(w.src, stride, w.pix[y*w.stride+x:], w.stride, t.w, t.h)
	}
	if a, b, ok := w.of.pair(x, y, t.w, t.h, int(v.x&3), int(v.y&3)); ok {
		return c.k.SATDMean(w.src, stride, a, b, w.stride, t.w, t.h)
	}
	c.predictAt(c.guess[:], t, v)
	return c.k.SATD(w.src, stride, c.guess[:], 16, t.w, t.h)
}

// costAt is what a block costs that is predicted with v.
func (c *coder[T]) costAt(h *hunt[T], v vector) int {
	price := c.vectorPrice(v, h.t.pred)
	if c.d.h.kind == sliceP && h.t.w == 16 && h.t.ref == 0 && v == c.skip.mv[0][0] {
		return c.skip.cost + price
	}
	return c.satdAt(&h.t, &h.window, v) + price
}

// The steps of the search at whole samples.
var (
	wide    = [4][2]int{{-2, 0}, {2, 0}, {0, -2}, {0, 2}}
	cross   = [4][2]int{{-1, 0}, {1, 0}, {0, -1}, {0, 1}}
	saltire = [4][2]int{{-1, -1}, {1, -1}, {-1, 1}, {1, 1}}
)

// hunt is the search for a block at whole samples.
type hunt[T motion.Sample] struct {
	window[T]
	t        target
	at, sums [4]int // of the four places that were tried last
	i, j     int    // the best place so far, relative to the block's own
	best     int    // its cost: sad and the price of the vector
	sad      int
}

// four tries four places. Those beyond the bounds are moved to them.
func (c *coder[T]) four(h *hunt[T], places *[4][2]int) {
	inside := true
	for k, p := range places {
		i, j := max(c.left, min(p[0], c.right)), max(c.up, min(p[1], c.down))
		places[k] = [2]int{i, j}
		x, y := h.x+i, h.y+j
		inside = inside && h.holds(x, y)
		h.at[k] = y*h.stride + x
	}
	if inside {
		c.k.SADFour(h.src, c.r.stride, h.pix, h.stride, h.t.w, h.t.h, &h.at, &h.sums)
	} else {
		for k, p := range places {
			h.sums[k] = c.sadAt(&h.t, &h.window, p[0], p[1])
		}
	}
	for k, p := range places {
		if h.sums[k] < h.best {
			c.better(h, k, p[0], p[1])
		}
	}
}

// unreached is the sum of a place that was not tried.
const unreached = math.MaxInt32

// near tries the places that are steps away from the best one; not, in a hurry, those
// that reach out of the picture.
func (c *coder[T]) near(h *hunt[T], steps *[4][2]int) bool {
	i, j := h.i, h.j
	if h.clear(c, i, j) {
		at := (h.y+j)*h.stride + h.x + i
		for k, s := range steps {
			h.at[k] = at + s[1]*h.stride + s[0]
		}
		c.k.SADFour(h.src, c.r.stride, h.pix, h.stride, h.t.w, h.t.h, &h.at, &h.sums)
	} else {
		for k, s := range steps {
			h.sums[k] = unreached
			if i, j := i+s[0], j+s[1]; i >= c.left && i <= c.right && j >= c.up && j <= c.down && (c.thorough || h.holds(h.x+i, h.y+j)) {
				h.sums[k] = c.sadAt(&h.t, &h.window, i, j)
			}
		}
	}
	moved := false
	for k, s := range steps {
		moved = h.sums[k] < h.best && c.better(h, k, i+s[0], j+s[1]) || moved
	}
	return moved
}

// clear tells whether all steps from place i, j lead to places within the bounds
// and in the picture.
func (h *hunt[T]) clear(c *coder[T], i, j int) bool {
	const most = 2 // of a step
	x, y := h.x+i, h.y+j
	return i >= c.left+most && i <= c.right-most && j >= c.up+most && j <= c.down-most &&
		x >= most && x <= h.right-most && y >= most && y <= h.down-most
}

// better takes place i, j, the k-th of those that were tried, if it is the best so far.
func (c *coder[T]) better(h *hunt[T], k, i, j int) bool {
	cost := h.sums[k] + c.vectorPrice(vector{int16(4 * i), int16(4 * j)}, h.t.pred)
	if cost >= h.best {
		return false
	}
	h.best, h.sad, h.i, h.j = cost, h.sums[k], i, j
	return true
}

// search finds a vector for a block, starting from the best of starts. The cost
// is satd and the price of the vector.
func (c *coder[T]) search(t *target, starts []vector, steps int) (vector, int) {
	h := &c.hunt
	h.window, h.t, h.best = c.window(t), *t, math.MaxInt
	for len(starts) > 0 {
		var places [4][2]int
		for k := range places {
			s := starts[min(k, len(starts)-1)]
			places[k] = [2]int{int(s.x+2) >> 2, int(s.y+2) >> 2}
		}
		c.four(h, &places)
		starts = starts[min(4, len(starts)):]
	}
	if !c.thorough && h.best < c.usual {
		steps = 0 // as good as around here
	}
	moved := c.thorough || c.near(h, &cross)
	if moved {
		for range steps {
			if !c.near(h, &wide) {
				break
			}
		}
		moved = c.near(h, &cross)
	}
	for round := 0; round < 4 && (moved || c.thorough && c.near(h, &saltire)); round++ {
		moved = c.near(h, &cross)
	}
	c.found = h.best
	if h.best > c.limit {
		return vector{}, hopeless
	}
	return c.refine(h, !moved && !c.thorough)
}

// hopeless is the cost of what was not looked at closely.
const hopeless = 1 << 30

// refine goes on to quarter samples: it guesses the place between samples from how
// the differences at whole samples grow to both sides, as if on a parabola, and
// tries it and the predicted vector.
func (c *coder[T]) refine(h *hunt[T], crossed bool) (vector, int) {
	t := &h.t
	at := vector{int16(4 * h.i), int16(4 * h.j)}
	guess := at
	if crossed {
		guess.x += h.top(h.sums[0], h.sums[1])
		guess.y += h.top(h.sums[2], h.sums[3])
	}
	best := c.costAt(h, at)
	for _, v := range [2]vector{guess, t.pred} {
		if v == at || !c.within(v) {
			continue
		}
		if cost := c.costAt(h, v); cost < best {
			best, at = cost, v
		}
	}
	if !c.thorough {
		return at, best
	}
	for _, steps := range [2]*[4][2]int{&cross, &saltire} {
		for from, k := at, 0; k < 4; k++ {
			v := vector{from.x + int16(steps[k][0]), from.y + int16(steps[k][1])}
			if cost := c.costAt(h, v); cost < best {
				best, at = cost, v
			}
		}
	}
	return at, best
}

// top is where between samples a parabola through the differences before, at and
// behind the best place is lowest, in quarters.
func (h *hunt[T]) top(before, behind int) int16 {
	curve := before + behind - 2*h.sad
	if curve <= 0 || before == unreached || behind == unreached {
		return 0
	}
	return int16(max(-2, min((4*(before-behind)+curve)/(2*curve), 2)))
}

// within tells whether a vector is within the bounds.
func (c *coder[T]) within(v vector) bool {
	x, y := int(v.x>>2), int(v.y>>2)
	return x >= c.left && x < c.right && y >= c.up && y < c.down
}

// whole searches the whole macroblock in picture ref of list l.
func (c *coder[T]) whole(l, ref int) (vector, int) {
	d := c.d
	t := target{0, 0, 16, 16, l, ref, d.predict(l, 0, 4, int8(ref))}
	starts := append(c.starts[:0], t.pred, vector{})
	for _, at := range [...]int{cacheFirst - 1, 1, 5} { // left, above, right above
		if d.ref[l][at] >= 0 && (c.thorough || len(starts) < 4) {
			starts = append(starts, d.vec[l][at])
		}
	}
	c.usual = c.usualCost(c.costs)
	v, cost := c.search(&t, starts, 16)
	if ref == 0 && l == 0 {
		c.costs[d.addr] = int32(c.found)
	}
	return v, cost + c.price(refBits(ref, len(c.refs[l])))
}

// usualCost is what the cheaper of the macroblocks to the left and above came to,
// or 0.
func (c *coder[T]) usualCost(costs []int32) int {
	n := &c.d.n
	if n.left[0] < 0 || n.top < 0 {
		return 0
	}
	least := min(costs[n.left[0]], costs[n.top])
	return int(least)
}

// refBits is about how many bits a reference index takes.
func refBits(ref, n int) int {
	if n == 1 {
		return 0
	}
	return 2*ref + 1
}

// chooseP finds the best prediction from a picture before.
func (c *coder[T]) chooseP() {
	o := &c.best
	if usual := c.usualCost(c.finals); !c.thorough && c.skip.cost < usual {
		*o = c.skip
		c.costs[c.d.addr] = int32(c.skip.cost)
		return
	}
	*o = choice{cost: math.MaxInt, lists: [4]uint8{1, 1, 1, 1}}
	c.limit = math.MaxInt
	for ref := range c.refs[0] {
		v, cost := c.whole(0, ref)
		c.limit = min(c.limit, c.found+c.found/16) // for other pictures, at whole samples
		if cost < o.cost {
			o.cost = cost
			o.ref[0] = [4]int8{int8(ref), int8(ref), int8(ref), int8(ref)}
			o.mv[0] = [4]vector{v, v, v, v}
		}
	}
	c.limit = math.MaxInt
	o.cost += c.price(1)
	if o.cost > max(c.splitFrom, c.floor*5/4) {
		c.split(0)
	}
}

// split tries to predict each 8x8 block of the macroblock on its own.
func (c *coder[T]) split(l int) {
	o := c.best
	o.shape, o.cost = part8x8, c.price(9)
	ref := o.ref[l][0]
	starts := [2]vector{o.mv[l][0]}
	for b8 := range 4 {
		t := target{b8 & 1 * 8, b8 >> 1 * 8, 8, 8, l, int(ref), c.best.mv[l][0]}
		v, cost := c.search(&t, starts[:1+min(b8, 1)], c.splitSteps)
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

// chooseB finds the best prediction from pictures before, behind or both.
func (c *coder[T]) chooseB() {
	r, o := c.r, &c.best
	c.limit = math.MaxInt
	*o = choice{cost: math.MaxInt}
	var v [2]vector
	var ref [2]int
	var cost [2]int
	for l := range 2 {
		cost[l] = math.MaxInt
		for i := range c.refs[l] {
			if w, n := c.whole(l, i); n < cost[l] {
				v[l], ref[l], cost[l] = w, i, n
			}
		}
	}
	uses := uint8(list0)
	o.cost = cost[0]
	if cost[1] < o.cost {
		uses, o.cost = list1, cost[1]
	}
	o.cost += c.price(3)
	// Both at once: the mean of the two predictions.
	var price int
	for l, dst := range [2][]T{c.guess[:], c.guess2[:]} {
		t := target{0, 0, 16, 16, l, ref[l], c.d.predict(l, 0, 4, int8(ref[l]))}
		c.predictAt(dst, &t, v[l])
		price += c.vectorPrice(v[l], t.pred) + c.price(refBits(ref[l], len(c.refs[l])))
	}
	r.k.Average(c.guess[:], 16, c.guess2[:], 16, 16, 16)
	if n := c.k.SATD(c.src[0][r.at:], r.stride, c.guess[:], 16, 16, 16) + price + c.price(5); n < o.cost {
		uses, o.cost = both, n
	}
	for b8 := range 4 {
		o.lists[b8] = uses
		for l := range 2 {
			o.ref[l][b8], o.mv[l][b8] = int8(ref[l]), v[l]
		}
	}
	if direct := c.skip.cost + c.price(1); direct <= o.cost {
		*o = c.skip
		o.cost = direct
	}
}
