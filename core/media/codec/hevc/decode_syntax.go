package hevc

import "vividstrain/core/media/codec/motion"

// codingTree reads coding_quadtree (7.3.8.4).
func (w *worker[T]) codingTree(x, y, log2, depth int) {
	s, p := w.sps, w.pps
	size := 1 << log2
	split := log2 > s.minCb
	if x+size <= s.width && y+size <= s.height && log2 > s.minCb {
		split = w.cabac.Decision(ctxSplitCU+w.deeper(x, y, depth)) != 0
	}
	if p.cuQPDelta && log2 >= s.ctb-p.cuQPDeltaDepth {
		w.qpDeltaCoded, w.qpDelta = false, 0
		w.qgX, w.qgY = x, y
		w.startQG()
	}
	if w.h.chromaQPList && log2 >= s.ctb-p.chromaQPDepth {
		w.chromaOffsetCoded = false
	}
	if !split {
		w.codingUnit(x, y, log2, depth)
		return
	}
	half := size >> 1
	for i := range 4 {
		cx, cy := x+half*(i&1), y+half*(i>>1)
		if cx < s.width && cy < s.height {
			w.codingTree(cx, cy, log2-1, depth+1)
		}
		if w.failed {
			return
		}
	}
}

// deeper returns how many of the blocks to the left and above are split further than depth, and skipped
// how many are skipped: the context increments of 9.3.4.2.2.
func (w *worker[T]) deeper(x, y, depth int) (n int) {
	at := w.cb(x, y)
	if w.hasLeft(x) && int(w.st.depth[at-1]) > depth {
		n++
	}
	if w.hasAbove(y) && int(w.st.depth[at-w.st.minCbStride]) > depth {
		n++
	}
	return n
}

func (w *worker[T]) skipped(x, y int) (n int) {
	at := w.cb(x, y)
	if w.hasLeft(x) && w.st.skip[at-1] {
		n++
	}
	if w.hasAbove(y) && w.st.skip[at-w.st.minCbStride] {
		n++
	}
	return n
}

// prefetch has the cache lines fetched that come after those of a coding block, of the picture, its motion and the first
// reference: so many rows are more than a processor follows by itself.
func (w *worker[T]) prefetch(x, y, size int) {
	line := motion.LineOf[T]()
	motion.Prefetch(w.f.motion, y>>2*w.f.stride4+(x+line)>>2, w.f.stride4, size>>2)
	for c := range w.sps.chroma.Planes() {
		if x>>w.shiftX[c]&(line-1) != 0 {
			continue
		}
		p, rows := &w.planes[c], size>>w.shiftY[c]
		at := y>>w.shiftY[c]*p.stride + x>>w.shiftX[c] + line
		motion.Prefetch(p.pix, at, p.stride, rows)
		if w.h.kind != sliceI {
			motion.Prefetch(w.refs[0][0][c].pix, at, p.stride, rows)
		}
	}
}

// codingUnit reads and reconstructs coding_unit (7.3.8.5).
func (w *worker[T]) codingUnit(x, y, log2, depth int) {
	s, d := w.sps, &w.cabac
	size := 1 << log2
	w.cuX, w.cuY, w.cuLog2, w.cuIntra, w.cuSkip = x, y, log2, true, false
	w.cuBypass = w.pps.bypass && d.Decision(ctxBypass) != 0
	if w.h.kind != sliceI {
		w.cuSkip = d.Decision(ctxSkip+w.skipped(x, y)) != 0
	}
	pcm, part := false, part2Nx2N
	switch {
	case w.cuSkip:
		w.cuIntra = false
	default:
		if w.h.kind != sliceI {
			w.cuIntra = d.Decision(ctxPredMode) != 0
		}
		if !w.cuIntra || log2 == s.minCb {
			part = w.partMode(log2)
		}
	}
	w.prefetch(x, y, size)
	w.markCU(x, y, size, depth)
	w.edges(x, y, size)
	if !w.cuIntra {
		w.interCU(x, y, size, part)
	} else {
		if part == part2Nx2N && s.pcm && log2 >= s.minPcm && log2 <= s.maxPcm {
			if pcm = d.Terminate(); pcm {
				w.pcm(x, y, log2)
			}
		}
		if !pcm {
			w.intraModes(x, y, log2, part)
		}
	}
	if !pcm && !w.failed {
		rqt := !w.cuSkip
		if rqt && !w.cuIntra && !(part == part2Nx2N && w.merged) {
			rqt = d.Decision(ctxRootCbf) != 0
		}
		if rqt {
			w.maxDepth = s.depthInter
			if w.cuIntra {
				w.maxDepth = s.depthIntra
				if part == partNxN {
					w.maxDepth++
				}
			}
			w.interSplit = s.depthInter == 0 && !w.cuIntra && part != part2Nx2N
			w.intraNxN = w.cuIntra && part == partNxN
			w.transformTree(x, y, x, y, log2, 0, 0, [2][2]bool{{true, true}, {true, true}})
		}
	}
	w.setQP(x, y, size)
}

