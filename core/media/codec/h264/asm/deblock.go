package main

import (
	"fmt"
	"strings"

	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"vividstrain/core/media/codec/avoblock"
)

// An edge is filtered by way of edgeFilter, whose alpha, beta, tc0, shift and most are
// at these bytes; that of Cr is after that of Cb.
const (
	alphaAt  = 0
	betaAt   = 4
	tc0At    = 8
	shiftAt  = 16
	mostAt   = 24
	filterOf = 32
)

const edgeSignature = "func(pix *byte, stride int, f *byte, bs uint32)"

// lumaEdges writes the filters of 16 lines of luma.
func lumaEdges(fours Mem) {
	for _, e := range []struct {
		name, doc string
		strong    bool
		wide      bool
	}{
		{"lumaRow", "the horizontal edge above 16 samples at pix", false, false},
		{"lumaRowStrong", "the horizontal edge above 16 samples at pix with bS 4", true, false},
		{"lumaRowWide", "the horizontal edge above 16 samples of two bytes", false, true},
		{"lumaRowStrongWide", "the horizontal edge above 16 samples of two bytes with bS 4", true, true},
		{"lumaColumn", "the vertical edge to the left of 16 lines from pix on", false, false},
		{"lumaColumnStrong", "the vertical edge to the left of 16 lines from pix on with bS 4", true, false},
		{"lumaColumnWide", "the vertical edge to the left of 16 lines of samples of two bytes", false, true},
		{"lumaColumnStrongWide", "the vertical edge to the left of 16 lines of samples of two bytes with bS 4", true, true},
	} {
		name := e.name + "Fast"
		columns := strings.Contains(name, "Column")
		attributes := attr.Attribute(attr.NOSPLIT)
		if columns {
			attributes = 0
		}
		TEXT(name, attributes, edgeSignature)
		Pragma("noescape")
		Doc(name+" filters "+e.doc+";", "bs holds the strength of each four.")
		pix, stride := Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
		if e.wide {
			SHLQ(Imm(1), stride)
		}
		q0, step := pix, stride
		var rows Register
		bytes := 1
		if e.wide {
			bytes = 2
		}
		if columns {
			rows = GP64()
			LEAQ(AllocLocal(128*bytes), rows)
			if e.wide {
				turn(rows, pix, stride, true)
			} else {
				columnsToRows(rows, pix, stride)
			}
			q0, step = GP64(), GP64()
			LEAQ(Mem{Base: rows, Disp: 64 * bytes}, q0)
			MOVQ(U32(16*bytes), step)
		}
		if e.strong {
			strong(q0, step, e.wide)
		} else {
			normal(q0, step, e.wide, Load(Param("bs"), GP32()), allOnes(), fours)
		}
		if columns {
			pix := Load(Param("pix"), GP64())
			if e.wide {
				turn(rows, pix, stride, false)
			} else {
				rowsToColumns(pix, stride, rows)
			}
		}
		VZEROUPPER()
		RET()
	}
}

// lumaInner writes the filters of the three edges within a macroblock, with bS under 4. For vertical ones the
// macroblock is turned once.
func lumaInner(fours Mem) {
	for _, e := range []struct {
		name    string
		columns bool
	}{{"lumaInnerRowsFast", false}, {"lumaInnerColumnsFast", true}} {
		TEXT(e.name, 0, "func(pix *byte, stride int, f *byte, bs *uint32)")
		Pragma("noescape")
		Doc(e.name+" filters the edges within a macroblock whose first sample is pix;", "bs holds the strengths of the edges.")
		pix, stride := Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
		first, step := pix, stride
		if e.columns {
			first, step = GP64(), GP64()
			LEAQ(AllocLocal(256), first)
			turn16(pix, stride, first, nil)
			MOVQ(U32(16), step)
		}
		ones, four := allOnes(), GP64()
		MOVQ(step, four)
		SHLQ(Imm(2), four)
		q0 := GP64()
		MOVQ(first, q0)
		for k := 1; k < 4; k++ {
			done := fmt.Sprintf("done%d", k)
			ADDQ(four, q0)
			bs := GP32()
			MOVL(Mem{Base: Load(Param("bs"), GP64()), Disp: 4 * k}, bs)
			TESTL(bs, bs)
			JZ(LabelRef(done))
			normal(q0, step, false, bs, ones, fours)
			Label(done)
		}
		if e.columns {
			turn16(first, nil, Load(Param("pix"), GP64()), stride)
		}
		VZEROUPPER()
		RET()
	}
}

