package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/ratecontrol"
)

// macroblockEncoder encodes the macroblocks of a slice: it chooses the prediction of each,
// reconstructs it with the decoder's own code, and writes it.
type macroblockEncoder[T motion.Sample] struct {
	d *sliceDecoder
	r *recon[T]
	w *sliceWriter
	k encodeKernels[T]

	src        [3][]T // the source picture, laid out like the frame that is made
	qp         int    // QPY
	quantisers mbQuantisers
	levels     levels
	available  intraNeighbours
	lambda     int // Lagrange multiplier: SATD that one bit is worth, in sixteenths

	presetSettings
	useRDOQ    bool // rate-distortion optimised quantisation
	rdoq       rdoq
	blockSizes []bool // of intra prediction in blocks, true for 8x8
	noiseFloor int    // the lowest costs of macroblocks so far in the slice, which noise alone causes

	refs                   [2][]source[T] // the reference pictures of the slice
	best, skip             choice
	skipPredicted          bool    // the picture holds the prediction of P_Skip or B_Skip
	searchCosts            []int32 // of each macroblock, after the search at whole samples
	finalCosts             []int32 // of each macroblock, after all decisions
	gains                  searchGains
	refineLimit            int // search costs above this are not refined to quarter samples
	starts                 []motion.Vector
	search                 motion.Search[T]
	quarterSADs            [4]int
	maxVectorX, maxVectorY int                          // the largest components of vectors, in whole samples
	candidate              [16*16 + motion.RowPadding]T // predictions that are compared
	candidate2             [16*16 + motion.RowPadding]T
	preds                  predictions[T] // of a block, in all modes of intra prediction
	modeCosts              modeCosts
	difference8x8          [64]int32
	coef8x8                [4][64]int32
	dcs                    [16]int32
	coef4x4                [256]int32
	nonZero                [16]uint16
}

// presetSettings are what a preset decides. Costs are SATD of 8-bit samples.
type presetSettings struct {
	thorough       bool
	lambdaScale    int    // sixteenths: factor of the Lagrange multiplier
	splitThreshold int    // cost from which a macroblock is searched in 8x8 blocks
	splitSteps     int    // steps of that search
	intraThreshold int    // cost from which intra prediction is tried in P and B pictures
	intraBias      [2]int // eighths: the most that intra prediction may cost relative to inter prediction, in P and in B pictures
	noiseThreshold int    // eighths of the noise floor: an intra macroblock that costs less is predicted 16x16
	flatness       int    // quarters: the most that its SATD around its mean may be of the inter cost for intra to be tried
}

// fineNoiseThreshold is noiseThreshold for fine quantisers. At 1080p30 and 12 Mb/s, 16 takes 4 to 6 % less time than 12,
// at the same PSNR within 0.01 dB (made-up scenes).
const fineNoiseThreshold = 16

// presets are the settings of each media.Preset. The numbers are those with which the made-up
// scenes took the fewest bits for the time (BenchmarkQuality, 720p, quantisers 27 and 37).
var presets = [...]presetSettings{
	media.Fast: {lambdaScale: 8, splitThreshold: 1400, splitSteps: 1, intraThreshold: 650, intraBias: [2]int{9, 10}, noiseThreshold: 12, flatness: 7},
	media.Good: {thorough: true, lambdaScale: 16, splitThreshold: 700, splitSteps: 3, intraThreshold: 500, intraBias: [2]int{9, 7}, noiseThreshold: 9, flatness: 10},
}

// mbQuantisers are the quantisers of a macroblock's planes.
type mbQuantisers struct {
	luma     quantiser
	chroma   [2]quantiser
	chromaDC [2]quantiser
}

