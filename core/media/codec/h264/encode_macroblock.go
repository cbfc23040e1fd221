package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// coder codes the macroblocks of a slice: it chooses how each is predicted,
// reconstructs it with the decoder's own means, and writes it.
type coder[T motion.Sample] struct {
	d *sliceDecoder
	r *recon[T]
	w *sliceWriter
	k searchKernels[T]

	src    [3][]T // the source picture, laid out like the frame that is made
	qp     int    // QPY to be reached
	q      qualities
	l      levels
	ok     around
	lambda int // what a bit weighs against satd, in sixteenths

	trials
	weighs     bool // levels are chosen by their bits, too
	weighing   weigher
	blockSizes []bool // of intra prediction in blocks, true for 8x8
	floor      int    // what macroblocks of the slice cost at least: noise weighs on all of them

	refs            [2][]source[T] // the reference pictures of the slice
	best, skip      choice
	predicted       bool    // the picture holds the prediction of a skipped macroblock
	costs           []int32 // what the search of each macroblock came to at whole samples
	finals          []int32 // what it came to at last
	limit           int     // beyond which it is not refined
	starts          []motion.Vector
	search          motion.Search[T]
	quarterSADs     [4]int
	reach, vertical int                          // largest components of vectors in whole samples
	guess           [16*16 + motion.RowPadding]T // a prediction that is tried
	guess2          [16*16 + motion.RowPadding]T
	preds           predictions[T] // of a block, in all modes of intra prediction
	modeCosts       modeCosts
	work8           [64]int32
	coef8           [4][64]int32
	dcs             [16]int32
	coef            [256]int32
	has             [16]uint16
}

// trials say how much is tried. Costs are satd of 8-bit samples.
type trials struct {
	thorough   bool
	weight     int    // sixteenths: of bits, compared to lambdas
	deblock    int8   // FilterOffsetA and B: noise is not to be smoothed away
	splitFrom  int    // what a macroblock must cost to be searched in 8x8 blocks
	splitSteps int    // of that search
	intraFrom  int    // what it must cost for intra prediction to be tried in P and B pictures
	intraBias  [2]int // eighths: what intra prediction may cost compared to inter prediction, in P and in B pictures
	noise      int    // eighths: of how little macroblocks cost, what an intra one is taken for noise under
	plain      int    // quarters: by how much it may be less plain than what inter prediction leaves
}

// efforts are the trials of each media.Preset. The numbers are those with which the
// scenes took the fewest bits for the time.
var efforts = [...]trials{
	media.Fast: {weight: 8, deblock: -2, splitFrom: 1400, splitSteps: 1, intraFrom: 650, intraBias: [2]int{9, 10}, noise: 12, plain: 7},
	media.Good: {thorough: true, weight: 16, deblock: -4, splitFrom: 700, splitSteps: 3, intraFrom: 500, intraBias: [2]int{9, 7}, noise: 9, plain: 10},
}

// qualities are the quantisers of a macroblock's planes.
type qualities struct {
	luma     quantiser
	chroma   [2]quantiser
	chromaDC [2]quantiser
}

// setQP takes the quantiser for the macroblocks to come.
func (c *coder[T]) setQP(qp int) {
	c.qp = qp
	c.lambda = lambdas[qp+6*(c.d.h.sps.depth-8)] * c.weight >> 4
	c.search.Lambda = c.lambda
	s := c.d.h.sps
	c.q.luma = newQuantiser(qp + 6*(s.depth-8))
	for i := range c.q.chroma {
		chroma := c.chromaQP(i)
		c.q.chroma[i], c.q.chromaDC[i] = newQuantiser(chroma), newQuantiser(chroma)
		if s.chroma.IsTall() {
			c.q.chromaDC[i] = newQuantiser(chroma + 3)
		}
	}
}

// chromaQP is QP'C of a chroma plane (8.5.8).
func (c *coder[T]) chromaQP(plane int) int {
	s := c.d.h.sps
	return chromaQP(c.qp, c.d.h.pps.chromaQPOffset[plane], s.chromaDepth) + 6*(s.chromaDepth-8)
}