// turn16 turns 16x16 bytes from rows to columns. Rows are a stride apart, or 16 bytes without one.
func turn16(src, stride, dst, step Register) {
	low, high := GP64(), GP64() // of the first and of the ninth row
	MOVQ(src, low)
	if stride == nil {
		LEAQ(Mem{Base: src, Disp: 8 * 16}, high)
	} else {
		LEAQ(Mem{Base: src, Index: stride, Scale: 8}, high)
	}
	rows := make([]VecVirtual, 8)
	for i := range rows {
		rows[i] = YMM()
		disp := 0
		if stride == nil {
			disp = 16 * i
		}
		VBROADCASTI128(Mem{Base: low, Disp: disp}, rows[i])
		VINSERTI128(Imm(1), Mem{Base: high, Disp: disp}, rows[i], rows[i])
		if stride != nil && i < 7 {
			ADDQ(stride, low)
			ADDQ(stride, high)
		}
	}
	for i, x := range avoblock.Transposed(rows, avoblock.ByteElements) { // two columns of rows 0 to 7, then of rows 8 to 15
		VPERMQ(Imm(0xD8), x, x)
		if step == nil {
			VMOVDQU(x, Mem{Base: dst, Disp: 32 * i})
			continue
		}
		VMOVDQU(x.AsX(), Mem{Base: dst})
		VEXTRACTI128(Imm(1), x, Mem{Base: dst, Index: step, Scale: 1})
		LEAQ(Mem{Base: dst, Index: step, Scale: 2}, dst)
	}
}

// limit is alpha or beta of the luma filter.
func limit(at int) VecVirtual {
	y := YMM()
	VPBROADCASTW(Mem{Base: Load(Param("f"), GP64()), Disp: at}, y)
	return y
}

// strengths returns tC0 of the four strengths bs, as words.
func strengths(f Register, disp int, bs Register) VecVirtual {
	x, row := XMM(), XMM()
	VMOVD(bs, x)
	VMOVQ(Mem{Base: f, Disp: disp + tc0At}, row)
	VPSHUFB(x, row, row)
	VPMOVSXBW(row, row)
	return row
}

// normal writes the filter of edges with bS under 4 for 16 lines of luma: on
// words, so that nothing overflows.
func normal(pix, stride Register, wide bool, bs Register, ones VecVirtual, fours Mem) {
	edgeRow, packed := edgeRows(wide)
	f := Load(Param("f"), GP64())
	each, tc0 := strengths(f, 0, bs), YMM()
	if wide {
		shift := XMM()
		VMOVQ(Mem{Base: f, Disp: shiftAt}, shift)
		VPSLLW(shift, each, each)
	}
	VPBROADCASTQ(each, tc0)
	VPSHUFB(fours, tc0, tc0)
	alpha, beta := limit(alphaAt), limit(betaAt)
	p := GP64()
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, p)
	NEGQ(p)
	ADDQ(pix, p) // p2
	p2, p1, p0 := edgeRow(Mem{Base: p}), edgeRow(Mem{Base: p, Index: stride, Scale: 1}), edgeRow(Mem{Base: p, Index: stride, Scale: 2})
	q0, q1, q2 := edgeRow(Mem{Base: pix}), edgeRow(Mem{Base: pix, Index: stride, Scale: 1}), edgeRow(Mem{Base: pix, Index: stride, Scale: 2})
	mask := closer(p0, q0, alpha)
	VPAND(closer(p1, p0, beta), mask, mask)
	VPAND(closer(q1, q0, beta), mask, mask)
	t := YMM()
	VPCMPGTW(ones, tc0, t) // tc0 > -1
	VPAND(t, mask, mask)
	VPAND(mask, tc0, tc0)
	near2p, near2q := closer(p2, p0, beta), closer(q2, q0, beta)
	VPAND(mask, near2p, near2p)
	VPAND(mask, near2q, near2q)
	// (p0 + q0 + 1) >> 1
	mean := YMM()
	VPAVGW(q0, p0, mean)
	negative := YMM()
	VPXOR(negative, negative, negative)
	VPSUBW(tc0, negative, negative)
	// inner is the new p1 or q1.
	inner := func(x2, x1, near VecVirtual) VecVirtual {
		d := YMM()
		VPADDW(mean, x2, d)
		VPSUBW(x1, d, d)
		VPSUBW(x1, d, d)
		VPSRAW(Imm(1), d, d)
		VPMINSW(tc0, d, d)
		VPMAXSW(negative, d, d)
		VPAND(near, d, d)
		VPADDW(x1, d, d)
		return d
	}
	newP1, newQ1 := inner(p2, p1, near2p), inner(q2, q1, near2q)
	// tC = tC0 + both conditions
	tc := tc0
	VPSUBW(near2p, tc, tc)
	VPSUBW(near2q, tc, tc)
	closeUp(p1, p0, q0, q1, tc, mask)
	packed(newP1, Mem{Base: p, Index: stride, Scale: 1})
	packed(p0, Mem{Base: p, Index: stride, Scale: 2})
	packed(q0, Mem{Base: pix})
	packed(newQ1, Mem{Base: pix, Index: stride, Scale: 1})
}