// setQP sets the quantiser of the macroblocks to come.
func (c *macroblockEncoder[T]) setQP(qp int) {
	c.qp = qp
	c.lambda = lambdas[qp+6*(c.d.h.sps.depth-8)] * c.lambdaScale >> 4
	c.search.Lambda = c.lambda
	s, share := c.d.h.sps, int32(usualRounding)
	if c.isFine() {
		share = noiseRounding
	}
	c.quantisers.luma = newQuantiser(qp+6*(s.depth-8), share)
	for i := range c.quantisers.chroma {
		chroma := c.chromaQP(i)
		c.quantisers.chroma[i], c.quantisers.chromaDC[i] = newQuantiser(chroma, share), newQuantiser(chroma, share)
		if c.isFine() { // a quarter more saves 3 % of the time, and costs 0.1 dB of chroma, which has 50 (made-up scenes)
			c.quantisers.chroma[i].nothing += c.quantisers.chroma[i].nothing / 4
		}
		if s.chroma.IsTall() {
			c.quantisers.chromaDC[i] = newQuantiser(chroma+3, share)
		}
	}
}

// isFine reports whether a fast encoder has a quantiser so fine that most levels are noise.
func (c *macroblockEncoder[T]) isFine() bool { return !c.thorough && c.qp < ratecontrol.FineQP }

// chromaQP is QP'C of a chroma plane (8.5.8).
func (c *macroblockEncoder[T]) chromaQP(plane int) int {
	s := c.d.h.sps
	return chromaQP(c.qp, c.d.h.pps.chromaQPOffset[plane], s.chromaDepth) + 6*(s.chromaDepth-8)
}

// lumaScale is LevelScale of luma for the quantiser in use; list is that of the
// 4x4 blocks, 0 or 3.
func (c *macroblockEncoder[T]) lumaScale(list int) *[16]int32 {
	return &c.d.scale.small[list][c.qp+6*(c.d.h.sps.depth-8)]
}

// largeScale is LevelScale8x8 of luma; list is 0 or 3 as for lumaScale.
func (c *macroblockEncoder[T]) largeScale(list int) *[64]int32 {
	return &c.d.scale.large[list/3][c.qp+6*(c.d.h.sps.depth-8)]
}

// dequantiseInto scales the levels of a block, in scan order, into coefficients (8.5.12.1).
func dequantiseInto(out []int32, levels []int16, scan []uint8, scale []int32, shift uint) {
	b := block{out: out, scan: scan, scale: scale, shift: shift}
	for i, v := range levels {
		if v != 0 {
			b.put(i, int32(v))
		}
	}
}

// toScanOrder copies the levels c of a 4x4 or 8x8 block from raster order into scan order. Bit i
// of nonZero is set where c[i] is not 0; the result is the same for the scan order.
func toScanOrder(c []int32, nonZero uint64, order []uint8, l []int16) (nonZeroInScan uint64) {
	clear(l)
	n := len(order)
	c, l = c[:n], l[:n]
	for ; nonZero != 0; nonZero &= nonZero - 1 {
		at := mathbits.TrailingZeros64(nonZero) & (n - 1)
		i := int(order[at]) & (n - 1)
		l[i] = int16(c[at])
		nonZeroInScan |= 1 << i
	}
	return nonZeroInScan
}

// scaleLevels scales the levels c of a 4x4 block into the coefficients out (8.5.12.1).
func scaleLevels(c []int32, nonZero uint64, out []int32, scale *[16]int32) {
	for ; nonZero != 0; nonZero &= nonZero - 1 {
		at := mathbits.TrailingZeros64(nonZero) & 15
		out[at] = (c[at]*scale[at] + 8) >> 4
	}
}

// codeLuma4x4 transforms and quantises the difference of 4x4 block k of luma to its prediction,
// which is in the picture, and tells whether it has coefficients. They are not added yet.
func (c *macroblockEncoder[T]) codeLuma4x4(k, at, list int, q *quantiser) bool {
	c.k.forward4(c.src[0][at:], c.r.stride, c.r.luma[at:], c.r.stride, 4, 4, c.coef4x4[:16])
	c.quantise(cat4x4, c.coef4x4[:16], q, c.nonZero[:1])
	nonZero := uint64(c.nonZero[0])
	if nonZero != 0 {
		scaleLevels(c.coef4x4[:16], nonZero, c.d.coeffs[16*k:16*k+16], c.lumaScale(list))
		nonZero = toScanOrder(c.coef4x4[:16], nonZero, orders4[c.d.fieldScan()][:], c.levels.luma[16*k:16*k+16])
	}
	c.levels.nonZeroLuma[k] = nonZero
	c.markCoded(k, nonZero)
	return nonZero != 0
}

