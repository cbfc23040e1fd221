package h264

import "math/bits"

// levels are the quantised coefficients of a macroblock in the order of their
// scans (7.3.5.3). Where a block has none, what stands there means nothing.
type levels struct {
	luma      [256]int16 // of 4x4 blocks in coding order, or of 8x8 blocks
	chroma    [2][128]int16
	dc        [16]int16 // of Intra_16x16
	chromaDC  [2][8]int16
	hasLuma   [16]uint64 // which levels of a block are not 0, a bit each; of an 8x8 block by its first 4x4 block
	hasChroma [2][8]uint64
}

// placesOf tells which levels of a block are not 0.
func placesOf(l []int16) (has uint64) {
	for i, v := range l {
		has |= uint64(oneIf(v != 0)) << i
	}
	return has
}

// residual writes the coefficients that coded_block_pattern lets be sent.
func (w *sliceWriter) residual(l *levels) {
	d := w.d
	d.loadNonZero()
	w.residualLuma(l)
	if d.h.sps.chroma.Planes() == 3 {
		w.residualChroma(l)
	}
	d.storeNonZero()
}

func (w *sliceWriter) residualLuma(l *levels) {
	d := w.d
	cat, first := cat4x4, 0
	if d.mb.kind == kind16x16 {
		if w.block(catDC16, l.dc[:], placesOf(l.dc[:]), 0, cacheFirst) > 0 {
			d.mb.dc |= 1
		}
		cat, first = catAC16, 1
	}
	for b8 := range 4 {
		if d.mb.cbp>>b8&1 == 0 {
			continue
		}
		if d.mb.transform8 {
			w.residual8x8(l.luma[64*b8:64*b8+64], l.hasLuma[4*b8], b8)
			continue
		}
		for k := 4 * b8; k < 4*b8+4; k++ {
			at := cacheAt[blockOf[k]]
			n := w.block(cat, l.luma[16*k+first:16*k+16], l.hasLuma[k]>>first, 0, at)
			d.nz[0][at] = uint8(n)
		}
	}
}

func (w *sliceWriter) residual8x8(l []int16, has uint64, b8 int) {
	d := w.d
	total := 0
	if d.h.pps.cabac {
		total = w.cabacCoeffs(cat8x8, l, has)
	}
	for i := range 4 {
		at := cacheAt[blockOf[4*b8+i]]
		if d.h.pps.cabac {
			d.nz[0][at] = uint8(total)
			continue
		}
		var part [16]int16
		for k := range part {
			part[k] = l[4*k+i]
		}
		d.nz[0][at] = uint8(w.block(cat4x4, part[:], placesOf(part[:]), 0, at))
	}
}

func (w *sliceWriter) residualChroma(l *levels) {
	d := w.d
	if d.mb.cbp>>4 == 0 {
		return
	}
	blocks := d.chromaBlocks()
	for plane := range 2 {
		if w.block(catChromaDC, l.chromaDC[plane][:blocks], placesOf(l.chromaDC[plane][:blocks]), 1+plane, -1) > 0 {
			d.mb.dc |= 2 << plane
		}
	}
	if d.mb.cbp>>4 != 2 {
		return
	}
	for plane := range 2 {
		for k := range blocks {
			at := cacheFirst + k>>1*cacheStep + k&1
			d.nz[1+plane][at] = uint8(w.block(catChromaAC, l.chroma[plane][16*k+1:16*k+16], l.hasChroma[plane][k]>>1, 1+plane, at))
		}
	}
}

// block writes one block of a plane, which is at place at of its cache, and
// returns how many coefficients it has: those that has names.
func (w *sliceWriter) block(cat int, l []int16, has uint64, plane, at int) int {
	d := w.d
	if !d.h.pps.cabac {
		table := 3 + len(l)>>3
		if cat != catChromaDC {
			table = int(coeffTable[d.coeffContext(plane, at)&31])
		}
		return w.cavlcCoeffs(cat, l, has, table)
	}
	ctx := 85 + 4*cat + d.codedContext(cat, plane, at)
	w.bins.bin(ctx, oneIf(has != 0))
	return w.cabacCoeffs(cat, l, has)
}

// cabacCoeffs writes a block (7.3.5.3.3), if it has coefficients.
func (w *sliceWriter) cabacCoeffs(cat int, l []int16, has uint64) int {
	if has == 0 {
		return 0
	}
	e := &w.bins
	e.makeRoom()
	w.significant(cat, len(l), has)
	abs := absContexts[cat]
	most := 4
	if cat == catChromaDC {
		most = 3
	}
	ones, more := 1, 0
	n := bits.OnesCount64(has)
	for has != 0 {
		i := 63 - bits.LeadingZeros64(has)
		has &^= 1 << i
		level := int(l[i])
		size := max(level, -level)
		if size == 1 {
			e.bin(abs+ones, 0)
			if more == 0 {
				ones = min(ones+1, 4)
			}
		} else {
			e.bin(abs+ones, 1)
			ctx := abs + 5 + min(most, more)
			for k := 2; k < min(size, 15); k++ {
				e.bin(ctx, 1)
			}
			if size < 15 {
				e.bin(ctx, 0)
			} else {
				e.expGolomb(int32(size-15), 0)
			}
			ones = 0
			more++
		}
		e.bypass(oneIf(level < 0))
	}
	return n
}