// allOnes is a vector whose bits are all 1.
func allOnes() VecVirtual {
	ones := YMM()
	VPCMPEQW(ones, ones, ones)
	return ones
}

// closeUp moves p0 and q0 towards each other by at most tc, where mask says so.
func closeUp(p1, p0, q0, q1, tc, mask VecVirtual) {
	delta, four, negative := YMM(), spread(avoblock.WordConstant(4)), YMM()
	VPSUBW(p0, q0, delta)
	VPSLLW(Imm(2), delta, delta)
	VPADDW(p1, delta, delta)
	VPSUBW(q1, delta, delta)
	VPADDW(four, delta, delta)
	VPSRAW(Imm(3), delta, delta)
	VPMINSW(tc, delta, delta)
	VPXOR(negative, negative, negative)
	VPSUBW(tc, negative, negative)
	VPMAXSW(negative, delta, delta)
	VPAND(mask, delta, delta)
	VPADDW(delta, p0, p0)
	VPSUBW(delta, q0, q0)
}

// edgeRows are how 16 samples are loaded as words and stored, clipped.
func edgeRows(wide bool) (load func(Mem) VecVirtual, store func(VecVirtual, Mem)) {
	if !wide {
		load = func(m Mem) VecVirtual {
			y := YMM()
			VPMOVZXBW(m, y)
			return y
		}
		return load, packed
	}
	load = func(m Mem) VecVirtual {
		y := YMM()
		VMOVDQU(m, y)
		return y
	}
	return load, func(y VecVirtual, m Mem) {
		most := YMM()
		VPBROADCASTW(Mem{Base: Load(Param("f"), GP64()), Disp: mostAt}, most)
		VMOVDQU(clipped(y, most), m)
	}
}

// clipped limits words to 0 and most.
func clipped(v, most VecVirtual) VecVirtual {
	x := avoblock.Alike(v)
	VPXOR(x, x, x)
	VPMAXSW(x, v, x)
	VPMINSW(most, x, x)
	return x
}

// closer is all ones where |a - b| < limit.
func closer(a, b, limit VecVirtual) VecVirtual {
	t := YMM()
	VPSUBW(b, a, t)
	VPABSW(t, t)
	VPCMPGTW(t, limit, t)
	return t
}

// packed writes 16 words as bytes.
func packed(y VecVirtual, m Mem) {
	high := XMM()
	VEXTRACTI128(Imm(1), y, high)
	VPACKUSWB(high, y.AsX(), high)
	VMOVDQU(high, m)
}

// sumOf adds vectors.
func sumOf(first VecVirtual, rest ...VecVirtual) VecVirtual {
	t := YMM()
	VPADDW(rest[0], first, t)
	for _, v := range rest[1:] {
		VPADDW(v, t, t)
	}
	return t
}