// quantise turns the coefficients of 4x4 blocks into levels, in place. Bit k of nonZero[i] is set
// where level k of block i is not 0.
func (c *macroblockEncoder[T]) quantise(cat int, coef []int32, q *quantiser, nonZero []uint16) {
	if !c.useRDOQ {
		c.k.quantise(coef, q.small, q.bias(q.shift), q.shift, nonZero)
		return
	}
	w, field := c.rdoqFor(cat), c.d.fieldScan()
	for i := range nonZero {
		block := coef[16*i : 16*i+16]
		copy(w.coef[:], block)
		c.k.quantise(block, q.small, 1<<q.shift>>1, q.shift, nonZero[i:i+1])
		nonZero[i] = uint16(w.run(block, w.coef[:], q.small[:], q.shift, scans4[field][:], orders4[field][:], uint64(nonZero[i])))
	}
}

// rdoqFor prepares rate-distortion optimised quantisation for a category of blocks (ctxBlockCat).
func (c *macroblockEncoder[T]) rdoqFor(cat int) *rdoq {
	w := &c.rdoq
	w.state, w.flags, w.abs, w.first, w.size = c.w.bins.State, &significanceBins[c.d.fieldScan()][cat], absContexts[cat], 0, 16
	switch cat {
	case catAC16, catChromaAC:
		w.first, w.size = 1, 15
	case cat8x8:
		w.size = 64
	}
	return w
}

// markCoded tells reconstruction whether the 4x4 block k, or the 8x8 block that begins there, has
// coefficients, and more than a DC coefficient.
func (c *macroblockEncoder[T]) markCoded(k int, nonZero uint64) {
	c.d.coded |= uint64(oneIf(nonZero != 0)) << k
	c.d.more |= uint64(oneIf(nonZero > 1)) << k
}

// codeLuma8x8 transforms and quantises the difference of 8x8 block b8 of luma to its prediction,
// and tells whether it has coefficients.
func (c *macroblockEncoder[T]) codeLuma8x8(b8, at, list int, q *quantiser) bool {
	c.k.forward8(c.src[0][at:], c.r.stride, c.r.luma[at:], c.r.stride, &c.difference8x8)
	return c.quantiseLuma8x8(b8, list, &c.difference8x8, q)
}

// quantiseLuma8x8 quantises the coefficients of 8x8 block b8 of luma, keeps the levels for the
// writer, and dequantises them.
func (c *macroblockEncoder[T]) quantiseLuma8x8(b8, list int, coef *[64]int32, q *quantiser) bool {
	d, scale, coeffs := c.d, c.largeScale(list), (*[64]int32)(c.d.coeffs[64*b8:])
	bias, w := q.bias(q.shift+1), (*rdoq)(nil)
	if c.useRDOQ {
		w = c.rdoqFor(cat8x8)
		w.coef, bias = *coef, 1<<(q.shift+1)>>1
	}
	nonZero := c.k.quantise8(coef, q.large, scale, bias, q.shift+1, coeffs)
	if w != nil && nonZero != 0 {
		near, field := nonZero, d.fieldScan()
		nonZero = w.run(coef[:], w.coef[:], q.large[:], q.shift+1, scans8[field][:], orders8[field][:], near)
		for ; near != 0; near &= near - 1 {
			at := mathbits.TrailingZeros64(near)
			coeffs[at] = (coef[at]*scale[at] + 32) >> 6
		}
	}
	if nonZero != 0 {
		nonZero = toScanOrder(coef[:], nonZero, orders8[d.fieldScan()][:], c.levels.luma[64*b8:64*b8+64])
	}
	c.levels.nonZeroLuma[4*b8] = nonZero
	c.markCoded(4*b8, nonZero)
	return nonZero != 0
}