// markCU records what later blocks ask of a coding block.
func (w *worker[T]) markCU(x, y, size, depth int) {
	st, unit := w.st, w.sps.minCb
	n := size >> unit
	for j := range n {
		at := w.cb(x, y+j<<unit)
		for i := range n {
			st.skip[at+i], st.depth[at+i], st.intraCU[at+i], st.bypass[at+i] = w.cuSkip, uint8(depth), w.cuIntra, w.cuBypass
		}
	}
	if w.cuIntra {
		w.setMotion(x, y, size, size, &noMotion)
		w.setIntraMode(x, y, size, modeDC)
	}
}

func (w *worker[T]) setMotion(x, y, bw, bh int, m *blockMotion) {
	for j := y >> 2; j < (y+bh)>>2; j++ {
		row := w.f.motion[j*w.f.stride4+x>>2:][:bw>>2]
		for i := range row {
			row[i] = *m
		}
	}
}

func (w *worker[T]) setIntraMode(x, y, size int, mode uint8) {
	for j := y >> 2; j < (y+size)>>2; j++ {
		row := w.st.intraMode[j*w.st.stride4+x>>2:][:size>>2]
		for i := range row {
			row[i] = mode
		}
	}
}

// partMode reads part_mode (9.3.3.7).
func (w *worker[T]) partMode(log2 int) int {
	d, s := &w.cabac, w.sps
	if d.Decision(ctxPartMode) != 0 {
		return part2Nx2N
	}
	if w.cuIntra {
		return partNxN
	}
	smallest := log2 == s.minCb
	if smallest {
		if log2 == 3 {
			if d.Decision(ctxPartMode+1) != 0 {
				return part2NxN
			}
			return partNx2N
		}
		if d.Decision(ctxPartMode+1) != 0 {
			return part2NxN
		}
		if d.Decision(ctxPartMode+2) != 0 {
			return partNx2N
		}
		return partNxN
	}
	horizontal := d.Decision(ctxPartMode+1) != 0
	if !s.amp {
		if horizontal {
			return part2NxN
		}
		return partNx2N
	}
	if d.Decision(ctxPartMode+3) != 0 {
		if horizontal {
			return part2NxN
		}
		return partNx2N
	}
	second := d.Bypass()
	if horizontal {
		return part2NxnU + second
	}
	return partnLx2N + second
}

// pcm reads the samples of a block as they are (7.3.8.7).
func (w *worker[T]) pcm(x, y, log2 int) {
	s := w.sps
	r := w.pcmReader()
	for c := range s.chroma.Planes() {
		bits, depth := s.pcmDepth, w.depths[c]
		if c > 0 {
			bits = s.pcmChroma
		}
		p := &w.planes[c]
		bw, bh := 1<<log2>>w.shiftX[c], 1<<log2>>w.shiftY[c]
		for j := range bh {
			row := p.pix[(y>>w.shiftY[c]+j)*p.stride+x>>w.shiftX[c]:][:bw]
			for i := range row {
				row[i] = T(r.U(bits) << (depth - bits))
			}
		}
	}
	if r.Overrun() {
		w.failed = true
		return
	}
	w.cabac.Start(r.Rest())
	if s.pcmUnfiltered {
		w.markBypass(x, y, 1<<log2)
	}
}

// markBypass excludes a block from the loop filters.
func (w *worker[T]) markBypass(x, y, size int) {
	n := size >> w.sps.minCb
	for j := range n {
		at := w.cb(x, y+j<<w.sps.minCb)
		for i := range n {
			w.st.bypass[at+i] = true
		}
	}
}