// strong writes the filter of edges with bS 4 for 16 lines of luma.
func strong(pix, stride Register, wide bool) {
	edgeRow, packed := edgeRows(wide)
	alpha, quarter, beta := limit(alphaAt), YMM(), limit(betaAt)
	VPSRLW(Imm(2), alpha, quarter)
	VPADDW(spread(avoblock.WordConstant(2)), quarter, quarter)
	p := GP64()
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, p)
	NEGQ(p)
	ADDQ(pix, p) // p2
	at := map[string]Mem{"p2": {Base: p}, "p1": {Base: p, Index: stride, Scale: 1}, "p0": {Base: p, Index: stride, Scale: 2},
		"q0": {Base: pix}, "q1": {Base: pix, Index: stride, Scale: 1}, "q2": {Base: pix, Index: stride, Scale: 2}}
	p1, p0, q0, q1 := edgeRow(at["p1"]), edgeRow(at["p0"]), edgeRow(at["q0"]), edgeRow(at["q1"])
	mask := closer(p0, q0, alpha)
	VPAND(closer(p1, p0, beta), mask, mask)
	VPAND(closer(q1, q0, beta), mask, mask)
	small := closer(p0, q0, quarter)
	VPAND(mask, small, small)
	p3, q3 := GP64(), GP64()
	MOVQ(p, p3)
	SUBQ(stride, p3)
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, q3)
	ADDQ(pix, q3)
	side := func(x3 Mem, x2at, x1at, x0at Mem, x1, x0, y0, y1 VecVirtual) {
		x2 := edgeRow(x2at)
		near := closer(x2, x0, beta)
		VPAND(small, near, near)
		two := spread(avoblock.WordConstant(2))
		middle := sumOf(x1, x0, y0)         // x1 + x0 + y0
		plain := sumOf(x1, x1, x0, y1, two) // for others
		VPSRLW(Imm(2), plain, plain)
		inner := sumOf(middle, x2, two)
		full := sumOf(inner, middle, y1, two) // x2 + 2(x1+x0+y0) + y1 + 4
		VPSRLW(Imm(3), full, full)
		VPBLENDVB(near, full, plain, plain)
		VPBLENDVB(mask, plain, x0, plain)
		packed(plain, x0at)
		far := edgeRow(x3)
		VPADDW(x2, far, far)
		VPADDW(far, far, far)   // 2 x3 + 2 x2
		VPADDW(inner, far, far) // + x2 + middle + 2
		VPADDW(two, far, far)
		VPSRLW(Imm(3), far, far)
		VPSRLW(Imm(2), inner, inner)
		VPBLENDVB(near, inner, x1, inner)
		packed(inner, x1at)
		VPBLENDVB(near, far, x2, far)
		packed(far, x2at)
	}
	side(Mem{Base: p3}, at["p2"], at["p1"], at["p0"], p1, p0, q0, q1)
	side(Mem{Base: q3}, at["q2"], at["q1"], at["q0"], q1, q0, p0, p1)
}

