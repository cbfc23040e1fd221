package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/cabac"

	mathbits "math/bits"
)

// levels are the quantised coefficients of a macroblock in the order of their
// scans (7.3.5.3). Where a block has none, what is there means nothing.
type levels struct {
	luma          [256]int16 // of 4x4 blocks in coding order, or of 8x8 blocks
	chroma        [2][128]int16
	dc            [16]int16 // of Intra_16x16
	chromaDC      [2][8]int16
	nonZeroDC     uint64     // of dc
	nonZeroLuma   [16]uint64 // which levels of a block are not 0, a bit each; of an 8x8 block by its first 4x4 block
	nonZeroChroma [2][8]uint64
}

// nonZeroOf tells which levels of a block are not 0.
func nonZeroOf(l []int16) (nonZero uint64) {
	for i, v := range l {
		nonZero |= uint64(oneIf(v != 0)) << i
	}
	return nonZero
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
		if w.block(catDC16, l.dc[:], l.nonZeroDC, cacheFirst) > 0 {
			d.mb.dc |= 1
		}
		cat, first = catAC16, 1
	}
	for b8 := range 4 {
		if d.mb.cbp>>b8&1 == 0 {
			continue
		}
		if d.mb.transform8 {
			w.residual8x8(l.luma[64*b8:64*b8+64], l.nonZeroLuma[4*b8], b8)
			continue
		}
		w.blocks(cat, first, 4*b8, l.luma[64*b8:64*b8+64], l.nonZeroLuma[4*b8:4*b8+4])
	}
}

// blocks writes 4x4 blocks without the coefficients before first; k is the first one in the order of coded.
func (w *sliceWriter) blocks(cat, first, k int, levels []int16, nonZero []uint64) {
	d := w.d
	for i, has := range nonZero {
		at, has := int(blockAt[(k+i)&31]), has>>first
		switch l := levels[16*i+first : 16*i+16]; {
		case !d.h.pps.cabac:
			d.nz[at] = uint8(w.block(cat, l, has, at))
		case has != 0:
			w.bins.Decision(85+4*cat+d.codedBeside(at), 1)
			d.nz[at] = uint8(w.cabacCoeffs(cat, l, has))
		default:
			w.bins.Decision(85+4*cat+d.codedBeside(at), 0)
		}
	}
}

func (w *sliceWriter) residual8x8(l []int16, nonZero uint64, b8 int) {
	d := w.d
	total := 0
	if d.h.pps.cabac {
		total = w.cabacCoeffs(cat8x8, l, nonZero)
	}
	for i := range 4 {
		at := int(blockAt[4*b8+i])
		if d.h.pps.cabac {
			d.nz[at] = uint8(total)
			continue
		}
		var part [16]int16
		for k := range part {
			part[k] = l[4*k+i]
		}
		d.nz[at] = uint8(w.block(cat4x4, part[:], nonZeroOf(part[:]), at))
	}
}

func (w *sliceWriter) residualChroma(l *levels) {
	d := w.d
	if d.mb.cbp>>4 == 0 {
		return
	}
	blocks := d.chromaBlocks()
	for plane := range 2 {
		if w.block(catChromaDC, l.chromaDC[plane][:blocks], nonZeroOf(l.chromaDC[plane][:blocks]), 1+plane) > 0 {
			d.mb.dc |= 2 << plane
		}
	}
	if d.mb.cbp>>4 != 2 {
		return
	}
	for plane := range 2 {
		w.blocks(catChromaAC, 1, chromaBlock(plane), l.chroma[plane][:], l.nonZeroChroma[plane][:blocks])
	}
}

// block writes one block, at as of read, and returns how many coefficients it has: those that nonZero
// names.
func (w *sliceWriter) block(cat int, l []int16, nonZero uint64, at int) int {
	d := w.d
	if !d.h.pps.cabac {
		table := 3 + len(l)>>3
		if cat != catChromaDC {
			table = int(coeffTable[d.coeffContext(at)&31])
		}
		return w.cavlcCoeffs(cat, l, nonZero, table)
	}
	ctx := 85 + 4*cat + d.codedContext(cat, at)
	w.bins.Decision(ctx, oneIf(nonZero != 0))
	return w.cabacCoeffs(cat, l, nonZero)
}

// cabacCoeffs writes a block (7.3.5.3.3), if it has coefficients.
func (w *sliceWriter) cabacCoeffs(cat int, l []int16, nonZero uint64) int {
	if nonZero == 0 {
		return 0
	}
	e := &w.bins
	e.MakeRoom()
	w.significant(cat, len(l), nonZero)
	abs, most := uint16(absContexts[cat]<<1), 4
	if cat == catChromaDC {
		most = 3
	}
	ones, more := uint16(1), 0
	waits, n := &e.Queue, e.Queued
	for rest := nonZero; rest != 0; {
		i := 63 - mathbits.LeadingZeros64(rest)
		rest &^= 1 << i
		level := int(l[i])
		sign := uint16(cabac.BypassContext<<1) | uint16(level>>15)&1
		size := max(level, -level)
		if size == 1 {
			waits[n&(cabac.QueueSize-1)] = abs + 2*ones
			waits[(n+1)&(cabac.QueueSize-1)] = sign
			n += 2
			ones = onesAfter[ones&7]
			continue
		}
		waits[n&(cabac.QueueSize-1)] = abs + 2*ones | 1
		n++
		ctx := abs + 2*uint16(5+min(most, more))
		for range min(size, 15) - 2 {
			waits[n&(cabac.QueueSize-1)] = ctx | 1
			n++
		}
		if size < 15 {
			waits[n&(cabac.QueueSize-1)] = ctx
			n++
		} else {
			e.Queued = n
			e.ExpGolomb(int32(size-15), 0)
			n = e.Queued
		}
		waits[n&(cabac.QueueSize-1)] = sign
		n++
		ones = 0
		more++
	}
	e.Queued = n
	return mathbits.OnesCount64(nonZero)
}

