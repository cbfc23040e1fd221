package hevc

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/threads"
	"vividstrain/core/media/picture"
)

const wholeFrame = framepool.WholeFrame

// plane is a plane of whole samples.
type plane[T motion.Sample] struct {
	pix    []T
	stride int
}

// planeOf returns a plane of a frame.
func planeOf[T motion.Sample](f *frame, c int) plane[T] {
	return plane[T]{samplesOf[T](&f.Planes[c]), f.Planes[c].Stride}
}

// samplesOf returns the samples of a plane.
func samplesOf[T motion.Sample](p *picture.Plane) []T {
	var list any = p.Pix
	if p.Wide != nil {
		list = p.Wide
	}
	return list.([]T)
}

// worker decodes pictures of byte or of uint16 samples.
type worker[T motion.Sample] struct {
	sps     *sps
	pps     *pps
	h       *sliceHeader
	st      *state
	f       *frame
	lists   *[2]refList
	scaling *scalingLists
	planes  [3]plane[T]
	refs    [2][maxDPB][3]plane[T] // of the pictures of both lists

	shiftX, shiftY, widths, heights, depths [3]int
	ctb, minCb, minTb                       int // log2 of the sizes of blocks

	ctbX, ctbY int     // the coding tree block under way
	near       [9]bool // which of those around it are available, in raster order

	cabac      cabac.Decoder
	saved      [contexts]uint8 // contexts after the second block of a row, for wavefronts
	savedStats [4]uint8
	stats      [4]uint8 // StatCoeff
	noBackward bool     // no reference is shown after the picture
	failed     bool     // the slice is damaged from here on

	// of the coding unit
	cuX, cuY, cuLog2          int
	cuIntra, cuSkip, cuBypass bool
	merged                    bool
	lumaModes                 [4]int
	chromaMode, predMode      int
	maxDepth                  int
	interSplit, intraNxN      bool
	qpDeltaCoded              bool
	qpDelta                   int
	qgX, qgY                  int
	qpPred, qpY, qpPrev       int
	chromaOffsetCoded         bool
	chromaOffset              [2]int
	qps                       [3]int

	k               kernels[T]
	coeffs          [32 * 32]int16
	lastRow         int // of the coefficients that are not 0
	lastColumn      int
	unchanged       [32 * 32]int32 // differences without a transform
	transforms      transformer
	border, border2 [4*64 + 1]int16
	directions      [32 + 65 + 16]int16 // the border along which samples are predicted; its corner is 32
	turned          [32*32 + 32]T
	have            [4*64 + 1]span
	pred            [2][64*predStride + 16]int16
	rows            [(64+7)*predStride + 16]int16
	edge            [(64+7)*(64+7) + 32]T
	mergeList       [8]blockMotion
	offsets         [8]int16 // of samples at edges
	saoRows         []T      // of a row of blocks before its offsets, with a line above and below
	saoAbove        [3][]T   // the last lines of the row above before their offsets

	edgeLimits edgeLimits

	team    *threads.Team // of the decoder; nil in those who help
	helpers []*worker[T]  // who decode rows of a wavefront

	substitute *frame // whose samples take the place of blocks that never come, or nil
	concealed  int    // rows of blocks
	next       int    // the first block that no slice of the picture has had yet, in decoding order
	deblocked  int    // rows of blocks
	finished   int    // rows of blocks with their offsets
}

// begin prepares for a picture.
func (w *worker[T]) begin(st *state) {
	s := st.layout.sps
	w.st, w.f, w.sps, w.pps = st, st.f, s, st.layout.pps
	w.ctb, w.minCb, w.minTb = s.ctb, s.minCb, s.minTb
	x, y := s.chromaShift()
	w.shiftX, w.shiftY = [3]int{0, x, x}, [3]int{0, y, y}
	w.depths = [3]int{s.depth, s.chromaDepth, s.chromaDepth}
	for c := range 3 {
		w.widths[c], w.heights[c] = s.width>>w.shiftX[c], s.height>>w.shiftY[c]
		if c == 0 || s.hasChroma() {
			w.planes[c] = planeOf[T](w.f, c)
		}
	}
	w.next, w.concealed, w.deblocked, w.finished = 0, 0, 0, 0
	w.scaling = nil
	if s.scaling != nil {
		if w.scaling = s.scaling; w.pps.scaling != nil {
			w.scaling = w.pps.scaling
		}
	}
}