// chromaEdges writes the filters of 8 lines of both planes of chroma, which fill a
// vector of words together.
func chromaEdges() {
	byLine := GLOBL("byLine", attr.RODATA|attr.NOPTR)
	for i := range 16 {
		DATA(i, U8(i%4*4+i/4))
	}
	for _, e := range []struct {
		name, doc             string
		columns, strong, wide bool
	}{
		{"chromaRow", "the horizontal edges above 8 samples at u and v", false, false, false},
		{"chromaRowStrong", "the horizontal edges above 8 samples at u and v with bS 4", false, true, false},
		{"chromaColumn", "the vertical edges to the left of 8 lines from u and v on", true, false, false},
		{"chromaColumnStrong", "the vertical edges to the left of 8 lines from u and v on with bS 4", true, true, false},
		{"chromaRowWide", "the horizontal edges above 8 samples of two bytes", false, false, true},
		{"chromaRowStrongWide", "the horizontal edges above 8 samples of two bytes with bS 4", false, true, true},
		{"chromaColumnWide", "the vertical edges to the left of 8 lines of samples of two bytes", true, false, true},
		{"chromaColumnStrongWide", "the vertical edges to the left of 8 lines of samples of two bytes with bS 4", true, true, true},
	} {
		TEXT(e.name+"Fast", attr.NOSPLIT, "func(u, v *byte, stride int, f *byte, bs uint32)")
		Pragma("noescape")
		Doc(e.name+"Fast filters "+e.doc+";", "bs holds the strength of each two, f the filters of both.")
		u, v, stride := Load(Param("u"), GP64()), Load(Param("v"), GP64()), Load(Param("stride"), GP64())
		if e.wide {
			SHLQ(Imm(1), stride)
		}
		var lines [4]VecVirtual // p1, p0, q0, q1
		switch {
		case e.columns && e.wide:
			lines = chromaColumnsWide(u, v, stride)
		case e.columns:
			lines = chromaColumns(u, v, stride, byLine)
		default:
			up, vp := GP64(), GP64()
			LEAQ(Mem{Base: stride, Index: stride, Scale: 1}, up)
			MOVQ(v, vp)
			SUBQ(up, vp)
			NEGQ(up)
			ADDQ(u, up)
			for i, at := range [4][2]Mem{{{Base: up}, {Base: vp}}, {{Base: up, Index: stride, Scale: 1}, {Base: vp, Index: stride, Scale: 1}},
				{{Base: u}, {Base: v}}, {{Base: u, Index: stride, Scale: 1}, {Base: v, Index: stride, Scale: 1}}} {
				lines[i] = YMM()
				if e.wide {
					VMOVDQU(at[0], lines[i].AsX())
					VINSERTI128(Imm(1), at[1], lines[i], lines[i])
				} else {
					VMOVQ(at[0], lines[i].AsX())
					VPINSRQ(Imm(1), at[1], lines[i].AsX(), lines[i].AsX())
				}
			}
		}
		if !e.wide {
			for i, x := range lines {
				lines[i] = YMM()
				VPMOVZXBW(x.AsX(), lines[i])
			}
		}
		p0, q0 := chroma(lines, e.strong, e.wide)
		if e.wide {
			storeChromaWide(u, v, stride, p0, q0, e.columns)
		} else {
			storeChroma(u, v, stride, p0, q0, e.columns)
		}
		VZEROUPPER()
		RET()
	}
}

// storeChroma writes p0 and q0 as bytes.
func storeChroma(u, v, stride Register, p0, q0 VecVirtual, columns bool) {
	for _, y := range []VecVirtual{p0, q0} {
		high := XMM()
		VEXTRACTI128(Imm(1), y, high)
		VPACKUSWB(high, y.AsX(), y.AsX())
	}
	if columns {
		storePairs(u, v, stride, p0.AsX().(VecVirtual), q0.AsX().(VecVirtual))
		return
	}
	VMOVQ(q0.AsX(), Mem{Base: u})
	VPEXTRQ(Imm(1), q0.AsX(), Mem{Base: v})
	SUBQ(stride, u)
	SUBQ(stride, v)
	VMOVQ(p0.AsX(), Mem{Base: u})
	VPEXTRQ(Imm(1), p0.AsX(), Mem{Base: v})
}

// storeChromaWide writes p0 and q0 as words.
func storeChromaWide(u, v, stride Register, p0, q0 VecVirtual, columns bool) {
	most := ofBoth(mostAt)
	p0, q0 = clipped(p0, most), clipped(q0, most)
	if !columns {
		VMOVDQU(q0.AsX(), Mem{Base: u})
		VEXTRACTI128(Imm(1), q0, Mem{Base: v})
		SUBQ(stride, u)
		SUBQ(stride, v)
		VMOVDQU(p0.AsX(), Mem{Base: u})
		VEXTRACTI128(Imm(1), p0, Mem{Base: v})
		return
	}
	low, high, x := YMM(), YMM(), XMM()
	VPUNPCKLWD(q0, p0, low)  // lines 0 to 3 of both planes
	VPUNPCKHWD(q0, p0, high) // lines 4 to 7
	for _, lines := range []VecVirtual{low, high} {
		VEXTRACTI128(Imm(1), lines, x)
		for i := range 4 {
			VPEXTRD(Imm(uint64(i)), lines.AsX(), Mem{Base: u, Disp: -2})
			VPEXTRD(Imm(uint64(i)), x, Mem{Base: v, Disp: -2})
			ADDQ(stride, u)
			ADDQ(stride, v)
		}
	}
}

