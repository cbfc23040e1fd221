package hevc

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/cabac"
)

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

// residualScans are how the coefficients of blocks are coded: by whether all their sig_coeff_flag share a
// context, as skipped transforms may have it, by chroma, scanIdx and log2 of the size less 2.
var residualScans = func() (list [2][2][3][4]*cabac.Scan) {
	for chroma := range 2 {
		for scanIdx := range 3 {
			for size := range 4 {
				offset, shift := lastContexts(size+2, chroma)
				own := cabac.ScanContexts{
					LastX: uint16(ctxLastX + offset), LastY: uint16(ctxLastY + offset), LastShift: uint8(shift),
					Coded: uint16(ctxCodedSub + 2*chroma), Greater1: uint16(ctxGreater1 + 16*chroma), Greater2: uint16(ctxGreater2 + 4*chroma),
				}
				same := own
				for i := range own.Sig {
					contexts, base := sigTable(size+2, chroma, scanIdx, i&3, i >= 4)
					for k, inc := range contexts {
						own.Sig[i][k], same.Sig[i][k] = uint8(base)+inc, ctxSig+42+uint8(chroma)
					}
					if i >= 4 && size > 0 { // the first of all has a context of its own
						own.Sig[i][0] = ctxSig + 27*uint8(chroma)
					}
				}
				for k, contexts := range []*cabac.ScanContexts{&own, &same} {
					list[k][chroma][scanIdx][size] = cabac.NewScan(size+2, scans[scanIdx][size], scans[scanIdx][2], contexts, chroma == 0, scanIdx == 2)
				}
			}
		}
	}
	return list
}()

// residual reads residual_coding (7.3.8.11) of a block of plane c into w.coeffs, scaled where the block is
// not lossless.
func (w *worker[T]) residual(log2, c, scanIdx int) (rdpcm rdpcmMode, skip bool) {
	d, s := &w.cabac, w.sps
	coeffs := w.coeffs[:1<<(2*log2)]
	clear(coeffs)
	chroma := min(c, 1)
	if w.pps.transformSkip && !w.cuBypass && log2 <= w.pps.maxSkip {
		skip = d.Decision(ctxTSkip+chroma) != 0
	}
	unchanged := skip || w.cuBypass // no transform
	if !w.cuIntra && s.ext.explicitRDPCM && unchanged {
		if d.Decision(ctxExplicit+chroma) != 0 {
			rdpcm = rdpcmHorizontal
			if d.Decision(ctxExplicitDir+chroma) != 0 {
				rdpcm = rdpcmVertical
			}
		}
	}
	if w.cuIntra && s.ext.implicitRDPCM && unchanged {
		switch w.predMode {
		case modeHorizontal:
			rdpcm = rdpcmHorizontal
		case modeVertical:
			rdpcm = rdpcmVertical
		}
	}
	scale := w.scaler(log2, c, skip)
	r := cabac.Residual{
		Scan: residualScans[0][chroma][scanIdx][log2-2], Out: coeffs,
		Factor: 1,
		Hidden: w.pps.signHiding && !w.cuBypass && rdpcm == rdpcmNone,
	}
	if unchanged && s.ext.skipContext {
		r.Scan = residualScans[1][chroma][scanIdx][log2-2]
	}
	if s.ext.persistent {
		r.Stat = &w.stats[2*(1-chroma)]
		if unchanged {
			r.Stat = &w.stats[2*(1-chroma)+1]
		}
	}
	if scale.matrix == nil {
		r.Factor, r.Shift = scale.factor, scale.shift
	}
	d.Residual(&r)
	w.failed = w.failed || r.Failed
	w.lastRow, w.lastColumn = lastOf(r.Coded)
	if scale.matrix != nil {
		scale.apply(coeffs)
	}
	return rdpcm, skip
}

// lastOf returns the last row and column of a block that its sub-blocks with levels reach, of which each is a bit:
// 8*row + column.
func lastOf(coded uint64) (row, column int) {
	row = (mathbits.Len64(coded)-1)>>3<<2 + 3
	coded |= coded >> 32
	coded |= coded >> 16
	return row, mathbits.Len8(uint8(coded|coded>>8))<<2 - 1
}

// rdpcmMode is how the differences of a block without a transform are summed up.
type rdpcmMode int

const (
	rdpcmNone rdpcmMode = iota
	rdpcmHorizontal
	rdpcmVertical
)

// scaler scales levels (8.6.4.2): (level*factor + 1<<shift>>1) >> shift, where factor is multiplied with the
// level's entry of a matrix, if there is one.
type scaler struct {
	factor int64
	shift  uint
	log2   int        // of the block's size
	matrix *[64]uint8 // of 4x4 or 8x8 factors
	dc     uint8      // of the first level of blocks larger than that
}

var levelScale = [6]int32{40, 45, 51, 57, 64, 72}

// scaler returns how the levels of a block are scaled.
func (w *worker[T]) scaler(log2, c int, skip bool) scaler {
	if w.cuBypass {
		return scaler{factor: 1}
	}
	s := scaler{factor: int64(levelScale[w.qps[c]%6]) << (w.qps[c] / 6), shift: uint(w.depths[c] + log2 - 5), log2: log2}
	lists := w.scaling
	if lists == nil || skip && log2 > 2 {
		s.factor *= 16
		return s
	}
	m := c
	if !w.cuIntra {
		m += 3
	}
	s.matrix, s.dc = &lists.factors[log2-2][m], lists.dc[log2-2][m]
	return s
}

// apply scales the levels of a block by its matrix.
func (s *scaler) apply(levels []int16) {
	side := min(s.log2, 3)
	for i, v := range levels {
		if v == 0 {
			continue
		}
		x, y := i&(1<<s.log2-1)>>(s.log2-side), i>>(2*s.log2-side)
		m := s.matrix[y<<side+x]
		if i == 0 && s.log2 > 3 {
			m = s.dc
		}
		levels[i] = int16(max(-1<<15, min((int64(v)*int64(m)*s.factor+1<<(s.shift-1))>>s.shift, 1<<15-1)))
	}
}