// cb returns the place of the smallest coding block at luma samples.
func (w *worker[T]) cb(x, y int) int { return y>>(w.minCb&7)*w.st.minCbStride + x>>(w.minCb&7) }

func (w *worker[T]) intraAt(x, y int) bool { return w.st.intraCU[w.cb(x, y)] }

// enter prepares for the blocks of a coding tree block, at a place in blocks. Of those around it, only the
// ones above and the left one can be available.
func (w *worker[T]) enter(cx, cy int) {
	w.ctbX, w.ctbY = cx, cy
	l, st, a := w.st.layout, w.st, cy*w.sps.ctbWidth+cx
	for i := range 4 {
		x, y := cx+i%3-1, cy+i/3-1
		if w.near[i] = x >= 0 && y >= 0 && x < w.sps.ctbWidth; w.near[i] {
			b := y*w.sps.ctbWidth + x
			w.near[i] = st.sliceAddr[a] == st.sliceAddr[b] && l.rsToTs[b] < l.rsToTs[a] && l.tileOf[a] == l.tileOf[b]
		}
	}
}

// available reports whether the block at (nx, ny) is decoded before that at (x, y), and is in the same
// slice and tile (6.4.1). The first one is in the coding tree block that was entered, the other in it or in
// one around it.
func (w *worker[T]) available(x, y, nx, ny int) bool {
	if uint(nx) >= uint(w.widths[0]) || uint(ny) >= uint(w.heights[0]) {
		return false
	}
	ctb := w.ctb & 7
	dx, dy := nx>>ctb-w.ctbX, ny>>ctb-w.ctbY
	if dx|dy != 0 {
		return w.near[(3*dy+dx+4)%9]
	}
	mask, shift := 1<<ctb-1, w.minTb&7
	return zOrder[nx&mask>>shift&15]|zOrder[ny&mask>>shift&15]<<1 <= zOrder[x&mask>>shift&15]|zOrder[y&mask>>shift&15]<<1
}

// hasLeft and hasAbove report whether the block to the left of a coding block, or above it, is available: within the
// coding tree block it is.
func (w *worker[T]) hasLeft(x int) bool  { return x&(1<<(w.ctb&7)-1) != 0 || w.near[3] }
func (w *worker[T]) hasAbove(y int) bool { return y&(1<<(w.ctb&7)-1) != 0 || w.near[1] }

// zOrder has the bits of a coordinate at every second place: the order of blocks within a coding tree block
// is made of that of both coordinates (6.5.2).
var zOrder = [16]uint8{0, 1, 4, 5, 16, 17, 20, 21, 64, 65, 68, 69, 80, 81, 84, 85}

// startSlice prepares for the blocks of a slice.
func (w *worker[T]) startSlice(h *sliceHeader, number int) {
	w.h, w.failed = h, false
	w.lists = &w.f.lists[number]
	w.noBackward = true
	for i := range w.lists {
		for k := range w.lists[i].n {
			w.noBackward = w.noBackward && int(w.lists[i].poc[k]) <= w.f.poc
			for c := range w.sps.chroma.Planes() {
				w.refs[i][k][c] = planeOf[T](w.lists[i].refs[k], c)
			}
		}
	}
}