// lumaScale is LevelScale of luma for the quantiser in use; list is that of the
// 4x4 blocks, 0 or 3.
func (c *coder[T]) lumaScale(list int) *[16]int32 {
	return &c.d.scale.small[list][c.qp+6*(c.d.h.sps.depth-8)]
}

func (c *coder[T]) largeScale(list int) *[64]int32 {
	return &c.d.scale.large[list/3][c.qp+6*(c.d.h.sps.depth-8)]
}

// put scales the levels of a block into the coefficients to be transformed.
func put(out []int32, levels []int16, scan []uint8, scale []int32, shift uint) {
	b := block{out: out, scan: scan, scale: scale, shift: shift}
	for i, v := range levels {
		if v != 0 {
			b.put(i, int32(v))
		}
	}
}

// inScan puts the levels c of a 4x4 or 8x8 block, of which has tells those that
// are not 0, into the order of their scan. It tells which are not 0 in that order.
func inScan(c []int32, has uint64, order []uint8, l []int16) (places uint64) {
	clear(l)
	n := len(order)
	c, l = c[:n], l[:n]
	for ; has != 0; has &= has - 1 {
		at := mathbits.TrailingZeros64(has) & (n - 1)
		i := int(order[at]) & (n - 1)
		l[i] = int16(c[at])
		places |= 1 << i
	}
	return places
}

// spread does so with a 4x4 block and scales its levels into out.
func spread(c []int32, has uint64, order []uint8, l []int16, out []int32, scale *[16]int32) (places uint64) {
	for rest := has; rest != 0; rest &= rest - 1 {
		at := mathbits.TrailingZeros64(rest) & 15
		out[at] = (c[at]*scale[at] + 8) >> 4
	}
	return inScan(c, has, order, l)
}

// small codes 4x4 block k of luma against its prediction, which stands in the
// picture, and tells whether it has coefficients. They are not added yet.
func (c *coder[T]) small(k, at, list int, q *quantiser) bool {
	c.k.forward4(c.src[0][at:], c.r.stride, c.r.luma[at:], c.r.stride, 4, 4, c.coef[:16])
	c.quantise(cat4x4, c.coef[:16], q, c.has[:1])
	return c.smallLevels(k, list, c.coef[:16], c.has[0])
}

// quantise turns the coefficients of 4x4 blocks into levels, in place, and tells which
// are not 0, a bit each.
func (c *coder[T]) quantise(cat int, coef []int32, q *quantiser, has []uint16) {
	if !c.weighs {
		c.k.quantise(coef, q.small, q.bias(q.shift), q.shift, has)
		return
	}
	w, field := c.weigher(cat), c.d.fieldScan()
	for i := range has {
		block := coef[16*i : 16*i+16]
		copy(w.coef[:], block)
		c.k.quantise(block, q.small, 1<<q.shift>>1, q.shift, has[i:i+1])
		has[i] = uint16(w.weigh(block, w.coef[:], q.small[:], q.shift, scans4[field][:], orders4[field][:], uint64(has[i])))
	}
}

// weigher is that of a category of blocks.
func (c *coder[T]) weigher(cat int) *weigher {
	w := &c.weighing
	w.state, w.flags, w.abs, w.first, w.size = c.w.bins.State, &flagBins[c.d.fieldScan()][cat], absContexts[cat], 0, 16
	switch cat {
	case catAC16, catChromaAC:
		w.first, w.size = 1, 15
	case cat8x8:
		w.size = 64
	}
	return w
}

// smallLevels takes the levels of 4x4 block k of luma.
func (c *coder[T]) smallLevels(k, list int, levels []int32, places uint16) bool {
	d, has := c.d, uint64(places)
	if has != 0 {
		has = spread(levels, has, orders4[d.fieldScan()][:], c.l.luma[16*k:16*k+16], d.coeffs[16*k:16*k+16], c.lumaScale(list))
	}
	c.l.hasLuma[k] = has
	c.noteCoded(k, has)
	return has != 0
}