// lumaAt is where 4x4 block k, in coding order, begins in the picture.
func (c *macroblockEncoder[T]) lumaAt(k int) int {
	block := blockOf[k]
	return c.r.at + block>>2*4*c.r.stride + block&3*4
}

// codeResidual16x16 transforms and quantises the luma of an Intra_16x16 macroblock, whose DC
// coefficients are transformed once more (8.5.10).
func (c *macroblockEncoder[T]) codeResidual16x16() {
	d, r, q := c.d, c.r, &c.quantisers.luma
	c.k.forward4(c.src[0][r.at:], r.stride, r.luma[r.at:], r.stride, 16, 16, c.coef4x4[:])
	for i := range c.dcs {
		c.dcs[i] = c.coef4x4[16*i]
		c.coef4x4[16*i] = 0
	}
	hadamard(&c.dcs)
	order, scale := orders4[d.fieldScan()][:], c.lumaScale(0)
	c.k.quantise(c.dcs[:], q.dc, q.bias(q.shift+2), q.shift+2, c.nonZero[:1])
	c.levels.nonZeroDC = toScanOrder(c.dcs[:], uint64(c.nonZero[0]), order, c.levels.dc[:])
	if c.nonZero[0] != 0 {
		copy(d.dc[:], c.dcs[:])
		d.lumaDC(scale[0], false)
	}
	c.quantise(catAC16, c.coef4x4[:], q, c.nonZero[:])
	c.levels.nonZeroLuma = [16]uint64{}
	score := 0
	for i, raster := range c.nonZero {
		if raster == 0 {
			continue
		}
		k := codingOrder[i]
		levels := c.levels.luma[16*k : 16*k+16]
		nonZero := toScanOrder(c.coef4x4[16*i:16*i+16], uint64(raster), order, levels)
		c.levels.nonZeroLuma[k] = nonZero
		if score < minIntraScore {
			score += decimationScore(nonZero>>1, levels[1:], &decimationScores4x4)
		}
	}
	if c.isFine() && score < minIntraScore {
		c.levels.nonZeroLuma = [16]uint64{}
		return
	}
	for i, raster := range c.nonZero {
		if raster == 0 {
			continue
		}
		k := codingOrder[i]
		scaleLevels(c.coef4x4[16*i:16*i+16], uint64(raster), d.coeffs[16*k:16*k+16], scale)
		d.mb.cbp |= 15
		c.markCoded(k, c.levels.nonZeroLuma[k])
	}
}

// quantiseDC quantises the output of the second transform, with one factor, into scan order. It
// returns how many levels are not 0.
func quantiseDC(c []int32, factor int32, scan []uint8, out []int16, shift uint, q *quantiser) (n int) {
	bias := uint32(q.bias(shift))
	for i, place := range scan {
		v := c[place]
		sign := v >> 31
		level := int32((uint32(v^sign-sign)*uint32(factor) + bias) >> (shift & 31))
		out[i] = int16(level ^ sign - sign)
		n += oneIf(level != 0)
	}
	return n
}

