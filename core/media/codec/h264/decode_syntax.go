package h264

// The syntax elements of macroblocks, each read with the entropy coder that the picture uses
// (7.3.5, 9.1, 9.3.2, 9.3.3.1).

// condition computes ctxIdxInc as a sum over the macroblocks to the left and above.
func (d *sliceDecoder) condition(holds func(m *mbInfo) bool) (inc int) {
	if i := d.n.left[0]; i >= 0 && holds(&d.mbs[i]) {
		inc = 1
	}
	if i := d.n.top; i >= 0 && holds(&d.mbs[i]) {
		inc++
	}
	return inc
}

// mbSkipFlag reads mb_skip_flag (CABAC only).
func (d *sliceDecoder) mbSkipFlag() bool {
	base := 11
	if d.h.kind == sliceB {
		base = 24
	}
	return d.cabac.Decision(base+d.condition(func(m *mbInfo) bool { return !m.skip })) != 0
}

// mbFieldFlag reads mb_field_decoding_flag of the pair in pair row y.
func (d *sliceDecoder) mbFieldFlag(x, y int) bool {
	if !d.h.pps.cabac {
		return d.r.Flag()
	}
	inc := 0
	if i := d.available(x-1, y); i >= 0 && d.mbs[i].field {
		inc++
	}
	if i := d.available(x, y-2); i >= 0 && d.mbs[i].field {
		inc++
	}
	return d.cabac.Decision(70+inc) != 0
}

// mbType reads mb_type. In P and B slices intra reports a type of table 7-11.
func (d *sliceDecoder) mbType() (t int, intra bool) {
	switch {
	case !d.h.pps.cabac:
		return d.mbTypeUE()
	case d.h.kind == sliceP:
		if d.cabac.Decision(14) != 0 {
			return d.mbTypeIntra(17, false), true
		}
		if d.cabac.Decision(15) == 0 {
			return 3 * d.cabac.Decision(16), false
		}
		return 2 - d.cabac.Decision(17), false
	case d.h.kind == sliceB:
		return d.mbTypeB()
	}
	return d.mbTypeIntra(3, true), true
}

func (d *sliceDecoder) mbTypeUE() (t int, intra bool) {
	t = int(min(d.r.UE(), 100))
	inter := 0
	switch d.h.kind {
	case sliceP:
		inter = 5
	case sliceB:
		inter = 23
	}
	if t < inter {
		return t, false
	}
	return t - inter, true
}

func (d *sliceDecoder) mbTypeIntra(ctx int, slice bool) int {
	c := &d.cabac
	if slice {
		inc := d.condition(func(m *mbInfo) bool { return m.kind != kindIntra })
		if c.Decision(ctx+inc) == 0 {
			return 0
		}
		ctx += 2
	} else if c.Decision(ctx) == 0 {
		return 0
	}
	if c.Terminate() {
		return 25
	}
	more := 0 // intra types in P and B slices have fewer contexts
	if slice {
		more = 1
	}
	t := 1 + 12*c.Decision(ctx+1)
	if c.Decision(ctx+2) != 0 {
		t += 4 + 4*c.Decision(ctx+2+more)
	}
	t += 2 * c.Decision(ctx+3+more)
	return t + c.Decision(ctx+3+2*more)
}

func (d *sliceDecoder) mbTypeB() (t int, intra bool) {
	c := &d.cabac
	inc := d.condition(func(m *mbInfo) bool { return !m.direct16 })
	if c.Decision(27+inc) == 0 {
		return 0, false
	}
	if c.Decision(30) == 0 {
		return 1 + c.Decision(32), false
	}
	t = c.Decision(31) << 3
	t |= c.Decision(32) << 2
	t |= c.Decision(32) << 1
	t |= c.Decision(32)
	switch {
	case t < 8:
		return t + 3, false
	case t == 13:
		return d.mbTypeIntra(32, false), true
	case t == 14:
		return 11, false
	case t == 15:
		return 22, false
	}
	return t<<1 + c.Decision(32) - 4, false
}

