package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// mbKind is how a macroblock is predicted.
type mbKind uint8

const (
	kindNone  mbKind = iota
	kindIntra        // Intra_4x4 or Intra_8x8
	kind16x16        // Intra_16x16
	kindPCM
	kindInter
)

// mbInfo is what later macroblocks of the picture need to know about a macroblock.
type mbInfo struct {
	slice      int32 // number of its slice in the picture, from 1; 0: not yet decoded
	kind       mbKind
	skip       bool
	field      bool
	transform8 bool
	still      bool   // the whole inter macroblock has one motion
	direct16   bool   // B_Skip or B_Direct_16x16
	direct     uint8  // a bit for each 8x8 block whose motion is inferred
	luma       uint16 // which 4x4 blocks of luma have coefficients, in raster order
	chromaMode uint8  // intra_chroma_pred_mode
	cbp        uint8  // CodedBlockPatternLuma | CodedBlockPatternChroma<<4
	dc         uint8  // which DC blocks are coded: a bit for Y, Cb, Cr
	qp         int8   // QPY
	qpc        [2]int8
	numbers    edgeNumbers
	modes      [16]int8 // Intra4x4PredMode by block; -1 where it is not available, 2 in other kinds of macroblock
	mvd        *[2][16][2]uint8
}

// newMacroblocks returns macroblocks to decode n. What only CABAC needs is apart, so that each takes one cache line.
func newMacroblocks(n int) []mbInfo {
	list, differences := make([]mbInfo, n), make([][2][16][2]uint8, n)
	for i := range list {
		list[i].mvd = &differences[i]
	}
	return list
}

func (m *mbInfo) intra() bool { return m.kind != kindInter }

// edgeNumbers are the numbers of coefficients of the blocks at the lower and at the right edge of a macroblock, as far
// as there are blocks.
type edgeNumbers struct {
	below [8]uint8  // 4 of Y, 2 of Cb, 2 of Cr
	right [12]uint8 // 4 rows of Y, up to 4 of Cb, up to 4 of Cr
}

// A cache holds a value for each 4x4 block of a macroblock and of its neighbours' blocks around
// it, eight to a row: block x, y is at (y+1)*8+x+1.
const (
	cacheSize  = 40
	cacheStep  = 8
	cacheFirst = 9 // of block 0, 0
)

// cacheAt is the index in a cache of each 4x4 block in raster order.
var cacheAt = [16]int{9, 10, 11, 12, 17, 18, 19, 20, 25, 26, 27, 28, 33, 34, 35, 36}

// blockOf is the raster index of each 4x4 block in coding order (6.4.3).
var blockOf = [16]int{0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15}

// codingOrder is the inverse of blockOf: the coding order of each 4x4 block in raster order.
var codingOrder = blockOf // the order is its own inverse

// neighbours are the macroblocks around the current one, as indices into the picture's
// macroblocks; -1 where one is not available (6.4.12).
type neighbours struct {
	left     [4]int32 // beside each row of 4x4 blocks
	leftRow  [4]uint8 // the row of blocks there
	top      int32
	topRight int32
	topLeft  int32
	corner   uint8 // the row of blocks in topLeft
}