// intraModes reads and derives the intra prediction modes of a coding block (7.3.8.5, 8.4.2).
func (w *worker[T]) intraModes(x, y, log2, part int) {
	d := &w.cabac
	n, size := 1, 1<<log2
	if part == partNxN {
		n, size = 4, size>>1
	}
	var prev [4]bool
	var index, rem [4]int
	for i := range n {
		prev[i] = d.Decision(ctxPrevIntra) != 0
	}
	for i := range n {
		if prev[i] {
			for index[i] < 2 && d.Bypass() != 0 {
				index[i]++
			}
		} else {
			for range 5 {
				rem[i] = rem[i]<<1 | d.Bypass()
			}
		}
	}
	for i := range n {
		bx, by := x+size*(i&1), y+size*(i>>1)
		c := w.modeCandidates(bx, by)
		mode := c[index[i]]
		if !prev[i] {
			if c[0] > c[1] {
				c[0], c[1] = c[1], c[0]
			}
			if c[0] > c[2] {
				c[0], c[2] = c[2], c[0]
			}
			if c[1] > c[2] {
				c[1], c[2] = c[2], c[1]
			}
			mode = rem[i]
			for _, k := range c {
				if mode >= k {
					mode++
				}
			}
		}
		w.lumaModes[i] = mode
		w.setIntraMode(bx, by, size, uint8(mode))
	}
	for i := n; i < 4; i++ {
		w.lumaModes[i] = w.lumaModes[0]
	}
	if !w.sps.hasChroma() {
		return
	}
	chosen := 4
	if d.Decision(ctxChromaMode) != 0 {
		chosen = d.Bypass() << 1
		chosen |= d.Bypass()
	}
	mode := w.lumaModes[0]
	if chosen < 4 {
		mode = [4]int{modePlanar, modeVertical, modeHorizontal, modeDC}[chosen]
		if mode == w.lumaModes[0] {
			mode = 34
		}
	}
	w.chromaMode = w.chromaModeOf(mode)
}

// tall reports whether chroma is 4:2:2, which has two square blocks under each other.
func (w *worker[T]) tall() bool { return w.shiftX[1] != w.shiftY[1] }

// chromaModeOf returns the mode of chroma that has the direction of a mode of luma.
func (w *worker[T]) chromaModeOf(mode int) int {
	if w.tall() {
		return mode422[mode]
	}
	return mode
}

// mode422 maps modes to those of 4:2:2 chroma (table 8-3): the mode whose direction is nearest where
// samples are twice as far apart horizontally.
var mode422 = [35]int{0, 1, 2, 2, 2, 2, 3, 5, 7, 8, 10, 12, 13, 15, 17, 18, 19, 20, 21, 22, 23, 23, 24, 24, 25, 25, 26, 27, 27, 28, 28, 29, 29, 30, 31}

// lumaModeAt returns the intra mode of luma at a place.
func (w *worker[T]) lumaModeAt(x, y int) int { return int(w.st.intraMode[y>>2*w.st.stride4+x>>2]) }

// modeCandidates returns candModeList (8.4.2).
func (w *worker[T]) modeCandidates(x, y int) [3]int {
	at := func(nx, ny int, above bool) int {
		if !w.available(x, y, nx, ny) || !w.intraAt(nx, ny) || above && ny < y>>w.sps.ctb<<w.sps.ctb {
			return modeDC
		}
		return w.lumaModeAt(nx, ny)
	}
	a, b := at(x-1, y, false), at(x, y-1, true)
	switch {
	case a == b && a < 2:
		return [3]int{modePlanar, modeDC, modeVertical}
	case a == b:
		return [3]int{a, 2 + (a+29)&31, 2 + (a-2+1)&31}
	case a != modePlanar && b != modePlanar:
		return [3]int{a, b, modePlanar}
	case a != modeDC && b != modeDC:
		return [3]int{a, b, modeDC}
	}
	return [3]int{a, b, modeVertical}
}

// interCU reads and predicts the prediction blocks of an inter coding block.
func (w *worker[T]) interCU(x, y, size, part int) {
	if part == part2Nx2N {
		w.interPart(&block{xCb: x, yCb: y, nCb: size, x: x, y: y, w: size, h: size, mode: part})
		return
	}
	half, quarter := size>>1, size>>2
	var parts [4][4]int // x, y, w, h
	n := 2
	switch part {
	case part2NxN:
		parts[0], parts[1] = [4]int{0, 0, size, half}, [4]int{0, half, size, half}
	case partNx2N:
		parts[0], parts[1] = [4]int{0, 0, half, size}, [4]int{half, 0, half, size}
	case part2NxnU:
		parts[0], parts[1] = [4]int{0, 0, size, quarter}, [4]int{0, quarter, size, size - quarter}
	case part2NxnD:
		parts[0], parts[1] = [4]int{0, 0, size, size - quarter}, [4]int{0, size - quarter, size, quarter}
	case partnLx2N:
		parts[0], parts[1] = [4]int{0, 0, quarter, size}, [4]int{quarter, 0, size - quarter, size}
	case partnRx2N:
		parts[0], parts[1] = [4]int{0, 0, size - quarter, size}, [4]int{size - quarter, 0, quarter, size}
	default:
		n = 4
		for i := range 4 {
			parts[i] = [4]int{half * (i & 1), half * (i >> 1), half, half}
		}
	}
	for i := range n {
		p := &parts[i]
		w.interPart(&block{xCb: x, yCb: y, nCb: size, x: x + p[0], y: y + p[1], w: p[2], h: p[3], part: i, mode: part})
		if w.failed {
			return
		}
	}
}