// codeResidualChroma transforms and quantises both chroma planes. list is that of LevelScale for
// luma: 0 in intra and 3 in inter macroblocks.
func (c *macroblockEncoder[T]) codeResidualChroma(list int) {
	d, r, q := c.d, c.r, &c.quantisers
	blocks := d.chromaBlocks()
	var any [2]int
	for plane := range 2 {
		pix, src := r.chroma[plane], c.src[1+plane]
		c.levels.nonZeroChroma[plane] = [8]uint64{}
		if c.k.SAD(src[r.chromaAt:], r.chromaStride, pix[r.chromaAt:], r.chromaStride, 8, 2*blocks) < q.chroma[plane].nothing*blocks/4 {
			c.levels.chromaDC[plane] = [8]int16{}
			continue
		}
		coef, nonZero, quant := c.coef4x4[:16*blocks], c.nonZero[:blocks], &q.chroma[plane]
		c.k.forward4(src[r.chromaAt:], r.chromaStride, pix[r.chromaAt:], r.chromaStride, 8, 2*blocks, coef)
		for k := range blocks {
			c.dcs[k] = coef[16*k]
			coef[16*k] = 0
		}
		any[0] |= c.chromaDC(plane, blocks, list, &q.chromaDC[plane])
		c.quantise(catChromaAC, coef, quant, nonZero)
		any[1] |= oneIf(c.keepChromaAC(plane, list, coef, nonZero))
	}
	switch {
	case any[1] > 0:
		d.mb.cbp |= 2 << 4
	case any[0] > 0:
		d.mb.cbp |= 1 << 4
	}
}

// keepChromaAC keeps the quantised AC levels of a chroma plane for the writer and scales them, and reports whether there
// are any. Those of an inter macroblock that are not worth their bits are dropped.
func (c *macroblockEncoder[T]) keepChromaAC(plane, list int, coef []int32, nonZero []uint16) (any bool) {
	kept := &c.levels.nonZeroChroma[plane]
	score := c.orderLevels(coef, nonZero, 1, c.levels.chroma[plane][:], kept[:])
	if list > 0 && score < minChromaScore {
		*kept = [8]uint64{}
		return false
	}
	return c.scaleBlocks(coef, nonZero, chromaBlock(plane), &c.d.scale.small[list+1+plane][c.chromaQP(plane)], kept[:])
}

// chromaDC transforms, quantises and dequantises the DC coefficients of a chroma plane, which are
// in c.dcs (8.5.11.1), and returns how many are not 0.
func (c *macroblockEncoder[T]) chromaDC(plane, blocks, list int, q *quantiser) int {
	d, v := c.d, &c.dcs
	out := c.levels.chromaDC[plane][:blocks]
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
	dequantiseInto(d.dc[16*plane:][:8], out, scansDC[blocks>>3], raw[:], 0)
	if blocks == 4 {
		d.chromaDC420(plane, d.scale.small[list+1+plane][qp][0], false)
	} else {
		d.chromaDC422(plane, d.scale.small[list+1+plane][qp+3][0], false)
	}
	return n
}

// macroblock codes the macroblock at x, y of the picture.
func (c *macroblockEncoder[T]) macroblock(x, y int, last bool) {
	d, r, w := c.d, c.r, c.w
	d.place(x, y, false)
	r.place()
	r.prefetch(r.luma, r.chroma[:])
	r.prefetch(c.src[0], c.src[1:])
	if d.h.kind == sliceI {
		c.codeIntra(math.MaxInt, false)
	} else if c.predictInter() {
		d.mb.skip, d.mb.direct16 = true, d.h.kind == sliceB
		d.mb.numbers = edgeNumbers{}
		d.clearDifferences()
		d.storeQP()
		w.writeSkip()
		w.endOfMb(last)
		return
	}
	w.writeMacroblock(&c.levels, c.qp, &c.best)
	w.endOfMb(last)
}