// sliceDecoder decodes the syntax of the macroblocks of one slice. Their samples are made by
// recon.
type sliceDecoder struct {
	pic    *pictureTask
	h      *sliceHeader
	number int32 // of the slice, from 1
	lists  *[2]refList
	cabac  cabac.Decoder
	r      bits.Reader
	scale  *levelScale

	end           int // the macroblock before which the slice must end, by address
	width, height int // of the picture in macroblocks; of a field, its own
	mbs           []mbInfo
	motion        []mbMotion

	// The current macroblock.
	addr    int // its index in mbs
	x, y    int // in macroblocks; y counts rows of the frame, or pairs' rows
	field   bool
	mb      *mbInfo
	mv      *mbMotion
	n       neighbours
	qp      int     // QPY of the last macroblock
	qpc     [2]int8 // QPC of both chroma planes
	qpcOf   qpSource
	lastDQ  bool                 // the last mb_qp_delta of the slice was not 0
	skipRun int                  // mb_skip_run that is left, -1: not read yet
	nz      [3 * cacheSize]uint8 // number of coefficients of each block: Y, Cb, Cr
	ref     [2][cacheSize]int8
	vec     [2][cacheSize]motion.Vector
	mvd     [2][cacheSize][2]uint8
	refCtx  [2][cacheSize]int8
	modes   [cacheSize]int8

	mode16 int
	shape  partShape
	sub    [4]subShape
	coded  uint64       // a bit for each 4x4 block that has coefficients: 16 of Y, then Cb from 16, Cr from 24
	more   uint64       // those of coded that have more than a DC coefficient
	coeffs [512]int32   // of 4x4 blocks in coding order, or of 8x8 blocks; Cb from 256, Cr from 384
	dc     [32]int32    // levels of the DC block of Y, or of those of Cb and, from 16, Cr
	flat   [3][16]int16 // residuals of a plane's blocks in raster order, each the same for the whole block
	flats  uint8        // a bit for each plane whose only residuals are in flat
	pcm    []byte       // the samples of an I_PCM macroblock
}

// partShape is how a macroblock is split for prediction.
type partShape uint8

const (
	part16x16 partShape = iota
	part16x8
	part8x16
	part8x8
)

// subShape is how an 8x8 block is split.
type subShape uint8

const (
	sub8x8 subShape = iota
	sub8x4
	sub4x8
	sub4x4
)

// fetchedAhead is how many macroblocks before it is written the motion of one is fetched: stores that wait for memory
// hold up those that follow.
const fetchedAhead = 4

// place makes the macroblock at x, y the current one.
func (d *sliceDecoder) place(x, y int, field bool) {
	d.x, d.y, d.field = x, y, field
	d.addr = y*d.width + x
	d.mb, d.mv = &d.mbs[d.addr], &d.motion[d.addr]
	if next := d.addr + fetchedAhead; next+fetchedAhead < len(d.mbs) {
		motion.PrefetchValue(&d.mbs[next+fetchedAhead])
		motion.PrefetchValue(d.mbs[next].mvd)
		motion.PrefetchValue(&d.motion[next])
	}
	d.mb.slice, d.mb.field, d.mv.field = d.number, field, field
	d.mb.skip, d.mb.transform8, d.mb.still, d.mb.direct16, d.mb.direct = false, false, false, false, 0
	d.mb.chromaMode, d.mb.cbp, d.mb.dc, d.mb.luma = 0, 0, 0, 0
	d.coded, d.more, d.flats = 0, 0, 0
	if d.h.mbaff {
		d.findPairs()
	} else {
		d.findNeighbours()
	}
}

// available returns the index of a macroblock of a pair that precedes the current one, or -1 where it is outside the
// picture or not in this slice.
func (d *sliceDecoder) available(x, y int) int32 {
	if uint(x) >= uint(d.width) || y < 0 || 2*(y>>1*d.width+x) < d.h.firstMb {
		return -1
	}
	return int32(y*d.width + x)
}

// findNeighbours derives the neighbours where macroblocks are coded row by row (6.4.9).
func (d *sliceDecoder) findNeighbours() {
	at, above := d.addr, d.width // the address, and the way to the macroblock above
	if d.h.structure != framepool.WholeFrame {
		at, above = d.y>>1*d.width+d.x, 2*d.width // the rows of both fields alternate
	}
	at -= d.h.firstMb // in the slice
	i, n := int32(d.addr), &d.n
	left := int32(-1)
	n.top, n.topRight, n.topLeft, n.corner = -1, -1, -1, 3
	if d.x > 0 && at >= 1 {
		left = i - 1
	}
	if at >= d.width {
		n.top = i - int32(above)
	}
	if d.x+1 < d.width && at >= d.width-1 {
		n.topRight = i - int32(above) + 1
	}
	if d.x > 0 && at > d.width {
		n.topLeft = i - int32(above) - 1
	}
	n.left[0], n.left[1], n.left[2], n.left[3] = left, left, left, left
	n.leftRow = [4]uint8{0, 1, 2, 3}
}