// interPart reads and predicts a prediction block.
func (w *worker[T]) interPart(b *block) {
	m := w.predictionUnit(b)
	for l := range 2 {
		if r := m.ref[l]; r >= 0 && (int(r) >= w.h.refs[l] || w.lists[l].refs[r] == nil) {
			w.failed = true
			return
		}
	}
	w.setMotion(b.x, b.y, b.w, b.h, &m)
	w.predictInter(b, &m)
	w.blockEdges(b.x, b.y, b.w, b.h, edgePrediction)
}

// predictionUnit reads prediction_unit (7.3.8.6).
func (w *worker[T]) predictionUnit(b *block) blockMotion {
	d, h := &w.cabac, w.h
	w.merged = w.cuSkip || d.Decision(ctxMergeFlag) != 0
	if w.merged {
		index := 0
		if h.maxMerge > 1 && d.Decision(ctxMergeIdx) != 0 {
			index = 1
			for index < h.maxMerge-1 && d.Bypass() != 0 {
				index++
			}
		}
		return w.merge(*b, index)
	}
	use := [2]bool{true, false}
	if h.kind == sliceB {
		use = w.interDirection(b)
	}
	var ref, predictor [2]int
	var delta [2]motion.Vector
	for l := range 2 {
		if !use[l] {
			continue
		}
		ref[l] = w.refIdx(h.refs[l])
		if !(l == 1 && h.mvdL1Zero && use[0]) {
			delta[l] = w.mvd()
		}
		predictor[l] = d.Decision(ctxMVPFlag)
	}
	m := noMotion
	for l := range 2 {
		if use[l] {
			v := w.predictMV(b, l, ref[l], predictor[l]+1)[predictor[l]]
			m.ref[l], m.mv[l] = int8(ref[l]), motion.Vector{X: v.X + delta[l].X, Y: v.Y + delta[l].Y}
		}
	}
	return m
}

// interDirection reads inter_pred_idc.
func (w *worker[T]) interDirection(b *block) [2]bool {
	d := &w.cabac
	depth := w.sps.ctb - log2Of(b.nCb)
	if b.w+b.h != 12 && d.Decision(ctxInterDir+depth) != 0 {
		return [2]bool{true, true}
	}
	if d.Decision(ctxInterDir+4) != 0 {
		return [2]bool{false, true}
	}
	return [2]bool{true, false}
}

// refIdx reads ref_idx of a list of n references.
func (w *worker[T]) refIdx(n int) int {
	i := 0
	for i < n-1 && i < 2 {
		if w.cabac.Decision(ctxRefIdx+i) == 0 {
			return i
		}
		i++
	}
	for i < n-1 && w.cabac.Bypass() != 0 {
		i++
	}
	return i
}

// mvd reads mvd_coding (7.3.8.9).
func (w *worker[T]) mvd() (v motion.Vector) {
	d := &w.cabac
	x0, y0 := d.Decision(ctxMvdGreater0) != 0, d.Decision(ctxMvdGreater0) != 0
	x1, y1 := x0 && d.Decision(ctxMvdGreater1) != 0, false
	if y0 {
		y1 = d.Decision(ctxMvdGreater1) != 0
	}
	one := func(zero, greater bool) int16 {
		if !zero {
			return 0
		}
		n := int32(1)
		if greater {
			n = 2 + d.ExpGolomb(1)
		}
		if d.Bypass() != 0 {
			n = -n
		}
		return int16(n)
	}
	v.X = one(x0, x1)
	v.Y = one(y0, y1)
	return v
}

