package main

import (
	"strings"

	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"
)

// deblock writes the filter of edges with bS under 4 for 16 lines of luma: on
// words, so that nothing overflows.
func deblock(wide bool) {
	name := beginEdge("lumaEdge", wide, ", tc *[4]int16")
	Doc(name+" filters the horizontal edge above 16 samples at pix; tc holds tC0 of each",
		"four, negative where nothing is to be filtered.")
	pix, stride := edgeAt(wide)
	edgeRow, packed := edgeRows(wide)
	alpha := spread(words(Load(Param("alpha"), GP64())))
	beta := spread(words(Load(Param("beta"), GP64())))
	tcs := Load(Param("tc"), GP64())
	p := GP64()
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, p)
	NEGQ(p)
	ADDQ(pix, p) // p2
	p2, p1, p0 := edgeRow(Mem{Base: p}), edgeRow(Mem{Base: p, Index: stride, Scale: 1}), edgeRow(Mem{Base: p, Index: stride, Scale: 2})
	q0, q1, q2 := edgeRow(Mem{Base: pix}), edgeRow(Mem{Base: pix, Index: stride, Scale: 1}), edgeRow(Mem{Base: pix, Index: stride, Scale: 2})
	mask, tc0 := closer(p0, q0, alpha), YMM()
	VPAND(closer(p1, p0, beta), mask, mask)
	VPAND(closer(q1, q0, beta), mask, mask)
	pairs, half := XMM(), XMM()
	VMOVQ(Mem{Base: tcs}, pairs)
	VPUNPCKLWD(pairs, pairs, pairs)
	VPUNPCKHDQ(pairs, pairs, half)
	VPUNPCKLDQ(pairs, pairs, tc0.AsX())
	VINSERTI128(Imm(1), half, tc0, tc0)
	ones, t := YMM(), YMM()
	VPCMPEQW(ones, ones, ones)
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
	delta, four := YMM(), spread(constant(4))
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
	packed(newP1, Mem{Base: p, Index: stride, Scale: 1})
	packed(p0, Mem{Base: p, Index: stride, Scale: 2})
	packed(q0, Mem{Base: pix})
	packed(newQ1, Mem{Base: pix, Index: stride, Scale: 1})
	VZEROUPPER()
	RET()
}

// beginEdge begins a filter of an edge, of samples of one byte or of two.
func beginEdge(name string, wide bool, more string) string {
	name += "Fast"
	if wide {
		name = strings.TrimSuffix(name, "Fast") + "WideFast"
		more += ", most int"
	}
	TEXT(name, attr.NOSPLIT, "func(pix *byte, stride int, alpha, beta int"+more+")")
	Pragma("noescape")
	return name
}

// edgeAt loads the place of an edge and the bytes from row to row.
func edgeAt(wide bool) (pix, stride Register) {
	pix, stride = Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
	if wide {
		SHLQ(Imm(1), stride)
	}
	return pix, stride
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
		most, zero := YMM(), YMM()
		x := most.AsX()
		VMOVD(Load(Param("most"), GP64()).(GPVirtual).As32(), x)
		VPBROADCASTW(x, most)
		VPXOR(zero, zero, zero)
		VPMAXSW(zero, y, zero)
		VPMINSW(most, zero, zero)
		VMOVDQU(zero, m)
	}
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
func strong(wide bool) {
	name := beginEdge("lumaStrong", wide, "")
	Doc(name + " filters the horizontal edge above 16 samples at pix with bS 4.")
	pix, stride := edgeAt(wide)
	edgeRow, packed := edgeRows(wide)
	a := Load(Param("alpha"), GP64())
	alpha := spread(words(a))
	SHRQ(Imm(2), a)
	ADDQ(Imm(2), a)
	quarter := spread(words(a))
	beta := spread(words(Load(Param("beta"), GP64())))
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
		two := spread(constant(2))
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
	VZEROUPPER()
	RET()
}