// slice decodes a slice segment (7.3.8.1).
func (w *worker[T]) slice(sl *slice) {
	h, l := &sl.h, w.st.layout
	w.startSlice(h, sl.number)
	ts := int(l.rsToTs[h.address])
	if ts < w.next { // others may have used those blocks
		w.failed = true
		return
	}
	keep := h.dependent
	if w.wavefront(sl) {
		return
	}
	substream := 0
	w.cabac.Start(sl.substream(0))
	if !keep {
		w.reset()
		w.startQP()
	}
	first := true
	for {
		rs := int(l.tsToRs[ts])
		x, y := rs%w.sps.ctbWidth, rs/w.sps.ctbWidth
		tileStart := ts == 0 || l.tileOf[rs] != l.tileOf[l.tsToRs[ts-1]]
		rowStart := w.pps.sync && x == int(l.tileX[x])
		w.st.sliceAddr[rs], w.f.sliceOf[rs] = int32(h.start), uint16(sl.number)
		switch {
		case tileStart && !first, tileStart && first && keep:
			w.reset()
			w.qpPrev = h.qp
		case rowStart && (!first || keep):
			w.qpPrev = h.qp
			if w.syncAvailable(x, y) {
				copy(w.cabac.State[:], w.saved[:])
				w.stats = w.savedStats
			} else {
				w.reset()
			}
		case first && keep:
			copy(w.cabac.State[:], w.st.endStates[:])
			w.stats = w.st.endStats
		}
		first = false
		w.codingTreeUnit(x, y)
		if w.failed || w.cabac.Overrun() {
			w.failed = true
			w.forget(rs)
			return
		}
		if w.pps.sync && x == int(l.tileX[x])+1 {
			copy(w.saved[:], w.cabac.State[:contexts])
			w.savedStats = w.stats
		}
		end := w.cabac.Terminate()
		ts++
		w.next = ts
		if x == w.sps.ctbWidth-1 && !w.pps.tiles {
			w.filter(y + 1)
		}
		if end {
			break
		}
		if ts >= len(l.tsToRs) {
			w.failed = true
			return
		}
		next := int(l.tsToRs[ts])
		nx := next % w.sps.ctbWidth
		newTile := w.pps.tiles && l.tileOf[next] != l.tileOf[rs]
		if newTile || w.pps.sync && nx == int(l.tileX[nx]) {
			if substream++; !w.cabac.Terminate() || substream > len(sl.starts) && len(sl.starts) > 0 {
				w.failed = true
				return
			}
			if len(sl.starts) > 0 {
				w.cabac.Start(sl.substream(substream))
			} else {
				w.cabac.Start(w.cabac.Rest())
			}
		}
	}
	copy(w.st.endStates[:], w.cabac.State[:contexts])
	w.st.endStats = w.stats
}

// startQP sets the quantiser at the start of a slice.
func (w *worker[T]) startQP() {
	qp := w.h.qp
	w.qpPrev, w.qpY, w.qpPred, w.chromaOffset = qp, qp, qp, [2]int{}
}

// filter carries out what can be of the loop filters (8.7) when the first n rows of blocks are decoded.
// A row waits for the next one, whose intra prediction goes by samples that are not filtered.
func (w *worker[T]) filter(n int) {
	last := n == w.sps.ctbHeight
	for ; w.concealed < n; w.concealed++ {
		w.conceal(w.concealed)
	}
	for ; w.deblocked < n-1 || last && w.deblocked < n; w.deblocked++ {
		w.deblock(w.deblocked)
	}
	lines := w.deblocked<<w.sps.ctb - 8 // the edge below changes less than that
	if w.sps.sao {
		for ; w.finished < w.deblocked-1 || last && w.finished < n; w.finished++ {
			w.sao(w.finished)
		}
		lines = w.finished << w.sps.ctb
	}
	if !last && lines > 0 {
		w.f.Advance(wholeFrame, int32(lines/2))
	}
}

// conceal fills the blocks of a row that did not come, or not whole, with the samples of another picture,
// or with grey.
func (w *worker[T]) conceal(cy int) {
	for cx := range w.sps.ctbWidth {
		if w.st.sliceAddr[cy*w.sps.ctbWidth+cx] >= 0 {
			continue
		}
		w.f.Damaged.Store(true)
		x, y := cx<<w.sps.ctb, cy<<w.sps.ctb
		w.setMotion(x, y, min(1<<w.sps.ctb, w.sps.width-x), min(1<<w.sps.ctb, w.sps.height-y), &noMotion)
		for c := range w.sps.chroma.Planes() {
			p := &w.planes[c]
			sizeX, sizeY := 1<<w.sps.ctb>>w.shiftX[c], 1<<w.sps.ctb>>w.shiftY[c]
			x, y := cx*sizeX, cy*sizeY
			bw, bh := min(sizeX, w.widths[c]-x), min(sizeY, w.heights[c]-y)
			at := y*p.stride + x
			if w.substitute == nil {
				motion.FillBlock(p.pix[at:], p.stride, bw, bh, T(1)<<(w.depths[c]-1))
				continue
			}
			w.substitute.Await(wholeFrame, int32((y+bh-1)<<w.shiftY[c]))
			from := planeOf[T](w.substitute, c)
			for j := range bh {
				copy(p.pix[at+j*p.stride:][:bw], from.pix[at+j*from.stride:])
			}
		}
	}
}