// predictInter reconstructs the macroblock of a P or B picture, as an intra macroblock where that
// is cheaper, and tells whether it is skipped.
func (c *macroblockEncoder[T]) predictInter() (skipped bool) {
	d, r := c.d, c.r
	lists := 1
	if d.h.kind == sliceB {
		lists = 2
	}
	// Among noise, motion is looked at only in every eighth macroblock, since intra prediction leaves nothing but noise.
	// One that motion predicts better ends it for those beside and below.
	hasty := lists == 1 && !c.thorough && c.neighboursAreIntra()
	blind := hasty && c.isFine() && (d.x+3*d.y)&7 != 0
	if blind && c.codePlain(math.MaxInt) {
		c.noteCost(c.noiseFloor)
		return false
	}
	d.loadMotion(lists)
	c.setVectorBounds()
	if c.trySkip() {
		c.noteCost(c.skip.cost)
		return true
	}
	if hasty && !blind && c.codePlain(c.skip.cost*c.intraBias[0]/8) {
		c.noteCost(c.skip.cost)
		return false
	}
	if lists == 2 {
		c.chooseB()
	} else {
		c.chooseP()
	}
	c.finalCosts[d.addr] = int32(c.best.cost)
	if c.best.cost > c.intraThreshold && c.mayBeIntra() {
		if c.skipPredicted = false; c.codeIntra(c.best.cost*c.intraBias[lists-1]/8, false) {
			return false
		}
	}
	if !c.skipPredicted || !c.best.sameMotion(&c.skip) {
		c.applyChoice(&c.best)
		r.inter()
	}
	d.mb.chromaMode = 0
	c.codeInter()
	return d.mb.cbp == 0 && c.best.sameMotion(&c.skip)
}

// codePlain codes a plain macroblock as an intra one, unless it costs more than limit, and reports whether it did.
func (c *macroblockEncoder[T]) codePlain(limit int) bool {
	c.skipPredicted = false
	return c.codeIntra(limit, true)
}

// noteCost notes the cost of a macroblock whose motion was not searched for, for those beside and below.
func (c *macroblockEncoder[T]) noteCost(cost int) {
	c.searchCosts[c.d.addr], c.finalCosts[c.d.addr] = int32(cost), int32(cost)
}

// neighboursAreIntra tells whether the macroblocks to the left and above are intra ones.
func (c *macroblockEncoder[T]) neighboursAreIntra() bool {
	d := c.d
	return d.n.left[0] >= 0 && d.n.top >= 0 && d.mbs[d.n.left[0]].intra() && d.mbs[d.n.top].intra()
}

// updateNoiseFloor follows the lowest costs of macroblocks: fast downwards, slowly upwards.
func (c *macroblockEncoder[T]) updateNoiseFloor(cost int) {
	if c.noiseFloor == 0 || cost < c.noiseFloor {
		c.noiseFloor += (cost - c.noiseFloor) / 4
	} else {
		c.noiseFloor += (cost - c.noiseFloor) / 48
	}
}

// mayBeIntra reports whether intra prediction should be tried: whether the macroblock is flat
// compared with the residual of inter prediction. It is an early termination.
func (c *macroblockEncoder[T]) mayBeIntra() bool {
	r := c.r
	src := c.src[0][r.at:]
	clear(c.candidate[:16])
	sum := c.k.SAD(src, r.stride, c.candidate[:], 0, 16, 16)
	r.k.Fill(c.candidate[:], 16, 16, 1, T(sum>>8))
	return c.k.SATD(src, r.stride, c.candidate[:], 0, 16, 16) < c.best.cost*c.flatness/4
}

// sameMotion tells whether two choices predict the same.
func (o *choice) sameMotion(p *choice) bool {
	return o.direct == p.direct && (o.direct == 15 || o.shape == p.shape && o.lists == p.lists && o.ref[0] == p.ref[0] && o.mv[0] == p.mv[0])
}

// setVectorBounds keeps vectors within what the level allows (table A-1, MaxVmvR, from
// level 1.1 on) and not far outside the picture.
func (c *macroblockEncoder[T]) setVectorBounds() {
	const outside = 18
	d := c.d
	height, y := d.height*16, c.r.row
	if d.h.structure != framepool.WholeFrame {
		height /= 2
	}
	most := c.maxVectorY
	s := &c.search
	s.Left, s.Right = max(-c.maxVectorX, -d.x*16-outside), min(c.maxVectorX, (d.width-1-d.x)*16+outside)
	s.Up, s.Down = max(-most, -y-outside), min(most, height-16-y+outside)
}