// noteCoded notes which coefficients the 4x4 block k, or the 8x8 block that
// begins there, has.
func (c *coder[T]) noteCoded(k int, has uint64) {
	c.d.coded |= uint64(oneIf(has != 0)) << k
	c.d.more |= uint64(oneIf(has > 1)) << k
}

// large does so with an 8x8 block of luma.
func (c *coder[T]) large(b8, at, list int, q *quantiser) bool {
	c.k.forward8(c.src[0][at:], c.r.stride, c.r.luma[at:], c.r.stride, &c.work8)
	return c.largeLevels(b8, list, &c.work8, q)
}

// largeLevels quantises the coefficients of 8x8 block b8 of luma and takes the levels.
func (c *coder[T]) largeLevels(b8, list int, coef *[64]int32, q *quantiser) bool {
	d, scale, coeffs := c.d, c.largeScale(list), (*[64]int32)(c.d.coeffs[64*b8:])
	bias, w := q.bias(q.shift+1), (*weigher)(nil)
	if c.weighs {
		w = c.weigher(cat8x8)
		w.coef, bias = *coef, 1<<(q.shift+1)>>1
	}
	has := c.k.quantise8(coef, q.large, scale, bias, q.shift+1, coeffs)
	if w != nil && has != 0 {
		near, field := has, d.fieldScan()
		has = w.weigh(coef[:], w.coef[:], q.large[:], q.shift+1, scans8[field][:], orders8[field][:], near)
		for ; near != 0; near &= near - 1 {
			at := mathbits.TrailingZeros64(near)
			coeffs[at] = (coef[at]*scale[at] + 32) >> 6
		}
	}
	if has != 0 {
		has = inScan(coef[:], has, orders8[d.fieldScan()][:], c.l.luma[64*b8:64*b8+64])
	}
	c.l.hasLuma[4*b8] = has
	c.noteCoded(4*b8, has)
	return has != 0
}

// lumaAt is where 4x4 block k, in coding order, begins in the picture.
func (c *coder[T]) lumaAt(k int) int {
	block := blockOf[k]
	return c.r.at + block>>2*4*c.r.stride + block&3*4
}

// residual16 codes the luma of an Intra_16x16 macroblock.
func (c *coder[T]) residual16() {
	d, r, q := c.d, c.r, &c.q.luma
	c.k.forward4(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, 16, 16, c.coef[:])
	for i := range c.dcs {
		c.dcs[i] = c.coef[16*i]
		c.coef[16*i] = 0
	}
	for i := range 4 {
		motion.Hadamard(&c.dcs[4*i], &c.dcs[4*i+1], &c.dcs[4*i+2], &c.dcs[4*i+3])
	}
	for i := range 4 {
		motion.Hadamard(&c.dcs[i], &c.dcs[4+i], &c.dcs[8+i], &c.dcs[12+i])
	}
	scan, scale := scans4[d.fieldScan()][:], c.lumaScale(0)
	quantiseDC(c.dcs[:], q.small[0], scan, c.l.dc[:], q.shift+2, q)
	put(d.coeffs[:16], c.l.dc[:], scan, raw[:], 0)
	d.lumaDC(scale[0])
	c.quantise(catAC16, c.coef[:], q, c.has[:])
	for i, places := range c.has {
		k, has := codingOrder[i], uint64(places)
		if has != 0 {
			has = spread(c.coef[16*i:16*i+16], has, orders4[d.fieldScan()][:], c.l.luma[16*k:16*k+16], d.coeffs[16*k:16*k+16], scale)
			d.mb.cbp |= 15
			c.noteCoded(k, has)
		}
		c.l.hasLuma[k] = has
	}
}