// ofBoth is a word of the filters of Cb and of Cr.
func ofBoth(at int) VecVirtual {
	f, y, x := Load(Param("f"), GP64()), YMM(), XMM()
	VPBROADCASTW(Mem{Base: f, Disp: at}, y.AsX())
	VPBROADCASTW(Mem{Base: f, Disp: at + filterOf}, x)
	VINSERTI128(Imm(1), x, y, y)
	return y
}

// chroma returns the new p0 and q0.
func chroma(lines [4]VecVirtual, isStrong, wide bool) (newP, newQ VecVirtual) {
	f := Load(Param("f"), GP64())
	p1, p0, q0, q1 := lines[0], lines[1], lines[2], lines[3]
	mask, beta := closer(p0, q0, ofBoth(alphaAt)), ofBoth(betaAt)
	VPAND(closer(p1, p0, beta), mask, mask)
	VPAND(closer(q1, q0, beta), mask, mask)
	if isStrong {
		two := spread(avoblock.WordConstant(2))
		mix := func(a, b, c VecVirtual) VecVirtual { // (2a + b + c + 2) >> 2
			t := sumOf(a, a, b, c, two)
			VPSRLW(Imm(2), t, t)
			return t
		}
		newP, newQ := mix(p1, p0, q1), mix(q1, q0, p1)
		VPBLENDVB(mask, newP, p0, p0)
		VPBLENDVB(mask, newQ, q0, q0)
		return p0, q0
	}
	tc, other := YMM(), strengths(f, filterOf, Load(Param("bs"), GP32()))
	own := strengths(f, 0, Load(Param("bs"), GP32()))
	if wide {
		shift := XMM()
		VMOVQ(Mem{Base: f, Disp: shiftAt}, shift)
		VPSLLW(shift, own, own)
		VPSLLW(shift, other, other)
	}
	VPUNPCKLWD(own, own, tc.AsX())
	VPUNPCKLWD(other, other, other)
	VINSERTI128(Imm(1), other, tc, tc)
	ones, t := allOnes(), YMM()
	VPCMPGTW(ones, tc, t)
	VPAND(t, mask, mask)
	VPSUBW(ones, tc, tc) // tC = tC0 + 1
	closeUp(p1, p0, q0, q1, tc, mask)
	return p0, q0
}

// chromaColumns loads the samples beside vertical edges, as rows of bytes: two
// samples to the left and two to the right.
func chromaColumns(u, v, stride Register, byLine Mem) (rows [4]VecVirtual) {
	order, stride3 := XMM(), GP64()
	VMOVDQU(byLine, order)
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, stride3)
	var halves [2][2]VecVirtual // p1 and p0, q0 and q1 of a plane
	for i, plane := range []Register{u, v} {
		var x [2]VecVirtual
		p := GP64()
		LEAQ(Mem{Base: plane, Disp: -2}, p)
		for k := range x {
			x[k] = XMM()
			VMOVD(Mem{Base: p}, x[k])
			VPINSRD(Imm(1), Mem{Base: p, Index: stride, Scale: 1}, x[k], x[k])
			VPINSRD(Imm(2), Mem{Base: p, Index: stride, Scale: 2}, x[k], x[k])
			VPINSRD(Imm(3), Mem{Base: p, Index: stride3, Scale: 1}, x[k], x[k])
			VPSHUFB(order, x[k], x[k])
			LEAQ(Mem{Base: p, Index: stride, Scale: 4}, p)
		}
		low, high := XMM(), XMM()
		VPUNPCKLDQ(x[1], x[0], low)
		VPUNPCKHDQ(x[1], x[0], high)
		halves[i] = [2]VecVirtual{low, high}
	}
	for k := range 2 {
		rows[2*k], rows[2*k+1] = XMM(), XMM()
		VPUNPCKLQDQ(halves[1][k], halves[0][k], rows[2*k])
		VPUNPCKHQDQ(halves[1][k], halves[0][k], rows[2*k+1])
	}
	return rows
}