// subMbType reads sub_mb_type; 99 means an invalid code.
func (d *sliceDecoder) subMbType() int {
	c := &d.cabac
	switch {
	case !d.h.pps.cabac:
		return int(min(d.r.UE(), 99))
	case d.h.kind == sliceP:
		if c.Decision(21) != 0 {
			return 0
		}
		if c.Decision(22) == 0 {
			return 1
		}
		return 3 - c.Decision(23)
	case c.Decision(36) == 0:
		return 0
	case c.Decision(37) == 0:
		return 1 + c.Decision(39)
	}
	t := 3
	if c.Decision(38) != 0 {
		if c.Decision(39) != 0 {
			return 11 + c.Decision(39)
		}
		t += 4
	}
	t += 2 * c.Decision(39)
	return t + c.Decision(39)
}

// refIdx reads ref_idx of the partition at cache index at; most is the largest valid value.
func (d *sliceDecoder) refIdx(list, at, most int) int {
	if !d.h.pps.cabac {
		if most == 1 {
			return 1 - int(d.r.U(1))
		}
		return int(min(d.r.UE(), 99))
	}
	ctx := 0
	if d.refCtx[list][at-1] > 0 {
		ctx = 1
	}
	if d.refCtx[list][at-cacheStep] > 0 {
		ctx += 2
	}
	ref := 0
	for d.cabac.Decision(54+ctx) != 0 {
		ctx = ctx>>2 + 4
		if ref++; ref > 32 {
			return 99
		}
	}
	return ref
}

// mvdComponent reads one component of a motion vector difference; sum is the sum of the
// neighbours' absolute values.
func (d *sliceDecoder) mvdComponent(ctx, sum int) int {
	if !d.h.pps.cabac {
		return int(d.r.SE())
	}
	c := &d.cabac
	inc := 0
	if sum > 32 {
		inc = 2
	} else if sum > 2 {
		inc = 1
	}
	if c.Decision(ctx+inc) == 0 {
		return 0
	}
	v := 1
	for inc = 3; v < 9 && c.Decision(ctx+inc) != 0; v++ {
		inc = min(inc+1, 6)
	}
	if v == 9 {
		v += int(c.ExpGolomb(3))
	}
	if c.Bypass() != 0 {
		return -v
	}
	return v
}

// intraMode reads the prediction mode of a 4x4 or 8x8 block, given the predicted mode (8.3.1.1).
func (d *sliceDecoder) intraMode(predicted int8) int8 {
	var mode int8
	if d.h.pps.cabac {
		c := &d.cabac
		if c.Decision(68) != 0 {
			return predicted
		}
		mode = int8(c.Decision(69) | c.Decision(69)<<1 | c.Decision(69)<<2)
	} else {
		if d.r.Flag() {
			return predicted
		}
		mode = int8(d.r.U(3))
	}
	if mode >= predicted {
		mode++
	}
	return mode
}

func (d *sliceDecoder) intraChromaMode() int {
	if !d.h.pps.cabac {
		return int(min(d.r.UE(), 99))
	}
	c := &d.cabac
	inc := d.condition(func(m *mbInfo) bool { return m.chromaMode != 0 })
	if c.Decision(64+inc) == 0 {
		return 0
	}
	if c.Decision(67) == 0 {
		return 1
	}
	return 2 + c.Decision(67)
}

// transform8Flag reads transform_size_8x8_flag.
func (d *sliceDecoder) transform8Flag() bool {
	if !d.h.pps.cabac {
		return d.r.Flag()
	}
	return d.cabac.Decision(399+d.condition(func(m *mbInfo) bool { return m.transform8 })) != 0
}

// codedBlockPattern reads coded_block_pattern: CodedBlockPatternLuma in the
// low four bits, CodedBlockPatternChroma above.
func (d *sliceDecoder) codedBlockPattern() (int, error) {
	if !d.h.pps.cabac {
		code := d.r.UE()
		if code > 47 {
			return 0, damaged("coded_block_pattern is out of range")
		}
		return int(d.patternTable()[code]), nil
	}
	c := &d.cabac
	luma := 0
	for b8 := range 4 {
		inc := 0
		if !d.codedLeft(b8, luma) {
			inc = 1
		}
		if !d.codedAbove(b8, luma) {
			inc += 2
		}
		luma |= c.Decision(73+inc) << b8
	}
	if d.h.sps.chroma.Planes() == 1 {
		return luma, nil
	}
	if c.Decision(77+d.chromaCondition(1)) == 0 {
		return luma, nil
	}
	return luma | 16<<c.Decision(81+d.chromaCondition(2)), nil
}

