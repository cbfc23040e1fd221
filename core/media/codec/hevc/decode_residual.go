package hevc

import mathbits "math/bits"

// Scans of 4x4 sub-blocks and of their coefficients (6.5.3 to 6.5.5), by scanIdx: diagonal,
// horizontal, vertical. Positions are x | y<<4.
var scans = func() (list [3][4][]uint8) { // by scanIdx and log2 of the size
	for size := range 4 {
		n := 1 << size
		for i, d := range diagonal(n) {
			list[0][size] = append(list[0][size], d%uint8(n)|d/uint8(n)<<4)
			list[1][size] = append(list[1][size], uint8(i%n|i/n<<4))
			list[2][size] = append(list[2][size], uint8(i/n|i%n<<4))
		}
	}
	return list
}()

// places are the inverse of scans: by y<<3 | x.
var places = func() (list [3][4][64]uint8) {
	for i, sizes := range scans {
		for k, scan := range sizes {
			for n, p := range scan {
				list[i][k][p>>4<<3|p&15] = uint8(n)
			}
		}
	}
	return list
}()

// sigContexts are the context increments of the coefficients of a sub-block in scan order, before what
// depends on the block (9.3.4.2.5): by scanIdx and by which neighbouring sub-blocks are coded, or, as the
// fifth, of blocks of 4x4.
var sigContexts = func() (list [3][5][16]uint8) {
	small := [16]uint8{0, 1, 4, 5, 2, 3, 4, 5, 6, 6, 8, 8, 7, 7, 8, 8}
	nearness := func(d int) uint8 { return uint8(max(0, 2-d)) }
	for i := range list {
		for k, p := range scans[i][2] {
			x, y := int(p&15), int(p>>4)
			list[i][0][k] = [7]uint8{2, 1, 1}[x+y]
			list[i][1][k], list[i][2][k] = nearness(y), nearness(x)
			list[i][3][k] = 2
			list[i][4][k] = small[y<<2|x]
		}
	}
	return list
}()

// sigTable returns the context increments of the coefficients of a sub-block, and the context that they
// are added to; first means the sub-block of the first coefficient of all, which has a context of its own.
func sigTable(log2, chroma, scanIdx, neighbours int, first bool) (contexts *[16]uint8, base int) {
	if log2 == 2 {
		return &sigContexts[scanIdx][4], ctxSig + 27*chroma
	}
	contexts = &sigContexts[scanIdx][neighbours]
	if chroma > 0 {
		if log2 == 3 {
			return contexts, ctxSig + 27 + 9
		}
		return contexts, ctxSig + 27 + 12
	}
	base = ctxSig + 21
	if log2 == 3 {
		if base = ctxSig + 15; scanIdx == 0 {
			base = ctxSig + 9
		}
	}
	if !first {
		base += 3
	}
	return contexts, base
}

// lastContexts returns the first context of a place of the last coefficient after that of its
// coordinate, and by how much bins are shifted to theirs (9.3.4.2.3).
func lastContexts(log2, chroma int) (offset int, shift uint) {
	if chroma > 0 {
		return 15, uint(log2 - 2)
	}
	return 3*(log2-2) + (log2-1)>>2, uint((log2 + 1) >> 2)
}

// greater1Set returns ctxSet of a sub-block (9.3.4.2.6); before is greater1Ctx after the one before it.
func greater1Set(sub, chroma, before int) (set int) {
	if sub > 0 && chroma == 0 {
		set = 2
	}
	if before == 0 {
		set++
	}
	return set
}

// leastRemaining returns the magnitude from which the k-th level of a sub-block has
// coeff_abs_level_remaining; firstG2 is the one with coeff_abs_level_greater2_flag.
func leastRemaining(k, firstG2 int) int32 {
	switch {
	case k == firstG2:
		return 3
	case k < 8:
		return 2
	}
	return 1
}

// scanIndex returns scanIdx of a block (7.4.9.11).
func (w *worker[T]) scanIndex(log2, c int) int {
	if !w.cuIntra || log2 != 2 && !(log2 == 3 && c == 0) {
		return 0
	}
	switch {
	case w.predMode >= 6 && w.predMode <= 14:
		return 2
	case w.predMode >= 22 && w.predMode <= 30:
		return 1
	}
	return 0
}

