package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/cabac"
)

// sliceWriter writes the macroblocks of a slice. What syntax elements depend on
// is the decoder's own state, so that both sides agree on it; each method is
// the counterpart of the reader's of the same name in syntax.go.
type sliceWriter struct {
	d    *sliceDecoder
	bits bits.Writer
	bins cabac.Encoder
	// queueFlags is the function queueFlags, or as fast.
	queueFlags func(queue []uint16, f *significanceFlags, nonZero uint64, end int)
	skipRun    int // macroblocks skipped since the last one that was not
}

// begin starts the slice data after the header, which is in bits.
func (w *sliceWriter) begin(d *sliceDecoder) {
	w.d, w.skipRun = d, 0
	d.qp, d.lastDQ = d.h.qp, false
	if d.h.pps.cabac {
		w.bits.Align(1)
		initContexts(&d.cabac.State, d.h.cabacInit, d.h.qp)
		w.queueFlags = fastQueueFlags()
		w.bins.Start(&d.cabac.State, w.bits.Bytes())
	}
}

// end ends the slice and returns it without emulation prevention.
func (w *sliceWriter) end() []byte {
	if w.d.h.pps.cabac {
		return w.bins.Out // rbsp_stop_one_bit is a part of what terminate wrote
	}
	if w.skipRun > 0 {
		w.bits.UE(w.skipRun)
	}
	w.bits.Trailing()
	return w.bits.Bytes()
}

// skip writes whether the macroblock is skipped.
func (w *sliceWriter) skip(skipped bool) {
	d := w.d
	switch {
	case d.h.kind == sliceI:
	case d.h.pps.cabac:
		ctx := 11
		if d.h.kind == sliceB {
			ctx = 24
		}
		w.bins.Decision(ctx+d.condition(func(m *mbInfo) bool { return !m.skip }), oneIf(skipped))
	case skipped:
		w.skipRun++
	default:
		w.bits.UE(w.skipRun)
		w.skipRun = 0
	}
}

// endOfMb writes whether the slice ends after the macroblock.
func (w *sliceWriter) endOfMb(last bool) {
	if w.d.h.pps.cabac {
		w.bins.Terminate(oneIf(last))
	}
}

func oneIf(b bool) int {
	if b {
		return 1
	}
	return 0
}

// mbTypeIntra writes the types of table 7-11 but I_PCM.
func (w *sliceWriter) mbTypeIntra(t int) {
	d := w.d
	if !d.h.pps.cabac {
		w.bits.UE(t + [...]int{sliceP: 5, sliceB: 23, sliceI: 0}[d.h.kind])
		return
	}
	e := &w.bins
	ctx, more := 3, 1
	switch d.h.kind {
	case sliceI:
		e.Decision(3+d.condition(func(m *mbInfo) bool { return m.kind != kindIntra }), min(t, 1))
		ctx = 5
	case sliceP:
		e.Decision(14, 1)
		e.Decision(17, min(t, 1))
		ctx, more = 17, 0
	case sliceB:
		w.mbTypeBits(13)
		e.Decision(32, min(t, 1))
		ctx, more = 32, 0
	}
	if t == 0 {
		return
	}
	t--
	e.Terminate(0)
	e.Decision(ctx+1, t/12)
	chroma := t / 4 % 3
	e.Decision(ctx+2, min(chroma, 1))
	if chroma > 0 {
		e.Decision(ctx+2+more, chroma-1)
	}
	e.Decision(ctx+3+more, t>>1&1)
	e.Decision(ctx+3+2*more, t&1)
}

// mbTypeInter writes mb_type of table 7-13 or 7-14.
func (w *sliceWriter) mbTypeInter(t int) {
	d, e := w.d, &w.bins
	switch {
	case !d.h.pps.cabac:
		w.bits.UE(t)
	case d.h.kind == sliceP:
		e.Decision(14, 0)
		e.Decision(15, oneIf(t == 1 || t == 2))
		if t == 0 || t == 3 {
			e.Decision(16, t/3)
		} else {
			e.Decision(17, 2-t)
		}
	case t == 0:
		e.Decision(27+d.condition(func(m *mbInfo) bool { return !m.direct16 }), 0)
	case t < 3:
		e.Decision(27+d.condition(func(m *mbInfo) bool { return !m.direct16 }), 1)
		e.Decision(30, 0)
		e.Decision(32, t-1)
	case t < 11:
		w.mbTypeBits(t - 3)
	case t == 11:
		w.mbTypeBits(14)
	case t == 22:
		w.mbTypeBits(15)
	default:
		w.mbTypeBits((t + 4) >> 1)
		e.Decision(32, t&1)
	}
}

// mbTypeBits writes the long prefix of types in B slices.
func (w *sliceWriter) mbTypeBits(code int) {
	e := &w.bins
	e.Decision(27+w.d.condition(func(m *mbInfo) bool { return !m.direct16 }), 1)
	e.Decision(30, 1)
	e.Decision(31, code>>3)
	e.Decision(32, code>>2&1)
	e.Decision(32, code>>1&1)
	e.Decision(32, code&1)
}

