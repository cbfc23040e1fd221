package hevc

import (
	"math"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/gop"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/ratecontrol"
)

// blockEncoder decides how the blocks of a picture are coded, and reconstructs them with the decoder's
// own code. What it decides is left in the picture's state, units and levels, from which writeSlice
// writes it.
type blockEncoder[T motion.Sample] struct {
	worker[T]
	presetSettings
	distance motion.DistanceKernels[T]

	source         [3][]T          // laid out like the planes
	levels         [3][]int16      // by levelsAt
	coded          [3][]uint64     // which sub-blocks of a block have levels, by levelsAt in sixteenths
	units          []codingUnit    // by the smallest coding block of their first sample
	transformUnits []transformUnit // by the 4x4 block of their first sample
	lambda         int             // Lagrange multiplier: SATD that one bit is worth, in sixteenths
	earlyLimit     float64         // SATD a sample under which no further prediction is tried
	quantisers     [3]quantiser
	coefs          [32 * 32]int16
	quarters       [3][32 * 32]int16 // coefficients of the quarters of blocks of 8, 16 and 32 samples
	quantised      [32 * 32]int16

	// Of the coding tree block under way, by its node: the root is 0, children of n are 4n+1 to 4n+4.
	split    [nodes]bool
	modes    [nodes]int // of luma
	modes4x4 [nodes][4]int
	nxn      [nodes]bool
	costs    [nodes]int // of inter prediction

	search                  motion.Search[T]
	starts                  []motion.Vector
	merges                  [5]blockMotion
	modeList                [4]int
	candidate, turnedSource [32*32 + motion.RowPadding]T
	edgesOf                 [64]directions // of the coding tree block under way
	searchCosts             []int32        // of blocks of 16x16 samples, after the search at whole samples
	finalCosts              []int32
	stride16, stride32      int // blocks of 16x16 and of 32x32 in a row
	saoStats                [3]saoStatistics
	saoLambda               float64 // squared error that one bit is worth: 0.4 * 2^((QP-12)/3), by BenchmarkQuality
	out                     cabac.Encoder
	states                  [512]uint8
}

// nodes is the number of nodes of a coding tree block of 32x32 down to blocks of 8x8.
const nodes = 1 + 4 + 16

// codingUnit is what is written of a coding unit besides its place and mode.
type codingUnit struct {
	merge     bool
	mergeIdx  uint8
	predictor [2]uint8 // mvp_l0_flag, mvp_l1_flag
	delta     [2]motion.Vector
	nxn       bool // intra, of four luma blocks
	coded     bool // has coefficients
}

// transformUnit is what is written of a transform unit besides its place and whether luma has
// coefficients. That of a chroma block which belongs to four luma blocks of 4x4 is in the first one.
type transformUnit struct {
	log2   uint8
	chroma [2][2]bool // which chroma blocks have coefficients; of 4:2:2 there are two under each other
}

// presetSettings are what a preset decides. Costs are SATD of 8-bit samples.
type presetSettings struct {
	thorough       bool
	maxMerge       int     // MaxNumMergeCand
	deblockOffset  int     // slice_beta_offset_div2 and slice_tc_offset_div2, doubled
	lambdaScale    int     // sixteenths: factor of the Lagrange multiplier
	splitThreshold int     // cost of 16x16 samples from which 8x8 blocks are tried
	intraThreshold int     // cost of 16x16 samples from which intra prediction is tried in P and B pictures
	flatness       int     // quarters: the most that the SATD around the mean may be of the inter cost for that
	early          float64 // SATD a sample, in quantiser steps, under which nothing further is tried
	wholeIntra     bool    // intra blocks of 8x8 are not split further
	likely         int     // angular modes that are tried by the edges of the source
	modeSteps      int     // then modes up to so far from the best one
	saoEvery       int     // every how many rows sample adaptive offset is decided by
	saoClasses     int     // how many of the edge classes are tried
	leastSplit     int64   // transformCost from which the transforms of quarters are tried
	splitGain      int64   // sixteenths of that cost which they must save
	leastTransform int     // log2 of the smallest transform block of inter prediction, less one level
}

// presets are the settings of each media.Preset. They gave the best PSNR at equal bits for the time over
// the three scenes (BenchmarkQuality, 360p and 720p, QP 27 and 37).
var presets = [...]presetSettings{
	media.Fast: {maxMerge: 2, lambdaScale: 12, splitThreshold: 2500, intraThreshold: 1200, flatness: 5, early: 0.15, leastTransform: 2, likely: 1, modeSteps: 1, saoEvery: 3, saoClasses: 2, leastSplit: 12 * codedCost},
	media.Good: {thorough: true, maxMerge: 4, lambdaScale: 16, splitThreshold: 600, intraThreshold: 500, flatness: 12, early: 0.15, leastTransform: 2, likely: 3, modeSteps: 2, saoEvery: 1, saoClasses: 4},
}

// settingsFor returns the settings of a preset for pictures of a height. Details of large pictures are
// larger too, so that small transforms save fewer bits: in 1080p30 at 12 Mb/s an encoder that uses them
// less takes a seventh less time and loses 0.07 dB.
func settingsFor(preset media.Preset, height int) presetSettings {
	set := presets[preset]
	if preset == media.Fast && height >= 720 {
		set.splitGain, set.wholeIntra = 4, true
	}
	return set
}