// residual reads residual_coding (7.3.8.11) of the block at (x0, y0) of plane c into w.coeffs, scaled
// where the block is not lossless.
func (w *worker[T]) residual(x0, y0, log2 int, c int, scanIdx int) (rdpcm rdpcmMode, skip bool) {
	d, s := &w.cabac, w.sps
	size := 1 << log2
	coeffs := w.coeffs[:size*size]
	clear(coeffs)
	chroma := 0
	if c > 0 {
		chroma = 1
	}
	if w.pps.transformSkip && !w.cuBypass && log2 <= w.pps.maxSkip {
		skip = d.Decision(ctxTSkip+chroma) != 0
	}
	if !w.cuIntra && s.ext.explicitRDPCM && (skip || w.cuBypass) {
		if d.Decision(ctxExplicit+chroma) != 0 {
			rdpcm = rdpcmHorizontal
			if d.Decision(ctxExplicitDir+chroma) != 0 {
				rdpcm = rdpcmVertical
			}
		}
	}
	lastX, lastY := w.lastPosition(log2, chroma)
	if scanIdx == 2 {
		lastX, lastY = lastY, lastX
	}
	// The last sub-block and the position in it.
	subScan, scan := scans[scanIdx][log2-2], scans[scanIdx][2]
	lastSub := int(places[scanIdx][log2-2][lastY>>2<<3|lastX>>2])
	lastPos := int(places[scanIdx][2][lastY&3<<3|lastX&3])
	if w.cuIntra && s.ext.implicitRDPCM && (skip || w.cuBypass) {
		switch w.predMode {
		case modeHorizontal:
			rdpcm = rdpcmHorizontal
		case modeVertical:
			rdpcm = rdpcmVertical
		}
	}
	signHidden := w.pps.signHiding && !w.cuBypass && rdpcm == rdpcmNone
	scale := w.scaler(log2, c, skip)
	w.lastRow, w.lastColumn = 0, 0
	statType := 0
	if c == 0 {
		statType = 2
	}
	if skip || w.cuBypass {
		statType++
	}
	var coded [9]uint16                                 // of each row of sub-blocks, a bit for each that has levels
	single := s.ext.skipContext && (skip || w.cuBypass) // one context for all
	prevGreater1 := -1                                  // greater1Ctx of the sub-block before; negative: it is the first
	for i := lastSub; i >= 0; i-- {
		sx, sy := int(subScan[i]&15), int(subScan[i]>>4)
		neighbours := int(coded[sy]>>(sx+1)&1 | coded[sy+1]>>sx&1<<1)
		infer := false
		isCoded := i == lastSub || i == 0
		if i < lastSub && i > 0 {
			isCoded = d.Decision(ctxCodedSub+2*chroma+min(neighbours, 1)) != 0
			infer = true
		}
		if !isCoded {
			continue
		}
		coded[sy] |= 1 << sx
		contexts, base := sigTable(log2, chroma, scanIdx, neighbours, i == 0)
		dc := base + int(contexts[0]) // context of the first flag in scan order
		switch {
		case single:
			contexts, base, dc = &sameContext, ctxSig+42+chroma, ctxSig+42+chroma
		case i == 0 && log2 > 2:
			dc = ctxSig + 27*chroma
		}
		first, set := 15, uint(0) // the levels that are not 0, in scan order
		if i == lastSub {
			first, set = lastPos-1, 1<<lastPos
		}
		set |= d.Flags(contexts, base, first, 1)
		switch {
		case infer && set == 0:
			set = 1
		case first >= 0:
			set |= uint(d.Decision(dc))
		}
		var positions [16]uint8
		n := 0
		for rest := set; rest != 0; n++ {
			k := mathbits.Len16(uint16(rest)) - 1
			positions[n&15] = uint8(k)
			rest &^= 1 << k
		}
		if n == 0 {
			continue
		}
		w.lastRow, w.lastColumn = max(w.lastRow, sy<<2+3), max(w.lastColumn, sx<<2+3)
		prevGreater1 = w.levels(positions[:n], scan, sx, sy, log2, i, chroma, prevGreater1, signHidden, statType, &scale)
	}
	return rdpcm, skip
}

// sameContext are the context increments of flags that share a context.
var sameContext [16]uint8

// rdpcmMode is how the differences of a block without a transform are summed up.
type rdpcmMode int

const (
	rdpcmNone rdpcmMode = iota
	rdpcmHorizontal
	rdpcmVertical
)

// lastPosition reads last_sig_coeff_x and y.
func (w *worker[T]) lastPosition(log2, chroma int) (x, y int) {
	d := &w.cabac
	offset, shift := lastContexts(log2, chroma)
	prefix := func(ctx int) int {
		n := 0
		for n < 2*log2-1 && d.Decision(ctx+offset+n>>shift) != 0 {
			n++
		}
		return n
	}
	px := prefix(ctxLastX)
	py := prefix(ctxLastY)
	suffix := func(p int) int {
		if p <= 3 {
			return p
		}
		n := p>>1 - 1
		v := 0
		for range n {
			v = v<<1 | d.Bypass()
		}
		return 1<<n*(2+p&1) + v
	}
	x = suffix(px)
	y = suffix(py)
	return x, y
}