// significant writes which of the coefficients of a block are not 0.
func (w *sliceWriter) significant(cat, size int, has uint64) {
	e, field := &w.bins, w.d.fieldScan()
	sig, last := uint16(sigContexts[field][cat]<<1), uint16(lastContexts[field][cat]<<1)
	sigIncs, lastIncs := &sigIncs[cat][field], &lastIncs[cat]
	if size == 8 { // chroma DC of 4:2:2
		sigIncs, lastIncs = &tallIncs, &tallIncs
	}
	n := e.n
	for i := range size - 1 { // the last one is significant if none before was the last
		v := uint16(has >> i & 1)
		e.waits[n&(binRoom-1)] = sig + sigIncs[i&63] | v
		n++
		if v != 0 {
			ends := uint16(oneIf(has>>i == 1))
			e.waits[n&(binRoom-1)] = last + lastIncs[i&63] | ends
			n++
			if ends != 0 {
				break
			}
		}
	}
	e.n = n
}

// sigIncs and lastIncs are ctxIdxInc of significant_coeff_flag, for frame and
// for field macroblocks, and of last_significant_coeff_flag, by category and
// place and times two (9.3.3.1.3). Those of DC in 4:2:2 are tallIncs.
var (
	sigIncs  [6][2][64]uint16
	lastIncs [6][64]uint16
	tallIncs [64]uint16
)

func init() {
	for i := range 64 {
		for cat := range sigIncs {
			inc := uint16(2 * i)
			if cat == catChromaDC {
				inc = uint16(2 * min(i, 2))
			}
			sigIncs[cat][0][i], sigIncs[cat][1][i], lastIncs[cat][i] = inc, inc, inc
		}
		for field := range 2 {
			sigIncs[cat8x8][field][i] = 2 * uint16(sig8x8[field][i])
		}
		lastIncs[cat8x8][i] = 2 * uint16(last8x8[i])
		tallIncs[i] = uint16(2 * min(i/2, 2))
	}
}

// cavlcCoeffs writes a block (9.2) and returns how many coefficients it has.
func (w *sliceWriter) cavlcCoeffs(cat int, l []int16, has uint64, table int) int {
	var values [16]int // from the highest frequency down
	var runs [16]int   // zeros before each
	total, ones, zeros, run := 0, 0, 0, 0
	trailing := true
	for i := 63 - bits.LeadingZeros64(has); i >= 0; i-- {
		v := int(l[i])
		if v == 0 {
			run++
			zeros++
			continue
		}
		if total > 0 {
			runs[(total-1)&15] = run
		}
		run = 0
		values[total&15] = v
		total++
		if trailing = trailing && max(v, -v) == 1 && ones < 3; trailing {
			ones++
		}
	}
	b := &w.bits
	if table == 5 {
		code := total<<2 - 4 | ones
		if total == 0 {
			code = 3
		}
		b.u(6, uint32(code))
	} else {
		b.code(coeffTokens[table].codes[total<<2|ones])
	}
	if total == 0 {
		return 0
	}
	w.cavlcLevels(&values, total, ones)
	if total == len(l) {
		return total
	}
	if cat == catChromaDC {
		b.code(totalZerosDC[len(l)>>3][total-1].codes[zeros])
	} else {
		b.code(totalZeros[total-1].codes[zeros])
	}
	for i := 0; i < total-1 && zeros > 0; i++ {
		b.code(runBefore[min(zeros, 7)-1].codes[runs[i&15]])
		zeros -= runs[i&15]
	}
	return total
}

func (w *bitWriter) code(c code) { w.u(int(c.length), uint32(c.bits)) }

// cavlcLevels writes the levels (9.2.2).
func (w *sliceWriter) cavlcLevels(values *[16]int, total, ones int) {
	b := &w.bits
	for _, v := range values[:ones] {
		b.u(1, uint32(oneIf(v < 0)))
	}
	suffix := 0
	if total > 10 && ones < 3 {
		suffix = 1
	}
	for i := ones; i < total; i++ {
		v := values[i&15]
		abs := max(v, -v)
		code := 2*abs - 2 + oneIf(v < 0)
		if i == ones && ones < 3 {
			code -= 2
		}
		writeLevel(b, code, suffix)
		if suffix == 0 {
			suffix = 1
		}
		if abs > 3<<(suffix-1) && suffix < 6 {
			suffix++
		}
	}
}

// writeLevel writes level_prefix and level_suffix for a levelCode (9.2.2.1).
func writeLevel(b *bitWriter, code, suffix int) {
	switch {
	case suffix == 0 && code < 14:
		b.u(code+1, 1)
	case suffix == 0 && code < 30:
		b.u(15, 1)
		b.u(4, uint32(code-14))
	case suffix > 0 && code>>suffix < 15:
		b.u(code>>suffix+1, 1)
		b.u(suffix, uint32(code&(1<<suffix-1)))
	default: // an escape of 12 bits or more
		code -= 15 << suffix
		if suffix == 0 {
			code -= 15
		}
		prefix := 15
		if code >= 4096 { // levelCode is 4096 less than prefix and suffix say
			prefix = bits.Len(uint(code+4096)) + 2
			code -= 1<<(prefix-3) - 4096
		}
		b.u(prefix, 0)
		b.u(1, 1)
		b.u(prefix-3, uint32(code))
	}
}