// quantiseDC quantises the second transform's output, where one factor goes for
// all.
func quantiseDC(c []int32, factor int32, scan []uint8, out []int16, shift uint, q *quantiser) (n int) {
	bias := int64(q.bias(shift))
	for i, place := range scan {
		v := int64(c[place])
		sign := v >> 63
		level := ((v^sign-sign)*int64(factor) + bias) >> shift
		if out[i] = int16(level ^ sign - sign); level != 0 {
			n++
		}
	}
	return n
}

// residualChroma codes both chroma planes.
func (c *coder[T]) residualChroma(list int) {
	d, r, q := c.d, c.r, &c.q
	blocks := d.chromaBlocks()
	var any [2]int
	for plane := range 2 {
		pix, src := r.chroma[plane], c.src[1+plane]
		c.l.hasChroma[plane] = [8]uint64{}
		if list > 0 && c.k.SAD(src[r.chromaAt:], r.chromaStride, pix[r.chromaAt:], r.chromaStride, 8, 2*blocks) < q.chroma[plane].nothing()*blocks/4 {
			c.l.chromaDC[plane] = [8]int16{}
			continue
		}
		coef, has, quant := c.coef[:16*blocks], c.has[:blocks], &q.chroma[plane]
		c.k.forward4(src[r.chromaAt:], r.chromaStride, pix[r.chromaAt:], r.chromaStride, 8, 2*blocks, coef)
		for k := range blocks {
			c.dcs[k] = coef[16*k]
			coef[16*k] = 0
		}
		any[0] |= c.chromaDC(plane, blocks, list, &q.chromaDC[plane])
		c.quantise(catChromaAC, coef, quant, has)
		scale := &d.scale.small[list+1+plane][c.chromaQP(plane)]
		value := 0
		for k, has := range has {
			if has != 0 {
				levels := c.l.chroma[plane][16*k : 16*k+16]
				places := spread(coef[16*k:16*k+16], uint64(has), orders4[d.fieldScan()][:], levels, d.coeffs[256+128*plane+16*k:][:16], scale)
				c.noteCoded(16*(1+plane)+k, places)
				c.l.hasChroma[plane][k] = places
				value += worth(places>>1, levels[1:], &worths4)
			}
		}
		if list > 0 && value < leastChroma {
			c.leaveOutChroma(plane, blocks)
		}
		for _, places := range c.l.hasChroma[plane][:blocks] {
			any[1] |= int(places)
		}
	}
	switch {
	case any[1] > 0:
		d.mb.cbp |= 2 << 4
	case any[0] > 0:
		d.mb.cbp |= 1 << 4
	}
}

// chromaDC codes the DC coefficients of a chroma plane, which are in c.dcs.
func (c *coder[T]) chromaDC(plane, blocks, list int, q *quantiser) int {
	d, v := c.d, &c.dcs
	out := c.l.chromaDC[plane][:blocks]
	qp := c.chromaQP(plane)
	if blocks == 4 {
		v[0], v[1], v[2], v[3] = v[0]+v[1]+v[2]+v[3], v[0]-v[1]+v[2]-v[3], v[0]+v[1]-v[2]-v[3], v[0]-v[1]-v[2]+v[3]
	} else {
		for i := 0; i < 8; i += 2 {
			v[i], v[i+1] = v[i]+v[i+1], v[i]-v[i+1]
		}
		motion.Hadamard(&v[0], &v[2], &v[4], &v[6])
		motion.Hadamard(&v[1], &v[3], &v[5], &v[7])
	}
	n := quantiseDC(v[:blocks], q.small[0], scansDC[blocks>>3], out, q.shift+1, q)
	if n == 0 {
		return 0
	}
	d.dc = [8]int32{}
	put(d.dc[:], out, scansDC[blocks>>3], raw[:], 0)
	if blocks == 4 {
		d.chromaDC420(plane, d.scale.small[list+1+plane][qp][0])
	} else {
		d.chromaDC422(plane, d.scale.small[list+1+plane][qp+3][0])
	}
	return n
}