// chromaCondition returns ctxIdxInc of the first bin (least 1) or the second bin (least 2) of
// CodedBlockPatternChroma.
func (d *sliceDecoder) chromaCondition(least uint8) (inc int) {
	if i := d.n.left[0]; i >= 0 && d.mbs[i].cbp>>4 >= least {
		inc = 1
	}
	if i := d.n.top; i >= 0 && d.mbs[i].cbp>>4 >= least {
		inc += 2
	}
	return inc
}

// codedLeft reports whether the 8x8 block to the left of b8 is coded or not available.
func (d *sliceDecoder) codedLeft(b8, luma int) bool {
	if b8&1 == 1 {
		return luma>>(b8-1)&1 != 0
	}
	i := d.n.left[b8] // rows 0 and 2 of 4x4 blocks
	return i < 0 || d.mbs[i].cbp>>(d.n.leftRow[b8]&2+1)&1 != 0
}

// codedAbove reports whether the 8x8 block above b8 is coded or not available.
func (d *sliceDecoder) codedAbove(b8, luma int) bool {
	if b8 >= 2 {
		return luma>>(b8-2)&1 != 0
	}
	return d.n.top < 0 || d.mbs[d.n.top].cbp>>(2+b8)&1 != 0
}

// patternTable returns the column of table 9-4 that applies.
func (d *sliceDecoder) patternTable() *[48]uint8 {
	switch gray, intra := d.h.sps.chroma.Planes() == 1, d.mb.intra(); {
	case gray && intra:
		return &patternsGray[0]
	case gray:
		return &patternsGray[1]
	case intra:
		return &patterns[0]
	}
	return &patterns[1]
}

// patterns is table 9-4 for 4:2:0 and 4:2:2, intra and inter.
var patterns = [2][48]uint8{
	{47, 31, 15, 0, 23, 27, 29, 30, 7, 11, 13, 14, 39, 43, 45, 46, 16, 3, 5, 10, 12, 19, 21, 26,
		28, 35, 37, 42, 44, 1, 2, 4, 8, 17, 18, 20, 24, 6, 9, 22, 25, 32, 33, 34, 36, 40, 38, 41},
	{0, 16, 1, 2, 4, 8, 32, 3, 5, 10, 12, 15, 47, 7, 11, 13, 14, 6, 9, 31, 35, 37, 42, 44,
		33, 34, 36, 40, 39, 43, 45, 46, 17, 18, 20, 24, 19, 21, 26, 28, 23, 27, 29, 30, 22, 25, 38, 41}}

// patternsGray is table 9-4 for 4:0:0.
var patternsGray = [2][48]uint8{
	{15, 0, 7, 11, 13, 14, 3, 5, 10, 12, 1, 2, 4, 8, 6, 9},
	{0, 1, 2, 4, 8, 3, 5, 10, 12, 15, 7, 11, 13, 14, 6, 9}}

// qpDelta reads mb_qp_delta.
func (d *sliceDecoder) qpDelta() (int, error) {
	delta := 0
	if d.h.pps.cabac {
		ctx := 60
		if d.lastDQ {
			ctx++
		}
		n := 0
		for d.cabac.Decision(ctx) != 0 {
			if n == 0 {
				ctx = 62
			} else {
				ctx = 63
			}
			if n++; n > 200 {
				return 0, damaged("mb_qp_delta is out of range")
			}
		}
		delta = (n + 1) >> 1
		if n&1 == 0 {
			delta = -delta
		}
	} else {
		delta = int(d.r.SE())
	}
	most := 26 + 3*(d.h.sps.depth-8)
	if delta < -most || delta >= most {
		return 0, damaged("mb_qp_delta is out of range")
	}
	d.lastDQ = delta != 0
	return delta, nil
}