// levels reads the levels of the coefficients of a sub-block, which are at positions in scan order
// from the last to the first. It returns greater1Ctx after it.
func (w *worker[T]) levels(positions []uint8, scan []uint8, sx, sy, log2, sub, chroma, before int, signHidden bool, statType int, scale *scaler) int {
	d := &w.cabac
	set := greater1Set(sub, chroma, before)
	greater := 1
	var level [16]int32
	eight := min(8, len(positions))
	firstG2 := -1
	for k := range eight {
		ctx := set*4 + greater
		if chroma > 0 {
			ctx += 16
		}
		g := d.Decision(ctxGreater1 + ctx)
		level[k] = 1 + int32(g)
		if g != 0 {
			greater = 0
			if firstG2 < 0 {
				firstG2 = k
			}
		} else if greater > 0 && greater < 3 {
			greater++
		}
	}
	for k := eight; k < len(positions); k++ {
		level[k] = 1
	}
	if firstG2 >= 0 {
		ctx := set
		if chroma > 0 {
			ctx += 4
		}
		level[firstG2] += int32(d.Decision(ctxGreater2 + ctx))
	}
	hidden := signHidden && positions[0]-positions[len(positions)-1] > 3
	n := len(positions)
	count := n
	if hidden {
		count--
	}
	signs := d.Bypasses(count) << (32 - count)
	rice := 0
	if w.sps.ext.persistent {
		rice = int(w.stats[statType]) / 4
	}
	sum, firstRemaining := int32(0), true
	for k := range n {
		if level[k] == leastRemaining(k, firstG2) {
			rem := w.remaining(rice)
			if level[k] += rem; level[k] > 1<<15 {
				w.failed = true // beyond 16 bits
			}
			if level[k] > 3<<rice {
				if w.sps.ext.persistent {
					rice++
				} else {
					rice = min(rice+1, 4)
				}
			}
			if firstRemaining && w.sps.ext.persistent {
				firstRemaining = false
				st := &w.stats[statType]
				if rem >= 3<<(*st/4) {
					*st++
				} else if 2*rem < 1<<(*st/4) && *st > 0 {
					*st--
				}
			}
		}
		v := level[k]
		sum += v
		if signs>>31 != 0 {
			v = -v
		}
		signs <<= 1
		if hidden && k == n-1 && sum&1 != 0 {
			v = -v
		}
		p := scan[positions[k]]
		x, y := sx<<2+int(p&15), sy<<2+int(p>>4)
		w.coeffs[y<<log2+x] = scale.apply(v, x, y)
	}
	return greater
}

// remaining reads coeff_abs_level_remaining (9.3.3.11).
func (w *worker[T]) remaining(rice int) int32 {
	d := &w.cabac
	prefix := 0
	for prefix < 32 && d.Bypass() != 0 {
		prefix++
	}
	if prefix <= 3 {
		return int32(prefix)<<rice + int32(d.Bypasses(rice))
	}
	if prefix > 3+20 {
		return 0 // no valid level is that large
	}
	return (1<<(prefix-3)+3-1)<<rice + int32(d.Bypasses(prefix-3+rice))
}

// scaler scales levels (8.6.4.2).
type scaler struct {
	lossless bool
	factor   int32 // levelScale << qP/6
	flat     bool
	matrix   *[64]uint8
	dc       int32
	shift    uint
	log2     int
}

var levelScale = [6]int32{40, 45, 51, 57, 64, 72}

// scaler returns how the levels of a block are scaled.
func (w *worker[T]) scaler(log2, c int, skip bool) scaler {
	s := scaler{lossless: w.cuBypass, log2: log2}
	if s.lossless {
		return s
	}
	qp, depth := w.qps[c], w.sps.depth
	if c > 0 {
		depth = w.sps.chromaDepth
	}
	s.factor = levelScale[qp%6] << (qp / 6)
	s.shift = uint(depth + log2 - 5)
	lists := w.scaling
	if s.flat = lists == nil || skip && log2 > 2; s.flat {
		s.dc = 16
		return s
	}
	m := c
	if !w.cuIntra {
		m += 3
	}
	s.matrix, s.dc = &lists.factors[log2-2][m], int32(lists.dc[log2-2][m])
	return s
}

// apply scales a level at a position.
func (s *scaler) apply(v int32, x, y int) int16 {
	if s.lossless {
		return int16(max(-32768, min(v, 32767)))
	}
	m := int64(16)
	if !s.flat {
		switch {
		case s.log2 == 2:
			m = int64(s.matrix[y<<2+x])
		case x == 0 && y == 0 && s.log2 > 3:
			m = int64(s.dc)
		default:
			m = int64(s.matrix[y>>(s.log2-3)<<3+x>>(s.log2-3)])
		}
	}
	scaled := (int64(v)*m*int64(s.factor) + 1<<(s.shift-1)) >> s.shift
	return int16(max(-32768, min(scaled, 32767)))
}