// transformTree reads and reconstructs transform_tree (7.3.8.8). cbf are the parent's flags of Cb and
// Cr, two of each for 4:2:2.
func (w *worker[T]) transformTree(x, y, xBase, yBase, log2, depth, index int, parent [2][2]bool) {
	s, d := w.sps, &w.cabac
	split := false
	switch {
	case log2 <= s.maxTb && log2 > s.minTb && depth < w.maxDepth && !(w.intraNxN && depth == 0):
		split = d.Decision(ctxSplitTU+5-log2) != 0
	default:
		split = log2 > s.maxTb || w.intraNxN && depth == 0 || w.interSplit && depth == 0
	}
	tall := w.tall()
	var cbf [2][2]bool
	if log2 > 2 && s.hasChroma() {
		for c := range 2 {
			if parent[c][0] || parent[c][1] {
				cbf[c][0] = d.Decision(ctxCbfChroma+depth) != 0
				if tall && (!split || log2 == 3) {
					cbf[c][1] = d.Decision(ctxCbfChroma+depth) != 0
				}
			}
		}
	} else if log2 == 2 {
		cbf = parent
		if depth == 0 {
			cbf = [2][2]bool{}
		}
	}
	if split {
		half := 1 << (log2 - 1)
		for i := range 4 {
			w.transformTree(x+half*(i&1), y+half*(i>>1), x, y, log2-1, depth+1, i, cbf)
			if w.failed {
				return
			}
		}
		return
	}
	luma := true
	if w.cuIntra || depth > 0 || cbf[0][0] || cbf[0][1] || cbf[1][0] || cbf[1][1] {
		ctx := 0
		if depth == 0 {
			ctx = 1
		}
		luma = d.Decision(ctxCbfLuma+ctx) != 0
	}
	w.blockEdges(x, y, 1<<log2, 1<<log2, edgeTransform)
	w.transformUnit(x, y, xBase, yBase, log2, index, luma, cbf)
}

// transformUnit reads and reconstructs transform_unit (7.3.8.10).
func (w *worker[T]) transformUnit(x, y, xBase, yBase, log2, index int, luma bool, cbf [2][2]bool) {
	s, d := w.sps, &w.cabac
	chroma := cbf[0][0] || cbf[0][1] || cbf[1][0] || cbf[1][1]
	if luma || chroma {
		if w.pps.cuQPDelta && !w.qpDeltaCoded {
			if w.readQPDelta(); w.failed {
				return
			}
		}
		if w.h.chromaQPList && chroma && !w.cuBypass && !w.chromaOffsetCoded {
			w.chromaOffset = [2]int{}
			if d.Decision(ctxChromaQPFlag) != 0 {
				i := 0
				for i < w.pps.chromaQPCount-1 && d.Decision(ctxChromaQPIdx) != 0 {
					i++
				}
				w.chromaOffset = w.pps.chromaQPOffsets[i]
			}
			w.chromaOffsetCoded = true
		}
		w.setQPs()
	}
	if luma {
		w.markCbf(x, y, 1<<log2)
	}
	w.predMode = w.lumaModes[0]
	if w.intraNxN {
		w.predMode = w.lumaModes[w.partOf(x, y)]
	}
	w.transformBlock(x, y, log2, 0, luma)
	if !s.hasChroma() {
		return
	}
	if log2 > 2 {
		w.chromaBlocks(x, y, log2-w.shiftX[1], cbf)
	} else if index == 3 {
		w.chromaBlocks(xBase, yBase, 2, cbf)
	}
}

// partOf returns the number of the partition of an NxN block.
func (w *worker[T]) partOf(x, y int) int {
	half := 1 << (w.cuLog2 - 1)
	i := 0
	if x >= w.cuX+half {
		i = 1
	}
	if y >= w.cuY+half {
		i += 2
	}
	return i
}

// chromaBlocks reconstructs the chroma blocks at a luma place: one of each plane, or of 4:2:2 two
// under each other.
func (w *worker[T]) chromaBlocks(x, y, log2 int, cbf [2][2]bool) {
	n := 1
	if w.tall() {
		n = 2
	}
	w.predMode = w.chromaMode
	for c := range 2 {
		for i := range n {
			w.transformBlock(x>>w.shiftX[1], y>>w.shiftY[1]+i<<log2, log2, c+1, cbf[c][i])
		}
	}
}

// transformBlock predicts a block of plane c, at samples of the plane, and adds its differences.
func (w *worker[T]) transformBlock(x, y, log2, c int, coded bool) {
	if w.cuIntra {
		w.predictIntra(x, y, log2, c, w.predMode)
	}
	if !coded {
		return
	}
	rdpcm, skip := w.residual(log2, c, w.scanIndex(log2, c))
	if w.cabac.Overrun() {
		w.failed = true
		return
	}
	w.addResidual(x, y, log2, c, rdpcm, skip, w.cuIntra && c == 0 && log2 == 2)
}

// markCbf records that a luma block has coefficients.
func (w *worker[T]) markCbf(x, y, size int) {
	for j := y >> 2; j < (y+size)>>2; j++ {
		row := w.st.cbf[j*w.st.stride4+x>>2:][:size>>2]
		for i := range row {
			row[i] = true
		}
	}
}