// onesAfter counts levels of 1 for ctxIdxInc of coeff_abs_level_minus1, up to 4 and
// none after a greater one (9.3.3.1.3).
var onesAfter = [8]uint16{0, 2, 3, 4, 4}

// significant writes which of the coefficients of a block are not 0.
func (w *sliceWriter) significant(cat, size int, nonZero uint64) {
	e, field := &w.bins, w.d.fieldScan()
	flags := &significanceBins[field][cat]
	if size == 8 { // chroma DC of 4:2:2
		flags = &significanceBins422DC[field]
	}
	end := 63 - mathbits.LeadingZeros64(nonZero)
	w.queueFlags(e.Queue[e.Queued&(cabac.QueueSize-1):], flags, nonZero, end)
	e.Queued += end + mathbits.OnesCount64(nonZero) - 1
	if end < size-1 { // the last one is significant if none before was the last
		sig, last := flags.at(end)
		e.Decision(int(sig>>1), 1)
		e.Decision(int(last>>1), 1)
	}
}

// significanceFlags are significant_coeff_flag and last_significant_coeff_flag of the places
// of a block, as bins of 0 (9.3.3.1.3): of four places each the first ones, then
// the second ones.
type significanceFlags [2 * 64]uint16

// at returns both flags of place i.
func (f *significanceFlags) at(i int) (sig, last uint16) {
	at := flagIndex(i)
	return f[at&127], f[(at+4)&127]
}

// flagIndex is where the first flag of place i is; the second is four further on.
func flagIndex(i int) int { return i>>2<<3 | i&3 }

// queueFlags notes the flags of the places before end, of which has tells those
// with a coefficient. What it writes beyond them means nothing.
func queueFlags(waits []uint16, f *significanceFlags, nonZero uint64, end int) {
	n := 0
	for i := range end {
		sig, last := f.at(i)
		v := nonZero >> i & 1
		waits[n] = sig | uint16(v)
		waits[n+1] = last // counts where v is 1
		n += 1 + int(v)
	}
}

// significanceBins are the flags of frame and of field macroblocks, by category; those of
// DC in 4:2:2 are significanceBins422DC.
var (
	significanceBins      [2][6]significanceFlags
	significanceBins422DC [2]significanceFlags
)

func init() {
	for field := range 2 {
		for i := range 64 {
			at := flagIndex(i)
			for cat := range 6 {
				sig, last := i, i
				switch cat {
				case catChromaDC:
					sig, last = min(i, 2), min(i, 2)
				case cat8x8:
					sig, last = int(sig8x8[field][i]), int(last8x8[i])
				}
				significanceBins[field][cat][at] = uint16((sigContexts[field][cat] + sig) << 1)
				significanceBins[field][cat][at+4] = uint16((lastContexts[field][cat] + last) << 1)
			}
			significanceBins422DC[field][at] = uint16((sigContexts[field][catChromaDC] + min(i/2, 2)) << 1)
			significanceBins422DC[field][at+4] = uint16((lastContexts[field][catChromaDC] + min(i/2, 2)) << 1)
		}
	}
}

// cavlcCoeffs writes a block (9.2) and returns how many coefficients it has.
func (w *sliceWriter) cavlcCoeffs(cat int, l []int16, nonZero uint64, table int) int {
	var values [16]int // from the highest frequency down
	var runs [16]int   // zeros before each
	total, ones, zeros, run := 0, 0, 0, 0
	trailing := true
	for i := 63 - mathbits.LeadingZeros64(nonZero); i >= 0; i-- {
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
		b.U(6, uint32(code))
	} else {
		writeCode(b, coeffTokens[table].codes[total<<2|ones])
	}
	if total == 0 {
		return 0
	}
	w.cavlcLevels(&values, total, ones)
	if total == len(l) {
		return total
	}
	if cat == catChromaDC {
		writeCode(b, totalZerosDC[len(l)>>3][total-1].codes[zeros])
	} else {
		writeCode(b, totalZeros[total-1].codes[zeros])
	}
	for i := 0; i < total-1 && zeros > 0; i++ {
		writeCode(b, runBefore[min(zeros, 7)-1].codes[runs[i&15]])
		zeros -= runs[i&15]
	}
	return total
}

func writeCode(w *bits.Writer, c code) { w.U(int(c.length), uint32(c.bits)) }

// cavlcLevels writes the levels (9.2.2).
func (w *sliceWriter) cavlcLevels(values *[16]int, total, ones int) {
	b := &w.bits
	for _, v := range values[:ones] {
		b.U(1, uint32(oneIf(v < 0)))
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
func writeLevel(b *bits.Writer, code, suffix int) {
	switch {
	case suffix == 0 && code < 14:
		b.U(code+1, 1)
	case suffix == 0 && code < 30:
		b.U(15, 1)
		b.U(4, uint32(code-14))
	case suffix > 0 && code>>suffix < 15:
		b.U(code>>suffix+1, 1)
		b.U(suffix, uint32(code&(1<<suffix-1)))
	default: // an escape of 12 bits or more
		code -= 15 << suffix
		if suffix == 0 {
			code -= 15
		}
		prefix := 15
		if code >= 4096 { // levelCode is 4096 less than prefix and suffix say
			prefix = mathbits.Len(uint(code+4096)) + 2
			code -= 1<<(prefix-3) - 4096
		}
		b.U(prefix, 0)
		b.U(1, 1)
		b.U(prefix-3, uint32(code))
	}
}