// subMbType writes a type of sub-macroblocks that are not split: 0 in P
// slices, 0 to 3 in B slices.
func (w *sliceWriter) subMbType(t int) {
	d, e := w.d, &w.bins
	switch {
	case !d.h.pps.cabac:
		w.bits.UE(t)
	case d.h.kind == sliceP:
		e.Decision(21, 1)
	case t == 0:
		e.Decision(36, 0)
	case t < 3:
		e.Decision(36, 1)
		e.Decision(37, 0)
		e.Decision(39, t-1)
	default:
		e.Decision(36, 1)
		e.Decision(37, 1)
		e.Decision(38, 0)
		e.Decision(39, 0)
		e.Decision(39, 0)
	}
}

func (w *sliceWriter) refIdx(list, at, most, ref int) {
	d, e := w.d, &w.bins
	if !d.h.pps.cabac {
		if most == 1 {
			w.bits.U(1, uint32(1-ref))
		} else {
			w.bits.UE(ref)
		}
		return
	}
	ctx := 0
	if d.refCtx[list][at-1] > 0 {
		ctx = 1
	}
	if d.refCtx[list][at-cacheStep] > 0 {
		ctx += 2
	}
	for ; ref > 0; ref-- {
		e.Decision(54+ctx, 1)
		ctx = ctx>>2 + 4
	}
	e.Decision(54+ctx, 0)
}

func (w *sliceWriter) mvdComponent(ctx, sum, v int) {
	if !w.d.h.pps.cabac {
		w.bits.SE(v)
		return
	}
	e := &w.bins
	inc := 0
	if sum > 32 {
		inc = 2
	} else if sum > 2 {
		inc = 1
	}
	if v == 0 {
		e.Decision(ctx+inc, 0)
		return
	}
	e.Decision(ctx+inc, 1)
	abs := max(v, -v)
	inc = 3
	for i := 1; i < min(abs, 9); i++ {
		e.Decision(ctx+inc, 1)
		inc = min(inc+1, 6)
	}
	if abs < 9 {
		e.Decision(ctx+inc, 0)
	} else {
		e.ExpGolomb(int32(abs-9), 3)
	}
	e.Bypass(oneIf(v < 0))
}

func (w *sliceWriter) intraMode(predicted, mode int8) {
	rest := mode
	if mode > predicted {
		rest--
	}
	if !w.d.h.pps.cabac {
		w.bits.Flag(mode == predicted)
		if mode != predicted {
			w.bits.U(3, uint32(rest))
		}
		return
	}
	e := &w.bins
	e.Decision(68, oneIf(mode == predicted))
	if mode != predicted {
		e.Decision(69, int(rest&1))
		e.Decision(69, int(rest>>1&1))
		e.Decision(69, int(rest>>2))
	}
}

func (w *sliceWriter) intraChromaMode(mode int) {
	if !w.d.h.pps.cabac {
		w.bits.UE(mode)
		return
	}
	e := &w.bins
	e.Decision(64+w.d.condition(func(m *mbInfo) bool { return m.chromaMode != 0 }), min(mode, 1))
	if mode > 0 {
		e.Decision(67, min(mode-1, 1))
	}
	if mode > 1 {
		e.Decision(67, mode-2)
	}
}

func (w *sliceWriter) transform8Flag(large bool) {
	if !w.d.h.pps.cabac {
		w.bits.Flag(large)
		return
	}
	w.bins.Decision(399+w.d.condition(func(m *mbInfo) bool { return m.transform8 }), oneIf(large))
}

func (w *sliceWriter) codedBlockPattern(cbp int) {
	d, e := w.d, &w.bins
	if !d.h.pps.cabac {
		w.bits.UE(int(patternCodes[oneIf(!d.mb.intra())][cbp]))
		return
	}
	for b8 := range 4 {
		inc := 0
		if !d.codedLeft(b8, cbp) {
			inc = 1
		}
		if !d.codedAbove(b8, cbp) {
			inc += 2
		}
		e.Decision(73+inc, cbp>>b8&1)
	}
	chroma := cbp >> 4
	e.Decision(77+d.chromaCondition(1), min(chroma, 1))
	if chroma > 0 {
		e.Decision(81+d.chromaCondition(2), chroma-1)
	}
}

// patternCodes is the inverse of patterns.
var patternCodes = func() (codes [2][48]uint8) {
	for i := range patterns {
		for code, cbp := range patterns[i] {
			codes[i][cbp] = uint8(code)
		}
	}
	return codes
}()

func (w *sliceWriter) qpDelta(delta int) {
	d, e := w.d, &w.bins
	if !d.h.pps.cabac {
		w.bits.SE(delta)
	} else {
		n := 2 * max(delta, -delta)
		if delta > 0 {
			n--
		}
		ctx := 60 + oneIf(d.lastDQ)
		for i := range n {
			e.Decision(ctx, 1)
			ctx = 62 + min(i, 1)
		}
		e.Decision(ctx, 0)
	}
	d.lastDQ = delta != 0
}