// syncAvailable reports whether the block above and to the right of the first of a row lends its
// contexts (9.3.1).
func (w *worker[T]) syncAvailable(x, y int) bool {
	if y == 0 {
		return false
	}
	w.enter(x, y)
	return w.near[2]
}

// reset initialises contexts and statistics.
func (w *worker[T]) reset() {
	initContexts(&w.cabac.State, w.h)
	w.stats = [4]uint8{}
}

// codingTreeUnit decodes coding_tree_unit (7.3.8.2) at a place in blocks.
func (w *worker[T]) codingTreeUnit(cx, cy int) {
	w.enter(cx, cy)
	if w.h.saoLuma || w.h.saoC {
		w.readSAO(cx, cy)
	}
	w.codingTree(cx<<w.sps.ctb, cy<<w.sps.ctb, w.sps.ctb, 0)
}

// pcmReader returns a reader of what follows in the slice.
func (w *worker[T]) pcmReader() bits.Reader { return bits.NewReader(w.cabac.Rest()) }

// startQG derives the predictor of the quantiser of a quantisation group (8.6.1).
func (w *worker[T]) startQG() {
	w.qpPred = w.predictQP(w.qgX, w.qgY)
	w.qpY = w.qpPred
}

// predictQP returns qPY_PRED.
func (w *worker[T]) predictQP(x, y int) int {
	prev := w.qpPrev
	one := func(nx, ny int) int {
		if !w.available(x, y, nx, ny) || ny>>w.sps.ctb != y>>w.sps.ctb || nx>>w.sps.ctb != x>>w.sps.ctb {
			return prev
		}
		return int(w.st.qp[w.cb(nx, ny)])
	}
	return (one(x-1, y) + one(x, y-1) + 1) >> 1
}

// readQPDelta reads cu_qp_delta_abs and its sign (7.3.8.14).
func (w *worker[T]) readQPDelta() {
	d := &w.cabac
	v := 0
	for v < 5 && d.Decision(ctxQPDelta+min(v, 1)) != 0 {
		v++
	}
	if v == 5 {
		v += int(d.ExpGolomb(0))
	}
	if v > 0 && d.Bypass() != 0 {
		v = -v
	}
	offset := 6 * (w.sps.depth - 8)
	if v < -26-offset/2 || v > 25+offset/2 {
		w.failed = true
		return
	}
	w.qpDeltaCoded, w.qpDelta = true, v
	w.qpY = (w.qpPred+v+52+2*offset)%(52+offset) - offset
}

// setQP records the quantiser of a coding block; the last one of a group predicts the next.
func (w *worker[T]) setQP(x, y, size int) {
	n := size >> w.sps.minCb
	for j := range n {
		row := w.st.qp[w.cb(x, y+j<<w.sps.minCb):][:n]
		for i := range row {
			row[i] = int8(w.qpY)
		}
	}
	w.qpPrev = w.qpY
}

// chromaTable maps qPi from 30 on to QpC of 4:2:0 (table 8-10).
var chromaTable = [13]int{29, 30, 31, 32, 33, 33, 34, 34, 35, 35, 36, 36, 37}

// chromaQP returns QpC.
func (w *worker[T]) chromaQP(q int) int {
	switch {
	case w.shiftY[1] == 0: // not 4:2:0
		return min(q, 51)
	case q >= 43:
		return q - 6
	case q >= 30:
		return chromaTable[q-30]
	}
	return q
}

// setQPs derives the quantisers of all planes (8.6.1).
func (w *worker[T]) setQPs() {
	w.qps[0] = w.qpY + 6*(w.sps.depth-8)
	offset := 6 * (w.sps.chromaDepth - 8)
	for c, o := range [2]int{w.pps.cbOffset + w.h.cbOffset + w.chromaOffset[0], w.pps.crOffset + w.h.crOffset + w.chromaOffset[1]} {
		w.qps[c+1] = w.chromaQP(max(-offset, min(w.qpY+o, 57))) + offset
	}
}