// macroblock codes the macroblock at x, y of the picture.
func (c *coder[T]) macroblock(x, y int, last bool) {
	d, r, w := c.d, c.r, c.w
	d.place(x, y, false)
	r.place()
	if d.h.kind == sliceI {
		c.codeIntra(math.MaxInt, false)
	} else if c.predictInter() {
		d.mb.skip, d.mb.direct16 = true, d.h.kind == sliceB
		d.mb.nonZero = [48]uint8{}
		d.clearDifferences()
		d.noteQP()
		w.writeSkip()
		w.endOfMb(last)
		return
	}
	w.writeMacroblock(&c.l, c.qp, &c.best)
	w.endOfMb(last)
}

// predictInter reconstructs the macroblock of a P or B picture, as an intra one
// where that is better, and tells whether it is to be skipped.
func (c *coder[T]) predictInter() (skipped bool) {
	d, r := c.d, c.r
	lists := 1
	if d.h.kind == sliceB {
		lists = 2
	}
	d.loadMotion(lists)
	c.bound()
	if c.trySkip() {
		c.costs[d.addr], c.finals[d.addr] = int32(c.skip.cost), int32(c.skip.cost)
		return true
	}
	if lists == 1 && !c.thorough && c.amongIntra() {
		if c.predicted = false; c.codeIntra(c.skip.cost*c.intraBias[0]/8, true) {
			c.costs[d.addr], c.finals[d.addr] = int32(c.skip.cost), int32(c.skip.cost)
			return false
		}
	}
	if lists == 2 {
		c.chooseB()
	} else {
		c.chooseP()
	}
	c.finals[d.addr] = int32(c.best.cost)
	if c.best.cost > c.intraFrom && c.mayBeIntra() {
		if c.predicted = false; c.codeIntra(c.best.cost*c.intraBias[lists-1]/8, false) {
			return false
		}
	}
	if !c.predicted || !c.best.like(&c.skip) {
		c.take(&c.best)
		r.inter()
	}
	d.mb.chromaMode = 0
	c.codeInter()
	return d.mb.cbp == 0 && c.best.like(&c.skip)
}

// amongIntra tells whether the macroblocks to the left and above are intra ones.
func (c *coder[T]) amongIntra() bool {
	d := c.d
	return d.n.left[0] >= 0 && d.n.top >= 0 && d.mbs[d.n.left[0]].intra() && d.mbs[d.n.top].intra()
}

// noteCost follows the costs of macroblocks near their lower end: what noise
// alone costs.
func (c *coder[T]) noteCost(cost int) {
	if c.floor == 0 || cost < c.floor {
		c.floor += (cost - c.floor) / 4
	} else {
		c.floor += (cost - c.floor) / 48
	}
}

// mayBeIntra tells whether intra prediction has a chance against what was found:
// whether the macroblock is plain compared to what inter prediction leaves.
func (c *coder[T]) mayBeIntra() bool {
	r := c.r
	src := c.src[0][r.at:]
	clear(c.guess[:16])
	sum := c.k.SAD(src, r.stride, c.guess[:], 0, 16, 16)
	r.k.Fill(c.guess[:], 16, 16, 1, T(sum>>8))
	return c.k.SATD(src, r.stride, c.guess[:], 0, 16, 16) < c.best.cost*c.plain/4
}

// like tells whether two choices are the same motion.
func (o *choice) like(p *choice) bool {
	return o.direct == p.direct && (o.direct == 15 || o.shape == p.shape && o.lists == p.lists && o.ref[0] == p.ref[0] && o.mv[0] == p.mv[0])
}

// bound keeps vectors within what the level allows (table A-1, MaxVmvR, from
// level 1.1 on) and not far outside the picture.
func (c *coder[T]) bound() {
	const outside = 18
	d := c.d
	height, y := d.height*16, c.r.rowOf()
	if d.h.structure != framepool.WholeFrame {
		height /= 2
	}
	most := c.vertical
	s := &c.search
	s.Left, s.Right = max(-c.reach, -d.x*16-outside), min(c.reach, (d.width-1-d.x)*16+outside)
	s.Up, s.Down = max(-most, -y-outside), min(most, height-16-y+outside)
}