// chromaColumnsWide does the same with words.
func chromaColumnsWide(u, v, stride Register) (rows [4]VecVirtual) {
	for i, plane := range []Register{u, v} {
		p := GP64()
		LEAQ(Mem{Base: plane, Disp: -4}, p)
		lines := make([]VecVirtual, 8)
		for k := range lines {
			lines[k] = XMM()
			VMOVQ(Mem{Base: p}, lines[k])
			ADDQ(stride, p)
		}
		for k := range 4 {
			VPUNPCKLWD(lines[k+4], lines[k], lines[k])
		}
		for k, x := range avoblock.Transposed(lines[:4], avoblock.WordElements) {
			if i == 0 {
				rows[k] = YMM()
				VMOVDQA(x, rows[k].AsX())
			} else {
				VINSERTI128(Imm(1), x, rows[k], rows[k])
			}
		}
	}
	return rows
}

// storePairs writes p0 and q0 back into 8 lines of each plane.
func storePairs(u, v, stride Register, p0, q0 VecVirtual) {
	cb, cr := XMM(), XMM()
	VPUNPCKLBW(q0, p0, cb)
	VPUNPCKHBW(q0, p0, cr)
	for i := range 8 {
		VPEXTRW(Imm(uint64(i)), cb, Mem{Base: u, Disp: -1})
		VPEXTRW(Imm(uint64(i)), cr, Mem{Base: v, Disp: -1})
		if i < 7 {
			ADDQ(stride, u)
			ADDQ(stride, v)
		}
	}
}

// columnsToRows turns the samples beside a vertical edge, four samples to the left and
// four to the right in 16 lines, into rows, 16 bytes apart.
func columnsToRows(rows, pix, stride Register) {
	at := GP64()
	LEAQ(Mem{Base: pix, Disp: -4}, at)
	v := make([]VecVirtual, 16)
	for i := range v {
		v[i] = XMM()
		VMOVQ(Mem{Base: at}, v[i])
		if i < 15 {
			ADDQ(stride, at)
		}
	}
	a := v[:8]
	for k := range a {
		VPUNPCKLBW(v[k+8], v[k], a[k])
	}
	a = avoblock.Transposed(a, avoblock.ByteElements)
	for i, x := range a {
		VMOVDQU(x, Mem{Base: rows, Disp: 16 * i})
	}
}

// turn turns words beside a vertical edge, four to the left and four to the right in 16 lines,
// into rows, 32 bytes apart, or back.
func turn(rows, pix, stride Register, columns bool) {
	at := GP64()
	LEAQ(Mem{Base: pix, Disp: -8}, at)
	for half := range 2 {
		list := make([]VecVirtual, 8)
		for i := range list {
			list[i] = XMM()
			if columns {
				VMOVDQU(Mem{Base: at}, list[i])
				ADDQ(stride, at)
			} else {
				VMOVDQU(Mem{Base: rows, Disp: 32*i + 16*half}, list[i])
			}
		}
		for i, x := range avoblock.Transposed(list, avoblock.WordElements) {
			if columns {
				VMOVDQU(x, Mem{Base: rows, Disp: 32*i + 16*half})
			} else {
				VMOVDQU(x, Mem{Base: at})
				ADDQ(stride, at)
			}
		}
	}
}

// rowsToColumns is the inverse of columnsToRows.
func rowsToColumns(pix, stride, rows Register) {
	SUBQ(Imm(4), pix)
	r := make([]VecVirtual, 8)
	for i := range r {
		r[i] = XMM()
		VMOVDQU(Mem{Base: rows, Disp: 16 * i}, r[i])
	}
	out := avoblock.Transposed(r, avoblock.ByteElements)
	for _, x := range out {
		VMOVQ(x, Mem{Base: pix})
		VPEXTRQ(Imm(1), x, Mem{Base: pix, Index: stride, Scale: 1})
		LEAQ(Mem{Base: pix, Index: stride, Scale: 2}, pix)
	}
}