// findPairs derives the neighbours in a frame of macroblock pairs (table 6-4).
func (d *sliceDecoder) findPairs() {
	pair, bottom := d.y&^1, d.y&1
	pick := func(x int) int32 { // the macroblock above, in the pair over this one
		i := d.available(x, pair-2)
		if i < 0 {
			return -1
		}
		if d.field && bottom == 0 && d.mbs[i].field {
			return i
		}
		return i + int32(d.width)
	}
	if !d.field && bottom == 1 {
		d.n.top, d.n.topRight = int32(d.addr-d.width), -1
	} else {
		d.n.top, d.n.topRight = pick(d.x), pick(d.x+1)
	}
	d.n.topLeft, d.n.corner = -1, 3
	left := d.available(d.x-1, pair)
	if d.field || bottom == 0 {
		d.n.topLeft = pick(d.x - 1)
	} else if left >= 0 {
		d.n.topLeft = left
		if d.mbs[left].field {
			d.n.topLeft, d.n.corner = left+int32(d.width), 1
		}
	}
	d.findLeftPair(left, bottom)
}

func (d *sliceDecoder) findLeftPair(left int32, bottom int) {
	below := left + int32(d.width)
	d.n.leftRow = [4]uint8{0, 1, 2, 3}
	switch {
	case left < 0:
		d.n.left = [4]int32{-1, -1, -1, -1}
	case d.mbs[left].field == d.field:
		if bottom == 1 {
			left = below
		}
		d.n.left = [4]int32{left, left, left, left}
	case d.field:
		d.n.left = [4]int32{left, left, below, below}
		d.n.leftRow = [4]uint8{0, 2, 0, 2}
	default:
		d.n.left = [4]int32{left, left, left, left}
		d.n.leftRow = [4]uint8{0, 0, 1, 1}
		if bottom == 1 {
			d.n.leftRow = [4]uint8{2, 2, 3, 3}
		}
	}
}

// setInter resets the motion for an inter macroblock: nothing is predicted yet.
func (d *sliceDecoder) setInter() {
	d.mb.kind = kindInter
	d.mv.intra = false
}

// setIntra marks the macroblock as one without motion.
func (d *sliceDecoder) setIntra(kind mbKind) {
	d.mb.kind = kind
	d.mv.intra = true
	d.mv.ref = [2][4]int8{{-1, -1, -1, -1}, {-1, -1, -1, -1}}
	d.mv.id = [2][4]int32{{-1, -1, -1, -1}, {-1, -1, -1, -1}}
	d.clearDifferences()
}

// clearDifferences marks the macroblock as one without coded motion vector differences.
func (d *sliceDecoder) clearDifferences() {
	if d.h.pps.cabac {
		*d.mb.mvd = [2][16][2]uint8{}
	}
}

// setQP adds delta to QPY (7.4.5) and derives QPC of both chroma planes.
func (d *sliceDecoder) setQP(delta int) {
	if delta != 0 {
		offset := 6 * (d.h.sps.depth - 8)
		d.qp = (d.qp+delta+52+2*offset)%(52+offset) - offset
	}
	d.storeQP()
}

func (d *sliceDecoder) storeQP() {
	if of := (qpSource{d.h.sps, d.h.pps, d.qp}); of != d.qpcOf {
		d.qpcOf = of
		for i, c := range d.h.pps.chromaQPOffset {
			d.qpc[i] = int8(chromaQP(d.qp, c, d.h.sps.chromaDepth))
		}
	}
	d.mb.qp, d.mb.qpc = int8(d.qp), d.qpc
}

// qpSource is what QPC is derived from.
type qpSource struct {
	sps *sps
	pps *pps
	qp  int
}

// chromaQP returns QPC without the bit depth's offset, for chroma samples of depth bits (8.5.8).
func chromaQP(qp, offset, depth int) int {
	i := max(-6*(depth-8), min(qp+offset, 51))
	if i < 30 {
		return i
	}
	return int(chromaQPs[i-30])
}

// chromaQPs is table 8-15 for indices from 30 on.
var chromaQPs = [22]uint8{29, 30, 31, 32, 32, 33, 34, 34, 35, 35, 36, 36, 37, 37, 37, 38, 38, 38, 39, 39, 39, 39}