func newBlockEncoder[T motion.Sample](e *Encoder, k kernels[T], distance motion.DistanceKernels[T]) *blockEncoder[T] {
	s := e.sps
	c := &blockEncoder[T]{presetSettings: settingsFor(e.Settings.Preset, s.height), distance: distance}
	c.k = k
	c.splitThreshold <<= s.depth - 8
	c.intraThreshold <<= s.depth - 8
	c.search.DistanceKernels, c.search.Thorough = distance, c.thorough
	c.search.RefWidth, c.search.RefHeight = s.width, s.height
	c.units = make([]codingUnit, s.width>>s.minCb*(s.height>>s.minCb))
	c.stride16 = (s.width + 15) >> 4
	c.transformUnits = make([]transformUnit, (s.width>>2)*(s.height>>2))
	n := c.stride16 * ((s.height + 15) >> 4)
	c.searchCosts, c.finalCosts = make([]int32, n), make([]int32, n)
	c.stride32 = (s.width + 31) >> 5
	for i := range s.chroma.Planes() {
		n := c.stride32 * ((s.height + 31) >> 5)
		c.levels[i], c.coded[i] = make([]int16, n<<10), make([]uint64, n<<6)
	}
	return c
}

// begin prepares for a picture.
func (c *blockEncoder[T]) begin(st *state, h *sliceHeader, in *gop.Source) {
	c.worker.begin(st)
	c.startSlice(h, 0)
	c.qpPrev, c.qpY = h.qp, h.qp
	c.setQPs()
	for i := range c.sps.chroma.Planes() {
		c.source[i] = samplesOf[T](&in.Planes[i])
		c.quantisers[i] = newQuantiser(c.qps[i], c.depths[i])
	}
	up := 6 * (c.sps.depth - 8)
	c.lambda = int(16*math.Sqrt(0.85)*math.Exp2(float64(h.qp+up-12)/6)+0.5) * c.lambdaScale >> 4
	c.search.Lambda = c.lambda
	c.earlyLimit = c.early * ratecontrol.Step(h.qp) * float64(int(1)<<(c.sps.depth-8))
	c.saoLambda = 0.4 * math.Exp2(float64(h.qp+up-12)/3)
	if h.kind == sliceI {
		clear(c.searchCosts)
		clear(c.finalCosts)
	}
}

// rateCost returns the cost of bits in units of SATD.
func (c *blockEncoder[T]) rateCost(bits int) int { return c.lambda * bits >> 4 }

// encodeTree decides on and reconstructs the coding tree block at a place in blocks.
func (c *blockEncoder[T]) encodeTree(cx, cy int) {
	rs := cy*c.sps.ctbWidth + cx
	c.st.sliceAddr[rs], c.f.sliceOf[rs] = 0, 0
	c.enter(cx, cy)
	x, y := cx<<c.sps.ctb, cy<<c.sps.ctb
	for i := range c.edgesOf {
		c.edgesOf[i].known = false
	}
	if c.h.kind == sliceI {
		c.showSource(x, y, 1<<c.sps.ctb)
		c.decideIntra(x, y, c.sps.ctb, 0)
	} else {
		c.decideInter(x, y, c.sps.ctb, 0)
	}
	c.codeTree(x, y, c.sps.ctb, 0, 0, c.h.kind == sliceI)
}

// inside reports whether a block is wholly inside the picture; others are split without a flag.
func (c *blockEncoder[T]) inside(x, y, size int) bool {
	return x+size <= c.sps.width && y+size <= c.sps.height
}

// eachQuarter calls f for the quarters of a block that are in the picture.
func (c *blockEncoder[T]) eachQuarter(x, y, log2, node int, f func(x, y, log2, node int)) {
	half := 1 << (log2 - 1)
	for i := range 4 {
		qx, qy := x+half*(i&1), y+half*(i>>1)
		if qx < c.sps.width && qy < c.sps.height {
			f(qx, qy, log2-1, 4*node+1+i)
		}
	}
}

// codeTree codes a coding tree as it was decided. intra means that all of it is intra.
func (c *blockEncoder[T]) codeTree(x, y, log2, node, depth int, intra bool) {
	if log2 > c.sps.minCb && (c.split[node] || !c.inside(x, y, 1<<log2)) {
		c.eachQuarter(x, y, log2, node, func(x, y, log2, node int) { c.codeTree(x, y, log2, node, depth+1, intra) })
		return
	}
	if !intra && c.betterIntra(x, y, log2, node) {
		c.codeTree(x, y, log2, node, depth, true)
		return
	}
	u := &c.units[c.cb(x, y)]
	*u = codingUnit{}
	c.cuX, c.cuY, c.cuLog2, c.cuSkip, c.cuIntra = x, y, log2, false, intra
	if intra {
		c.markCU(x, y, 1<<log2, depth)
		c.codeIntra(u, x, y, log2, node)
	} else {
		c.codeInter(u, x, y, log2, depth)
	}
	c.edges(x, y, 1<<log2)
	c.setQP(x, y, 1<<log2)
}

// transform returns the transform unit at a luma sample.
func (c *blockEncoder[T]) transform(x, y int) *transformUnit {
	return &c.transformUnits[y>>2*c.st.stride4+x>>2]
}

// satd is the SATD between two blocks of samples.
func (c *blockEncoder[T]) satd(a []T, stride int, b []T, step, size int) (sum int) {
	tile := min(size, 16)
	for y := 0; y < size; y += tile {
		for x := 0; x < size; x += tile {
			sum += c.distance.SATD(a[y*stride+x:], stride, b[y*step+x:], step, tile, tile)
		}
	}
	return sum
}