// chroma writes the filters of eight samples of chroma.
func chroma(isStrong bool) {
	name, more := "chromaEdgeFast", ", tc *[4]int16"
	if isStrong {
		name, more = "chromaStrongFast", ""
	}
	TEXT(name, attr.NOSPLIT, "func(pix *byte, stride int, alpha, beta int"+more+")")
	Pragma("noescape")
	Doc(name+" filters the horizontal edge above 8 samples at pix; tc holds tC0 of each two, negative", "where nothing is to be filtered.")
	pix, stride := Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
	alpha, beta := words(Load(Param("alpha"), GP64())), words(Load(Param("beta"), GP64()))
	p := GP64()
	MOVQ(pix, p)
	SUBQ(stride, p)
	SUBQ(stride, p) // p1
	row := func(m Mem) VecVirtual {
		x := XMM()
		VPMOVZXBW(m, x)
		return x
	}
	under := func(a, b, limit VecVirtual) VecVirtual {
		t := XMM()
		VPSUBW(b, a, t)
		VPABSW(t, t)
		VPCMPGTW(t, limit, t)
		return t
	}
	p1, p0, q0, q1 := row(Mem{Base: p}), row(Mem{Base: p, Index: stride, Scale: 1}), row(Mem{Base: pix}), row(Mem{Base: pix, Index: stride, Scale: 1})
	mask := under(p0, q0, alpha)
	VPAND(under(p1, p0, beta), mask, mask)
	VPAND(under(q1, q0, beta), mask, mask)
	if isStrong {
		two := constant(2)
		mix := func(a, b, c VecVirtual) VecVirtual { // (2a + b + c + 2) >> 2
			t := XMM()
			VPADDW(a, a, t)
			VPADDW(b, t, t)
			VPADDW(c, t, t)
			VPADDW(two, t, t)
			VPSRLW(Imm(2), t, t)
			return t
		}
		newP, newQ := mix(p1, p0, q1), mix(q1, q0, p1)
		VPBLENDVB(mask, newP, p0, p0)
		VPBLENDVB(mask, newQ, q0, q0)
	} else {
		tc, zero, t := XMM(), XMM(), XMM()
		VMOVQ(Mem{Base: Load(Param("tc"), GP64())}, tc)
		VPUNPCKLWD(tc, tc, tc)
		VPCMPEQW(zero, zero, zero)
		VPCMPGTW(zero, tc, t)
		VPAND(t, mask, mask)
		VPSUBW(zero, tc, tc) // tC = tC0 + 1
		VPXOR(zero, zero, zero)
		VPSUBW(tc, zero, zero)
		delta, four := XMM(), constant(4)
		VPSUBW(p0, q0, delta)
		VPSLLW(Imm(2), delta, delta)
		VPADDW(p1, delta, delta)
		VPSUBW(q1, delta, delta)
		VPADDW(four, delta, delta)
		VPSRAW(Imm(3), delta, delta)
		VPMINSW(tc, delta, delta)
		VPMAXSW(zero, delta, delta)
		VPAND(mask, delta, delta)
		VPADDW(delta, p0, p0)
		VPSUBW(delta, q0, q0)
	}
	VPACKUSWB(p0, p0, p0)
	VPACKUSWB(q0, q0, q0)
	VMOVQ(p0, Mem{Base: p, Index: stride, Scale: 1})
	VMOVQ(q0, Mem{Base: pix})
	RET()
}

// transposes write what turns columns beside an edge into rows and back: 16
// lines, or 8, of eight samples.
func transposes(lines int) {
	number := map[int]string{16: "16", 8: "8"}[lines]
	TEXT("columns"+number+"Fast", attr.NOSPLIT, "func(rows *[128]byte, pix *byte, stride int)")
	Pragma("noescape")
	Doc("columns" + number + "Fast turns " + number + " lines of 8 samples into 8 rows, 16 bytes apart.")
	rows, pix, stride := Load(Param("rows"), GP64()), Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
	v := make([]VecVirtual, lines)
	for i := range v {
		v[i] = XMM()
		VMOVQ(Mem{Base: pix}, v[i])
		ADDQ(stride, pix)
	}
	// Each round joins vectors half their number apart, byte by byte.
	a := make([]VecVirtual, lines/2)
	for k := range a {
		a[k] = v[k]
		VPUNPCKLBW(v[k+lines/2], v[k], a[k])
	}
	for len(a) < 8 || lines > 1 {
		if lines /= 2; lines == 1 {
			break
		}
		n := lines / 2 // vectors that are joined with those n further on
		next := make([]VecVirtual, 0, 8)
		for group := 0; group < len(a); group += lines {
			var low, high []VecVirtual
			for k := range n {
				x, y := a[group+k], a[group+k+n]
				l, h := XMM(), XMM()
				VPUNPCKLBW(y, x, l)
				VPUNPCKHBW(y, x, h)
				low, high = append(low, l), append(high, h)
			}
			next = append(append(next, low...), high...)
		}
		a = next
	}
	for i, x := range a {
		if len(a) == 8 {
			VMOVDQU(x, Mem{Base: rows, Disp: 16 * i})
		} else { // of eight lines: two rows in a vector
			VMOVQ(x, Mem{Base: rows, Disp: 32 * i})
			VPEXTRQ(Imm(1), x, Mem{Base: rows, Disp: 32*i + 16})
		}
	}
	RET()
}

// backwards writes the inverse of transposes for 16 lines; of 8 lines only the
// first 8 are stored.
func backwards(lines int) {
	number := map[int]string{16: "16", 8: "8"}[lines]
	TEXT("lines"+number+"Fast", attr.NOSPLIT, "func(pix *byte, stride int, rows *[128]byte)")
	Pragma("noescape")
	Doc("lines" + number + "Fast turns 8 rows, 16 bytes apart, into " + number + " lines of 8 samples.")
	pix, stride, rows := Load(Param("pix"), GP64()), Load(Param("stride"), GP64()), Load(Param("rows"), GP64())
	var r [8]VecVirtual
	for i := range r {
		r[i] = XMM()
		VMOVDQU(Mem{Base: rows, Disp: 16 * i}, r[i])
	}
	join := func(list []VecVirtual) []VecVirtual {
		n := len(list) / 2
		var low, high []VecVirtual
		for k := range n {
			l, h := XMM(), XMM()
			VPUNPCKLBW(list[k+n], list[k], l)
			low = append(low, l)
			if lines == 16 || n < 4 {
				VPUNPCKHBW(list[k+n], list[k], h)
				high = append(high, h)
			}
		}
		return append(low, high...)
	}
	first := join(r[:])
	var out []VecVirtual
	for g := 0; g < len(first); g += 4 {
		second := join(first[g : g+4])
		out = append(out, join(second[:2])...)
		out = append(out, join(second[2:])...)
	}
	for _, x := range out {
		VMOVQ(x, Mem{Base: pix})
		VPEXTRQ(Imm(1), x, Mem{Base: pix, Index: stride, Scale: 1})
		LEAQ(Mem{Base: pix, Index: stride, Scale: 2}, pix)
	}
	RET()
}
