// Command asm writes the assembly twins of the inner loops for amd64 with AVX2. Each function does what
// the Go function of the same name without Fast does, for samples of 8 bits or, with Wide, of two bytes.
// Strides are in bytes. Run it with go generate in the folder above.
package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

func main() {
	ConstraintExpr("amd64")
	multiply()
	interleave()
	difference("differenceFast", "differenceFast interleaves or folds the differences of rows.", false)
	difference("differenceWideFast", "differenceWideFast is differenceFast for samples of two bytes.", true)
	addResidual("addFast", "addFast adds differences to n x n samples.", false)
	addResidual("addWideFast", "addWideFast is addFast for samples of two bytes, clipped to most.", true)
	across("acrossFast", "acrossFast filters samples with 8 or 4 taps in a row.", false)
	across("acrossWideFast", "acrossWideFast is acrossFast for samples of two bytes.", true)
	down("downFast", "downFast filters samples with 8 or 4 taps in a column.", false)
	down("downWideFast", "downWideFast is downFast for samples of two bytes, or for signed words.", true)
	weigh("roundFast", "roundFast rounds a prediction to samples.", false, false)
	weigh("roundWideFast", "roundWideFast is roundFast for samples of two bytes, clipped to most.", true, false)
	weigh("meanFast", "meanFast rounds the mean of two predictions to samples.", false, true)
	weigh("meanWideFast", "meanWideFast is meanFast for samples of two bytes, clipped to most.", true, true)
	directions("directionsFast", "directionsFast predicts n x n samples along a direction.", false)
	directions("directionsWideFast", "directionsWideFast is directionsFast for samples of two bytes.", true)
	planar("planarFast", "planarFast is planar of n x n samples, n = 8 to 32.", false)
	planar("planarWideFast", "planarWideFast is planarFast for samples of two bytes of up to 10 bits.", true)
	cost()
	quantise()
	scale()
	gather()
	nonZero()
	saoCollect("collectFast", "collectFast adds up differences by edgeIdx.", false)
	saoCollect("collectWideFast", "collectWideFast is collectFast for samples of two bytes.", true)
	saoEdges("edgesFast", "edgesFast adds edge offsets to a block.", false)
	saoEdges("edgesWideFast", "edgesWideFast is edgesFast for samples of two bytes, clipped to most.", true)
	worth()
	forward8("forward8Fast", "forward8Fast transforms the difference between 8 x 8 samples; shift is that of the columns.", false)
	forward8("forward8WideFast", "forward8WideFast is forward8Fast for samples of two bytes.", true)
	for _, wide := range []bool{false, true} {
		for _, vertical := range []bool{false, true} {
			deblock(wide, vertical)
		}
	}
	Generate()
}

// shiftCount loads a shift into the low half of a vector.
func shiftCount(param string) VecVirtual {
	x := XMM()
	VMOVQ(Load(Param(param), GP64()), x)
	return x
}

// rounding returns 1 << shift >> 1 in every double word.
func rounding() VecVirtual {
	one, y := GP64(), YMM()
	Load(Param("shift"), RCX)
	MOVQ(U64(1), one)
	SHLQ(CL, one)
	SHRQ(Imm(1), one)
	VMOVD(one.As32(), y.AsX())
	VPBROADCASTD(y.AsX(), y)
	return y
}

func multiply() {
	TEXT("multiplyFast", attr.NOSPLIT, "func(dst *int16, stride int, p *int16, step int, v *int16, next, rows, pairs, cols, shift int)")
	Pragma("noescape")
	Doc("multiplyFast multiplies a matrix with one whose rows are interleaved in pairs; cols is 4, 8 or a multiple of 16.")
	dst, stride := Load(Param("dst"), GP64()), Load(Param("stride"), GP64())
	p, step := Load(Param("p"), GP64()), Load(Param("step"), GP64())
	v, next := Load(Param("v"), GP64()), Load(Param("next"), GP64())
	cols := Load(Param("cols"), GP64())
	round, shift := rounding(), shiftCount("shift")
	for _, width := range []int{4, 8, 16} {
		label := "multiply" + string(rune('a'+width))
		if width < 16 {
			CMPQ(cols, Imm(uint64(width)))
			JNE(LabelRef("not" + label))
		}
		Label(label + "cols")
		rowDst, rowP := GP64(), GP64()
		MOVQ(dst, rowDst)
		MOVQ(p, rowP)
		row := Load(Param("rows"), GP64())
		Label(label + "rows")
		vectors := 1
		if width == 16 {
			vectors = 2
		}
		var sums [4][2]VecVirtual
		for r := range sums {
			for k := range vectors {
				sums[r][k] = YMM()
				VMOVDQA(round, sums[r][k])
			}
		}
		at, atP, third := GP64(), GP64(), GP64()
		MOVQ(v, at)
		MOVQ(rowP, atP)
		LEAQ(Mem{Base: atP, Index: step, Scale: 2}, third)
		n := Load(Param("pairs"), GP64())
		Label(label + "pairs")
		var data [2]VecVirtual
		for k := range vectors {
			data[k] = YMM()
			if width == 4 {
				VMOVDQU(Mem{Base: at}, data[k].AsX())
			} else {
				VMOVDQU(Mem{Base: at, Disp: 32 * k}, data[k])
			}
		}
		for r, from := range [4]Mem{{Base: atP}, {Base: atP, Index: step, Scale: 1}, {Base: third}, {Base: third, Index: step, Scale: 1}} {
			factors := YMM()
			VPBROADCASTD(from, factors)
			for k := range vectors {
				product := YMM()
				VPMADDWD(factors, data[k], product)
				VPADDD(product, sums[r][k], sums[r][k])
			}
		}
		ADDQ(next, at)
		ADDQ(Imm(4), atP)
		ADDQ(Imm(4), third)
		DECQ(n)
		JNZ(LabelRef(label + "pairs"))
		for r := range sums {
			for k := range vectors {
				VPSRAD(shift, sums[r][k], sums[r][k])
			}
			out := sums[r][0]
			VPACKSSDW(sums[r][vectors-1], out, out)
			switch width {
			case 4:
				VMOVQ(out.AsX(), Mem{Base: rowDst})
			case 8:
				VPERMQ(Imm(0xD8), out, out)
				VMOVDQU(out.AsX(), Mem{Base: rowDst})
			default:
				VPERMQ(Imm(0xD8), out, out)
				VMOVDQU(out, Mem{Base: rowDst})
			}
			ADDQ(stride, rowDst)
		}
		LEAQ(Mem{Base: rowP, Index: step, Scale: 4}, rowP)
		SUBQ(Imm(4), row)
		JNZ(LabelRef(label + "rows"))
		if width == 16 {
			ADDQ(Imm(32), dst)
			ADDQ(Imm(64), v)
			SUBQ(Imm(16), cols)
			JNZ(LabelRef(label + "cols"))
		}
		VZEROUPPER()
		RET()
		if width < 16 {
			Label("not" + label)
		}
	}
}

// unpackRows interleaves the words of two vectors of 4 or 8 and stores them.
func unpackRows(a, b VecVirtual, to Register, half bool) {
	low := XMM()
	VPUNPCKLWD(b, a, low)
	VMOVDQU(low, Mem{Base: to})
	if !half {
		VPUNPCKHWD(b, a, a)
		VMOVDQU(a, Mem{Base: to, Disp: 16})
	}
}

func interleave() {
	TEXT("interleaveFast", attr.NOSPLIT, "func(v, src *int16, n, pairs int)")
	Pragma("noescape")
	Doc("interleaveFast interleaves the words of pairs of rows of n = 4 or a multiple of 8.")
	v, src, n, pairs := Load(Param("v"), GP64()), Load(Param("src"), GP64()), Load(Param("n"), GP64()), Load(Param("pairs"), GP64())
	CMPQ(n, Imm(4))
	JNE(LabelRef("wide"))
	Label("four")
	a, b := XMM(), XMM()
	VMOVQ(Mem{Base: src}, a)
	VMOVQ(Mem{Base: src, Disp: 8}, b)
	unpackRows(a, b, v, true)
	ADDQ(Imm(16), v)
	ADDQ(Imm(16), src)
	DECQ(pairs)
	JNZ(LabelRef("four"))
	RET()
	Label("wide")
	row := GP64()
	Label("rows")
	MOVQ(n, row)
	Label("eight")
	a, b = XMM(), XMM()
	VMOVDQU(Mem{Base: src}, a)
	VMOVDQU(Mem{Base: src, Index: n, Scale: 2}, b)
	unpackRows(a, b, v, false)
	ADDQ(Imm(32), v)
	ADDQ(Imm(16), src)
	SUBQ(Imm(8), row)
	JNZ(LabelRef("eight"))
	LEAQ(Mem{Base: src, Index: n, Scale: 2}, src)
	DECQ(pairs)
	JNZ(LabelRef("rows"))
	RET()
}

func difference(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(v *int16, src *byte, stride int, pred *byte, step, n int)")
	Pragma("noescape")
	Doc(doc)
	v, src, stride := Load(Param("v"), GP64()), Load(Param("src"), GP64()), Load(Param("stride"), GP64())
	pred, step, n := Load(Param("pred"), GP64()), Load(Param("step"), GP64()), Load(Param("n"), GP64())
	size := 1
	if wide {
		size = 2
	}
	pairs := GP64()
	MOVQ(n, pairs)
	SHRQ(Imm(1), pairs)
	one := func(count int) {
		load := avoblock.LoadWords(wide, count == 4)
		var rows [2]VecVirtual
		for i, at := range [2][2]Mem{{{Base: src}, {Base: pred}}, {{Base: src, Index: stride, Scale: 1}, {Base: pred, Index: step, Scale: 1}}} {
			p := XMM()
			rows[i] = XMM()
			load(at[0], rows[i])
			load(at[1], p)
			VPSUBW(p, rows[i], rows[i])
		}
		unpackRows(rows[0], rows[1], v, count == 4)
		ADDQ(Imm(uint64(4*count)), v)
	}
	next := func() {
		LEAQ(Mem{Base: src, Index: stride, Scale: 2}, src)
		LEAQ(Mem{Base: pred, Index: step, Scale: 2}, pred)
		DECQ(pairs)
	}
	CMPQ(n, Imm(4))
	JNE(LabelRef("wide"))
	Label("four")
	one(4)
	next()
	JNZ(LabelRef("four"))
	RET()
	Label("wide")
	load := avoblock.LoadWords(wide, false)
	row, odd := GP64(), GP64()
	MOVQ(n, row) // of v, in bytes
	SHLQ(Imm(2), row)
	MOVQ(n, odd) // where the odd half of v begins
	IMULQ(n, odd)
	cols := GP64()
	MOVQ(n, cols)
	Label("cols")
	var ends [2][2]Register // of src and pred, the upper and the lower row under way
	for i, from := range [2][2]Register{{src, stride}, {pred, step}} {
		ends[i] = [2]Register{GP64(), GP64()}
		MOVQ(n, ends[i][1])
		DECQ(ends[i][1])
		IMULQ(from[1], ends[i][1])
		ADDQ(from[0], ends[i][1])
		MOVQ(from[0], ends[i][0])
	}
	to := GP64()
	MOVQ(v, to)
	MOVQ(n, pairs)
	SHRQ(Imm(2), pairs)
	Label("quads")
	var sums, differences [2]VecVirtual
	for k := range 2 {
		var d [2]VecVirtual
		for end := range 2 {
			p := XMM()
			d[end] = XMM()
			load(Mem{Base: ends[0][end]}, d[end])
			load(Mem{Base: ends[1][end]}, p)
			VPSUBW(p, d[end], d[end])
		}
		ADDQ(stride, ends[0][0])
		ADDQ(step, ends[1][0])
		SUBQ(stride, ends[0][1])
		SUBQ(step, ends[1][1])
		sums[k], differences[k] = XMM(), d[0]
		VPADDW(d[1], d[0], sums[k])
		VPSUBW(d[1], d[0], differences[k])
	}
	unpackRows(sums[0], sums[1], to, false)
	ADDQ(odd, to)
	unpackRows(differences[0], differences[1], to, false)
	SUBQ(odd, to)
	ADDQ(row, to)
	DECQ(pairs)
	JNZ(LabelRef("quads"))
	ADDQ(Imm(32), v)
	ADDQ(Imm(uint64(8*size)), src)
	ADDQ(Imm(uint64(8*size)), pred)
	SUBQ(Imm(8), cols)
	JNZ(LabelRef("cols"))
	RET()
}

// most broadcasts the parameter of that name.
func most() VecVirtual {
	y := YMM()
	VMOVD(Load(Param("most"), GP64()).(GPVirtual).As32(), y.AsX())
	VPBROADCASTW(y.AsX(), y)
	return y
}

func addResidual(name, doc string, wide bool) {
	more := ""
	if wide {
		more = ", most int"
	}
	TEXT(name, attr.NOSPLIT, "func(dst *byte, stride int, r *int16, n int"+more+")")
	Pragma("noescape")
	Doc(doc)
	dst, stride, r, n := Load(Param("dst"), GP64()), Load(Param("stride"), GP64()), Load(Param("r"), GP64()), Load(Param("n"), GP64())
	limit, zero := VecVirtual(nil), YMM()
	if wide {
		limit = most()
		VPXOR(zero, zero, zero)
	}
	rows := GP64()
	MOVQ(n, rows)
	put := func(count, disp, dispR int) {
		x, d := XMM(), XMM()
		avoblock.LoadWords(wide, count == 4)(Mem{Base: dst, Disp: disp}, x)
		if count == 4 {
			VMOVQ(Mem{Base: r, Disp: dispR}, d)
		} else {
			VMOVDQU(Mem{Base: r, Disp: dispR}, d)
		}
		VPADDSW(d, x, x)
		if wide {
			VPMINSW(limit.AsX(), x, x)
			VPMAXSW(zero.AsX(), x, x)
			avoblock.StoreWide(x, Mem{Base: dst, Disp: disp}, count)
			return
		}
		VPACKUSWB(x, x, x)
		avoblock.StoreBytes(x, Mem{Base: dst, Disp: disp}, count)
	}
	CMPQ(n, Imm(4))
	JNE(LabelRef("wide"))
	Label("four")
	put(4, 0, 0)
	ADDQ(stride, dst)
	ADDQ(Imm(8), r)
	DECQ(rows)
	JNZ(LabelRef("four"))
	VZEROUPPER()
	RET()
	Label("wide")
	SUBQ(n, stride)
	if wide {
		SUBQ(n, stride)
	}
	size, row := 1, GP64()
	if wide {
		size = 2
	}
	Label("rows")
	MOVQ(n, row)
	Label("eight")
	put(8, 0, 0)
	ADDQ(Imm(uint64(8*size)), dst)
	ADDQ(Imm(16), r)
	SUBQ(Imm(8), row)
	JNZ(LabelRef("eight"))
	ADDQ(stride, dst)
	DECQ(rows)
	JNZ(LabelRef("rows"))
	VZEROUPPER()
	RET()
}

// rowBytes is the distance of the rows of predictions before they are rounded: 64 words.
const rowBytes = 128

// columns runs body for every 16 samples of w, with the addresses of the row; then the rows go on.
func columns(dst, src, step, w, h Register, size int, body func(dst, src Register)) {
	Label("rows")
	d, s, n := GP64(), GP64(), GP64()
	MOVQ(dst, d)
	MOVQ(src, s)
	MOVQ(w, n)
	Label("cols")
	body(d, s)
	ADDQ(Imm(32), d)
	ADDQ(Imm(uint64(16*size)), s)
	SUBQ(Imm(16), n)
	JG(LabelRef("cols"))
	ADDQ(Imm(rowBytes), dst)
	ADDQ(step, src)
	DECQ(h)
	JNZ(LabelRef("rows"))
	VZEROUPPER()
	RET()
}

// tapPairs broadcasts the taps of a filter in pairs.
func tapPairs() (list [4]VecVirtual) {
	taps := Load(Param("taps"), GP64())
	for i := range list {
		list[i] = YMM()
		VPBROADCASTD(Mem{Base: taps, Disp: 4 * i}, list[i])
	}
	return list
}

const filterSignature = "func(dst *int16, src *byte, step, w, h int, taps *[8]int16, count, shift int)"

func across(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, filterSignature)
	Pragma("noescape")
	Doc(doc)
	dst, src, step := Load(Param("dst"), GP64()), Load(Param("src"), GP64()), Load(Param("step"), GP64())
	w, h, taps, shift := Load(Param("w"), GP64()), Load(Param("h"), GP64()), tapPairs(), shiftCount("shift")
	count := Load(Param("count"), GP64())
	size := 1
	if wide {
		size = 2
	}
	load := avoblock.LoadWords(wide, false)
	columns(dst, src, step, w, h, size, func(d, s Register) {
		even, odd, t := YMM(), YMM(), YMM()
		for i := range 4 {
			if i == 2 {
				CMPQ(count, Imm(4))
				JE(LabelRef("short"))
			}
			for k, sum := range []VecVirtual{even, odd} {
				load(Mem{Base: s, Disp: size * (2*i + k)}, t)
				if i == 0 {
					VPMADDWD(taps[i], t, sum)
				} else {
					VPMADDWD(taps[i], t, t)
					VPADDD(t, sum, sum)
				}
			}
		}
		Label("short")
		VPSRAD(shift, even, even)
		VPSRAD(shift, odd, odd)
		VPSLLD(Imm(16), odd, odd)
		VPBLENDW(Imm(0xAA), odd, even, even)
		VMOVDQU(even, Mem{Base: d})
	})
}

func down(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, filterSignature)
	Pragma("noescape")
	Doc(doc)
	dst, src, step := Load(Param("dst"), GP64()), Load(Param("src"), GP64()), Load(Param("step"), GP64())
	w, h, taps, shift := Load(Param("w"), GP64()), Load(Param("h"), GP64()), tapPairs(), shiftCount("shift")
	count := Load(Param("count"), GP64())
	size := 1
	if wide {
		size = 2
	}
	load := avoblock.LoadWords(wide, false)
	columns(dst, src, step, w, h, size, func(d, s Register) {
		low, high, a, b, t := YMM(), YMM(), YMM(), YMM(), YMM()
		at := GP64()
		MOVQ(s, at)
		for i := range 4 {
			if i == 2 {
				CMPQ(count, Imm(4))
				JE(LabelRef("short"))
			}
			load(Mem{Base: at}, a)
			load(Mem{Base: at, Index: step, Scale: 1}, b)
			LEAQ(Mem{Base: at, Index: step, Scale: 2}, at)
			VPUNPCKLWD(b, a, t)
			VPUNPCKHWD(b, a, a)
			if i == 0 {
				VPMADDWD(taps[i], t, low)
				VPMADDWD(taps[i], a, high)
			} else {
				VPMADDWD(taps[i], t, t)
				VPADDD(t, low, low)
				VPMADDWD(taps[i], a, a)
				VPADDD(a, high, high)
			}
		}
		Label("short")
		VPSRAD(shift, low, low)
		VPSRAD(shift, high, high)
		VPACKSSDW(high, low, low)
		VMOVDQU(low, Mem{Base: d})
	})
}

func weigh(name, doc string, wide, mean bool) {
	more, limitText := "", ""
	if mean {
		more = "b *int16, "
	}
	if wide {
		limitText = ", most int"
	}
	TEXT(name, attr.NOSPLIT, "func(dst *byte, stride int, a *int16, "+more+"w, h, shift int"+limitText+")")
	Pragma("noescape")
	Doc(doc)
	dst, stride, a := Load(Param("dst"), GP64()), Load(Param("stride"), GP64()), Load(Param("a"), GP64())
	var b Register = GP64()
	if mean {
		b = Load(Param("b"), GP64())
		SUBQ(a, b) // its distance
	}
	w, h, shift := Load(Param("w"), GP64()), Load(Param("h"), GP64()), shiftCount("shift")
	round, limit, zero := rounding(), VecVirtual(nil), YMM()
	VPACKSSDW(round, round, round)
	if wide {
		limit = most()
		VPXOR(zero, zero, zero)
	}
	size := 1
	if wide {
		size = 2
	}
	d, s, n := GP64(), GP64(), GP64()
	take := func(x VecVirtual) {
		VMOVDQU(Mem{Base: s}, x)
		if mean {
			VPADDSW(Mem{Base: s, Index: b, Scale: 1}, x, x)
		}
		if x.Size() == 32 {
			VPADDSW(round, x, x)
		} else {
			VPADDSW(round.AsX(), x, x)
		}
		VPSRAW(shift, x, x)
		if wide {
			if x.Size() == 32 {
				VPMINSW(limit, x, x)
				VPMAXSW(zero, x, x)
			} else {
				VPMINSW(limit.AsX(), x, x)
				VPMAXSW(zero.AsX(), x, x)
			}
		}
	}
	Label("rows")
	MOVQ(dst, d)
	MOVQ(a, s)
	MOVQ(w, n)
	Label("sixteen")
	CMPQ(n, Imm(16))
	JL(LabelRef("eight"))
	y := YMM()
	take(y)
	if wide {
		VMOVDQU(y, Mem{Base: d})
	} else {
		VPACKUSWB(y, y, y)
		VPERMQ(Imm(0xD8), y, y)
		VMOVDQU(y.AsX(), Mem{Base: d})
	}
	ADDQ(Imm(uint64(16*size)), d)
	ADDQ(Imm(32), s)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("sixteen"))
	JMP(LabelRef("next"))
	for _, count := range []int{8, 4, 2} {
		Label(map[int]string{8: "eight", 4: "four", 2: "two"}[count])
		if count > 2 {
			CMPQ(n, Imm(uint64(count)))
			JL(LabelRef(map[int]string{8: "four", 4: "two"}[count]))
		}
		x := XMM()
		take(x)
		if wide {
			avoblock.StoreWide(x, Mem{Base: d}, count)
		} else {
			VPACKUSWB(x, x, x)
			avoblock.StoreBytes(x, Mem{Base: d}, count)
		}
		ADDQ(Imm(uint64(count*size)), d)
		ADDQ(Imm(uint64(2*count)), s)
		SUBQ(Imm(uint64(count)), n)
		if count > 2 {
			JZ(LabelRef("next"))
		}
	}
	Label("next")
	ADDQ(stride, dst)
	ADDQ(Imm(rowBytes), a)
	DECQ(h)
	JNZ(LabelRef("rows"))
	VZEROUPPER()
	RET()
}

func directions(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(dst *byte, stride int, ref *[113]int16, n, angle int)")
	Pragma("noescape")
	Doc(doc)
	dst, stride, ref := Load(Param("dst"), GP64()), Load(Param("stride"), GP64()), Load(Param("ref"), GP64())
	n, angle := Load(Param("n"), GP64()), Load(Param("angle"), GP64())
	round := doubles(16)
	position, rows := GP64(), GP64()
	MOVQ(angle, position)
	MOVQ(n, rows)
	size := 1
	if wide {
		size = 2
	}
	Label("rows")
	from, fraction, rest := GP64(), GP64(), GP64()
	MOVQ(position, from)
	SARQ(Imm(5), from)
	LEAQ(Mem{Base: ref, Index: from, Scale: 2, Disp: 66}, from)
	MOVQ(position, fraction)
	ANDQ(Imm(31), fraction)
	MOVQ(U64(32), rest)
	SUBQ(fraction, rest)
	SHLQ(Imm(16), fraction)
	ORQ(rest, fraction)
	weights := YMM()
	VMOVD(fraction.As32(), weights.AsX())
	VPBROADCASTD(weights.AsX(), weights)
	out, count := GP64(), GP64()
	MOVQ(dst, out)
	MOVQ(n, count)
	// take computes the next samples as words: 16 in a YMM register, or 8.
	take := func(a, b, high, w, r Register) {
		VMOVDQU(Mem{Base: from}, a)
		VMOVDQU(Mem{Base: from, Disp: 2}, b)
		VPUNPCKHWD(b, a, high)
		VPUNPCKLWD(b, a, a)
		VPMADDWD(w, a, a)
		VPMADDWD(w, high, high)
		VPADDD(r, a, a)
		VPADDD(r, high, high)
		VPSRAD(Imm(5), a, a)
		VPSRAD(Imm(5), high, high)
		VPACKUSDW(high, a, a)
	}
	CMPQ(count, Imm(16))
	JL(LabelRef("short"))
	Label("sixteen")
	y := YMM()
	take(y, YMM(), YMM(), weights, round)
	if wide {
		VMOVDQU(y, Mem{Base: out})
	} else {
		VPACKUSWB(y, y, y)
		VPERMQ(Imm(0xD8), y, y)
		VMOVDQU(y.AsX(), Mem{Base: out})
	}
	ADDQ(Imm(uint64(16*size)), out)
	ADDQ(Imm(32), from)
	SUBQ(Imm(16), count)
	JNZ(LabelRef("sixteen"))
	JMP(LabelRef("next"))
	Label("short")
	x := XMM()
	take(x, XMM(), XMM(), weights.AsX(), round.AsX())
	if !wide {
		VPACKUSWB(x, x, x)
	}
	store := func(w int) {
		if wide {
			avoblock.StoreWide(x, Mem{Base: out}, w)
		} else {
			avoblock.StoreBytes(x, Mem{Base: out}, w)
		}
	}
	CMPQ(count, Imm(4))
	JE(LabelRef("four"))
	store(8)
	JMP(LabelRef("next"))
	Label("four")
	store(4)
	Label("next")
	ADDQ(angle, position)
	ADDQ(stride, dst)
	DECQ(rows)
	JNZ(LabelRef("rows"))
	VZEROUPPER()
	RET()
}

// planar computes blocks of eight columns, in words: the weights add up to 2n, so that 10 bits fit.
func planar(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(dst *byte, stride int, p *int16, n, shift int)")
	Pragma("noescape")
	Doc(doc)
	dst, stride, p, n := Load(Param("dst"), GP64()), Load(Param("stride"), GP64()), Load(Param("p"), GP64()), Load(Param("n"), GP64())
	shift := shiftCount("shift")
	size := 1
	if wide {
		size = 2
	}
	one := func() VecVirtual { // broadcasts n
		x := XMM()
		VMOVD(n.(GPVirtual).As32(), x)
		VPBROADCASTW(x, x)
		return x
	}
	count, right, below, x := one(), XMM(), XMM(), XMM()
	at := GP64() // of the corner
	LEAQ(Mem{Base: p, Index: n, Scale: 4}, at)
	above := GP64()
	LEAQ(Mem{Base: at, Disp: 2}, above)
	VPBROADCASTW(Mem{Base: above, Index: n, Scale: 2}, right)
	VPBROADCASTW(Mem{Base: p, Index: n, Scale: 2, Disp: -2}, below)
	// x + 1, from 1 to 8.
	g, low := GP64(), XMM()
	MOVQ(U64(0x0004000300020001), g)
	VMOVQ(g, low)
	MOVQ(U64(0x0008000700060005), g)
	VMOVQ(g, x)
	VPUNPCKLQDQ(x, low, x)
	eight, eights := GP32(), XMM()
	MOVL(U32(8), eight)
	VMOVD(eight, eights)
	VPBROADCASTW(eights, eights)
	cols := GP64()
	MOVQ(n, cols)
	Label("cols")
	row, left, rows := GP64(), GP64(), GP64()
	MOVQ(dst, row)
	LEAQ(Mem{Base: at, Disp: -2}, left)
	MOVQ(n, rows)
	weight, sum, step, t := XMM(), XMM(), XMM(), XMM()
	VPSUBW(x, count, weight) // n-1-x
	VMOVDQU(Mem{Base: above}, step)
	VPMULLW(count, step, sum) // (n-1)*above + below + n + (x+1)*right
	VPSUBW(step, sum, sum)
	VPADDW(below, sum, sum)
	VPADDW(count, sum, sum)
	VPMULLW(right, x, t)
	VPADDW(t, sum, sum)
	VPSUBW(step, below, step)
	Label("rows")
	VPBROADCASTW(Mem{Base: left}, t)
	VPMULLW(weight, t, t)
	VPADDW(sum, t, t)
	VPSRLW(shift, t, t)
	if wide {
		VMOVDQU(t, Mem{Base: row})
	} else {
		VPACKUSWB(t, t, t)
		VMOVQ(t, Mem{Base: row})
	}
	VPADDW(step, sum, sum)
	ADDQ(stride, row)
	SUBQ(Imm(2), left)
	DECQ(rows)
	JNZ(LabelRef("rows"))
	VPADDW(eights, x, x)
	ADDQ(Imm(16), above)
	ADDQ(Imm(uint64(8*size)), dst)
	SUBQ(Imm(8), cols)
	JNZ(LabelRef("cols"))
	RET()
}

// doubles broadcasts a constant.
func doubles(v uint32) VecVirtual {
	g, y := GP32(), YMM()
	MOVL(U32(v), g)
	VMOVD(g, y.AsX())
	VPBROADCASTD(y.AsX(), y)
	return y
}

func cost() {
	TEXT("costFast", attr.NOSPLIT, "func(c *int16, n, factor, shift int) int")
	Pragma("noescape")
	Doc("costFast is levelCosts of n coefficients, a multiple of 8.")
	c, n := Load(Param("c"), GP64()), Load(Param("n"), GP64())
	factor, shift, sum := YMM(), shiftCount("shift"), YMM()
	VMOVD(Load(Param("factor"), GP64()).(GPVirtual).As32(), factor.AsX())
	VPBROADCASTD(factor.AsX(), factor)
	least, base, zero, largest := doubles((127+6)<<7), doubles(codedCost), YMM(), doubles(1<<14-1)
	VPXOR(zero, zero, zero)
	VPXOR(sum, sum, sum)
	Label("eight")
	x, square, log, t := YMM(), YMM(), YMM(), YMM()
	VPMOVSXWD(Mem{Base: c}, x)
	VPABSD(x, x)
	VPMULLD(factor, x, x)
	VPSRLD(shift, x, x)
	VPMINUD(largest, x, x)
	VPMULLD(x, x, square)
	VCVTDQ2PS(x, log)
	VPSRLD(Imm(16), log, log)
	VPSUBD(least, log, log)
	VPMAXSD(zero, log, log)
	VPSLLD(Imm(2), log, t)
	VPADDD(t, log, log) // 5 times
	VPADDD(base, log, log)
	VPMINSD(log, square, square)
	VPADDD(square, sum, sum)
	ADDQ(Imm(16), c)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("eight"))
	avoblock.Fold(sum)
	avoblock.Finish(sum.AsX())
}

// codedCost is the cost of a level of 1, as in levelCosts.
const codedCost = 4096/12 + 340*4

func quantise() {
	TEXT("quantiseFast", attr.NOSPLIT, "func(dst, c *int16, n, factor, bias, shift int) int")
	Pragma("noescape")
	Doc("quantiseFast quantises n coefficients, a multiple of 8, and returns whether a level is not 0.")
	dst, c, n := Load(Param("dst"), GP64()), Load(Param("c"), GP64()), Load(Param("n"), GP64())
	factor, bias, shift, any := YMM(), YMM(), shiftCount("shift"), XMM()
	VMOVD(Load(Param("factor"), GP64()).(GPVirtual).As32(), factor.AsX())
	VPBROADCASTD(factor.AsX(), factor)
	VMOVD(Load(Param("bias"), GP64()).(GPVirtual).As32(), bias.AsX())
	VPBROADCASTD(bias.AsX(), bias)
	VPXOR(any, any, any)
	Label("eight")
	x, m := YMM(), YMM()
	VPMOVSXWD(Mem{Base: c}, x)
	VPABSD(x, m)
	VPMULLD(factor, m, m)
	VPADDD(bias, m, m)
	VPSRLD(shift, m, m)
	VPSIGND(x, m, m)
	VPACKSSDW(m, m, m)
	VPERMQ(Imm(0xD8), m, m)
	VPOR(m.AsX(), any, any)
	VMOVDQU(m.AsX(), Mem{Base: dst})
	ADDQ(Imm(16), c)
	ADDQ(Imm(16), dst)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("eight"))
	VZEROUPPER()
	low, high := GP64(), GP64()
	VMOVQ(any, low)
	VPEXTRQ(Imm(1), any, high)
	ORQ(high, low)
	Store(low, ReturnIndex(0))
	RET()
}

func scale() {
	TEXT("scaleFast", attr.NOSPLIT, "func(dst, levels *int16, n, factor, shift int)")
	Pragma("noescape")
	Doc("scaleFast scales n levels, a multiple of 8.")
	dst, c, n := Load(Param("dst"), GP64()), Load(Param("levels"), GP64()), Load(Param("n"), GP64())
	factor, round, shift := YMM(), rounding(), shiftCount("shift")
	VMOVD(Load(Param("factor"), GP64()).(GPVirtual).As32(), factor.AsX())
	VPBROADCASTD(factor.AsX(), factor)
	Label("eight")
	x := YMM()
	VPMOVSXWD(Mem{Base: c}, x)
	VPMULLD(factor, x, x)
	VPADDD(round, x, x)
	VPSRAD(shift, x, x)
	VPACKSSDW(x, x, x)
	VPERMQ(Imm(0xD8), x, x)
	VMOVDQU(x.AsX(), Mem{Base: dst})
	ADDQ(Imm(16), c)
	ADDQ(Imm(16), dst)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("eight"))
	VZEROUPPER()
	RET()
}

func nonZero() {
	TEXT("nonZeroFast", attr.NOSPLIT, "func(levels *[16]int16) uint")
	Pragma("noescape")
	Doc("nonZeroFast is nonZeroLevels.")
	levels, mask := Load(Param("levels"), GP64()), GP32()
	zero, a, b := XMM(), XMM(), XMM()
	VPXOR(zero, zero, zero)
	VPCMPEQW(Mem{Base: levels}, zero, a)
	VPCMPEQW(Mem{Base: levels, Disp: 16}, zero, b)
	VPACKSSWB(b, a, a)
	VPMOVMSKB(a, mask)
	XORL(U32(0xFFFF), mask)
	Store(mask.As64(), ReturnIndex(0))
	RET()
}

func gather() {
	TEXT("gatherFast", attr.NOSPLIT, "func(out, levels *int16, n int) uint64")
	Pragma("noescape")
	Doc("gatherFast puts n rows of n levels, a multiple of 8, into the order of their blocks of 4x4, and returns which have some.")
	out, in, n := Load(Param("out"), GP64()), Load(Param("levels"), GP64()), Load(Param("n"), GP64())
	mask, row, row3, rows := GP64(), GP64(), GP64(), GP64()
	XORQ(mask, mask)
	LEAQ(Mem{Base: n, Index: n, Scale: 2}, row3)
	MOVQ(n, rows)
	Label("rows")
	MOVQ(n, row)
	Label("eight")
	var r [4]VecVirtual
	for i := range r {
		r[i] = XMM()
	}
	VMOVDQU(Mem{Base: in}, r[0])
	VMOVDQU(Mem{Base: in, Index: n, Scale: 2}, r[1])
	VMOVDQU(Mem{Base: in, Index: n, Scale: 4}, r[2])
	VMOVDQU(Mem{Base: in, Index: row3, Scale: 2}, r[3])
	for i, unpack := range []func(ops ...Op){VPUNPCKLQDQ, VPUNPCKHQDQ} {
		a, b, bit := XMM(), XMM(), GP64()
		unpack(r[1], r[0], a)
		unpack(r[3], r[2], b)
		VMOVDQU(a, Mem{Base: out, Disp: 32 * i})
		VMOVDQU(b, Mem{Base: out, Disp: 32*i + 16})
		VPOR(a, b, a)
		XORQ(bit, bit)
		VPTEST(a, a)
		SETNE(bit.As8())
		SHLQ(Imm(63), bit)
		SHRQ(Imm(1), mask)
		ORQ(bit, mask)
	}
	ADDQ(Imm(16), in)
	ADDQ(Imm(64), out)
	SUBQ(Imm(8), row)
	JNZ(LabelRef("eight"))
	// A row of the mask is eight bits.
	MOVQ(n, RCX)
	SHRQ(Imm(2), RCX)
	SUBQ(Imm(8), RCX)
	NEGQ(RCX)
	SHRQ(CL, mask)
	LEAQ(Mem{Base: in, Index: row3, Scale: 2}, in)
	SUBQ(Imm(4), rows)
	JNZ(LabelRef("rows"))
	MOVQ(n, RCX)
	SHLQ(Imm(1), RCX)
	SUBQ(Imm(64), RCX)
	NEGQ(RCX)
	SHRQ(CL, mask)
	Store(mask, ReturnIndex(0))
	RET()
}

// signs computes sign(v-a)+sign(v-b), -2 to 2, with the instructions for bytes or words.
func signs(v, a, b, sum VecVirtual, greater, sub, add func(ops ...Op)) {
	t := YMM()
	greater(v, a, sum) // -1 where a > v
	greater(a, v, t)
	sub(t, sum, sum)
	greater(v, b, t)
	add(t, sum, sum)
	greater(b, v, t)
	sub(t, sum, sum)
}

// edgeMasks is signs of words.
func edgeMasks(v, a, b VecVirtual) VecVirtual {
	sum := YMM()
	signs(v, a, b, sum, VPCMPGTW, VPSUBW, VPADDW)
	return sum
}

// saoCollect counts and adds up in bytes and words: the order of samples does not matter.
func saoCollect(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(pix *byte, stride int, src *byte, w, h, step int, sums *[8]int32)")
	Pragma("noescape")
	Doc(doc)
	pix, stride, src := Load(Param("pix"), GP64()), Load(Param("stride"), GP64()), Load(Param("src"), GP64())
	w, h, step := Load(Param("w"), GP64()), Load(Param("h"), GP64()), Load(Param("step"), GP64())
	size := 1
	if wide {
		size = 2
	}
	back, ones, g := GP64(), YMM(), GP32()
	MOVQ(step, back)
	NEGQ(back)
	MOVL(U32(0x01010101), g)
	VMOVD(g, ones.AsX())
	VPBROADCASTD(ones.AsX(), ones)
	flip := YMM()
	VPSLLW(Imm(7), ones, flip)
	var sums, counts [4]VecVirtual
	for i := range sums {
		sums[i], counts[i] = YMM(), YMM()
		VPXOR(sums[i], sums[i], sums[i])
		VPXOR(counts[i], counts[i], counts[i])
	}
	p, s, n := GP64(), GP64(), GP64()
	Label("rows")
	MOVQ(pix, p)
	MOVQ(src, s)
	MOVQ(w, n)
	Label("cols")
	edge, diff, value, t := YMM(), YMM(), YMM(), YMM()
	if wide {
		half := func(offset int, edge, diff VecVirtual) { // 16 samples
			v, a, b := YMM(), YMM(), YMM()
			VMOVDQU(Mem{Base: p, Disp: offset}, v)
			VMOVDQU(Mem{Base: p, Index: step, Scale: 1, Disp: offset}, a)
			VMOVDQU(Mem{Base: p, Index: back, Scale: 1, Disp: offset}, b)
			signs(v, a, b, edge, VPCMPGTW, VPSUBW, VPADDW)
			VMOVDQU(Mem{Base: s, Disp: offset}, diff)
			VPSUBW(v, diff, diff)
		}
		half(0, edge, diff)
		nextEdge, nextDiff := YMM(), YMM()
		VPXOR(nextEdge, nextEdge, nextEdge)
		VPXOR(nextDiff, nextDiff, nextDiff)
		CMPQ(n, Imm(16))
		JE(LabelRef("narrow"))
		half(32, nextEdge, nextDiff)
		Label("narrow")
		VPACKSSWB(nextEdge, edge, edge)
		VPACKSSWB(nextDiff, diff, diff)
	} else {
		v, a, b, in := value, YMM(), t, diff
		load := func(part func(v VecVirtual) VecVirtual) {
			VMOVDQU(Mem{Base: p}, part(v))
			VMOVDQU(Mem{Base: p, Index: step, Scale: 1}, part(a))
			VMOVDQU(Mem{Base: p, Index: back, Scale: 1}, part(b))
			VMOVDQU(Mem{Base: s}, part(in))
		}
		CMPQ(n, Imm(16))
		JE(LabelRef("narrow"))
		load(func(v VecVirtual) VecVirtual { return v })
		JMP(LabelRef("loaded"))
		Label("narrow")
		load(func(v VecVirtual) VecVirtual { return v.AsX().(VecVirtual) })
		Label("loaded")
		for _, x := range []VecVirtual{v, a, b, in} {
			VPXOR(flip, x, x) // compare as signed
		}
		signs(v, a, b, edge, VPCMPGTB, VPSUBB, VPADDB)
		VPSUBSB(v, in, diff)
	}
	Label("count")
	for i, k := range []int{-2, -1, 1, 2} {
		switch k { // value is k in each byte, made of the ones
		case -2:
			VPXOR(value, value, value)
			VPSUBB(ones, value, value)
			VPSUBB(ones, value, value)
		case -1:
			VPADDB(ones, value, value)
		case 1:
			VMOVDQA(ones, value)
		case 2:
			VPADDB(ones, value, value)
		}
		VPCMPEQB(value, edge, t)
		VPSUBB(t, counts[i], counts[i]) // masks are -1
		VPAND(diff, t, t)
		VPMADDUBSW(t, ones, t)
		VPADDW(t, sums[i], sums[i])
	}
	ADDQ(Imm(uint64(32*size)), p)
	ADDQ(Imm(uint64(32*size)), s)
	SUBQ(Imm(32), n)
	JG(LabelRef("cols"))
	ADDQ(stride, pix)
	ADDQ(stride, src)
	DECQ(h)
	JNZ(LabelRef("rows"))
	out := Load(Param("sums"), GP64())
	words := YMM()
	VPCMPEQW(words, words, words)
	VPSRLW(Imm(15), words, words)
	for i := range sums {
		VPMADDWD(words, sums[i], sums[i])
		foldTo(sums[i], Mem{Base: out, Disp: 8 * i})
		VPXOR(t, t, t)
		VPSADBW(t, counts[i], counts[i])
		foldTo(counts[i], Mem{Base: out, Disp: 8*i + 4})
	}
	VZEROUPPER()
	RET()
}

// foldTo stores the sum of the double words of a vector.
func foldTo(v VecVirtual, to Mem) {
	fold(v)
	VMOVD(v.AsX(), to)
}

// fold leaves the sum of the double words of a vector in its first one.
func fold(v VecVirtual) {
	half := XMM()
	VEXTRACTI128(Imm(1), v, half)
	VPADDD(half, v.AsX(), v.AsX())
	VPSHUFD(Imm(0x4E), v.AsX(), half)
	VPADDD(half, v.AsX(), v.AsX())
	VPSHUFD(Imm(0xB1), v.AsX(), half)
	VPADDD(half, v.AsX(), v.AsX())
}

func saoEdges(name, doc string, wide bool) {
	more := ""
	if wide {
		more = ", most int"
	}
	TEXT(name, attr.NOSPLIT, "func(dst, old *byte, stride, step, w, h int, offsets *[8]int16"+more+")")
	Pragma("noescape")
	Doc(doc + " Strides are in bytes, w is in samples, a multiple of 16; offsets are by edgeIdx from 0.")
	dst, old, w, h := Load(Param("dst"), GP64()), Load(Param("old"), GP64()), Load(Param("w"), GP64()), Load(Param("h"), GP64())
	skip, after, before, n := Load(Param("stride"), GP64()), Load(Param("step"), GP64()), GP64(), GP64()
	MOVQ(after, before)
	NEGQ(before)
	if SUBQ(w, skip); wide { // from the end of a row to the next one
		SUBQ(w, skip)
	}
	table, two, zero := YMM(), YMM(), YMM()
	VBROADCASTI128(Mem{Base: Load(Param("offsets"), GP64())}, table)
	g := GP64()

	MOVQ(U64(0x0100), g)
	VMOVD(g.As32(), zero.AsX())
	VPBROADCASTW(zero.AsX(), zero)
	MOVQ(U64(2), g)
	VMOVD(g.As32(), two.AsX())
	VPBROADCASTW(two.AsX(), two)
	limit := VecVirtual(nil)
	if wide {
		limit = most()
	}
	size := 1
	if wide {
		size = 2
	}
	load := avoblock.LoadWords(wide, false)
	Label("rows")
	MOVQ(w, n)
	Label("cols")
	v, x, y := YMM(), YMM(), YMM()
	load(Mem{Base: old}, v)
	load(Mem{Base: old, Index: after, Scale: 1}, x)
	load(Mem{Base: old, Index: before, Scale: 1}, y)
	edge := edgeMasks(v, x, y)
	VPADDW(two, edge, edge)
	VPSLLW(Imm(8), edge, x)
	VPOR(x, edge, edge) // in both bytes
	VPADDB(edge, edge, edge)
	VPADDB(zero, edge, edge)
	VPSHUFB(edge, table, x)
	VPADDSW(x, v, v)
	if wide {
		VPXOR(y, y, y)
		VPMINSW(limit, v, v)
		VPMAXSW(y, v, v)
		VMOVDQU(v, Mem{Base: dst})
	} else {
		VPACKUSWB(v, v, v)
		VPERMQ(Imm(0xD8), v, v)
		VMOVDQU(v.AsX(), Mem{Base: dst})
	}
	ADDQ(Imm(uint64(16*size)), dst)
	ADDQ(Imm(uint64(16*size)), old)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("cols"))
	ADDQ(skip, dst)
	ADDQ(skip, old)
	DECQ(h)
	JNZ(LabelRef("rows"))
	VZEROUPPER()
	RET()
}

func worth() {
	TEXT("worthFast", attr.NOSPLIT, "func(c, levels *int16, n, factor, shift int) (gain, bits int)")
	Pragma("noescape")
	Doc("worthFast is levelsWorth of n coefficients, a multiple of 8.")
	c, levels, n := Load(Param("c"), GP64()), Load(Param("levels"), GP64()), Load(Param("n"), GP64())
	factor, shift := YMM(), shiftCount("shift")
	VMOVD(Load(Param("factor"), GP64()).(GPVirtual).As32(), factor.AsX())
	VPBROADCASTD(factor.AsX(), factor)
	gain, bits, zero := YMM(), YMM(), YMM()
	for _, v := range []VecVirtual{gain, bits, zero} {
		VPXOR(v, v, v)
	}
	most, largest, bias := doubles(1<<10-1), doubles(1<<4), doubles(127-2)
	Label("eight")
	level, s, t := YMM(), YMM(), YMM()
	VPMOVSXWD(Mem{Base: levels}, level)
	VPABSD(level, level)
	VPMINSD(largest, level, level)
	VPMOVSXWD(Mem{Base: c}, s)
	VPABSD(s, s)
	VPMULLD(factor, s, s)
	VPSRLD(shift, s, s)
	VPMINUD(most, s, s)
	VPSLLD(Imm(6), level, t)
	VPSUBD(t, s, t)
	VPMULLD(t, t, t)
	VPMULLD(s, s, s)
	VPSUBD(t, s, s)
	VPADDD(s, gain, gain)
	VCVTDQ2PS(level, t)
	VPSRLD(Imm(23), t, t)
	VPSUBD(bias, t, t) // 2 and the logarithm
	VPSLLD(Imm(1), t, t)
	VPCMPGTD(zero, level, level)
	VPAND(level, t, t)
	VPADDD(t, bits, bits)
	ADDQ(Imm(16), c)
	ADDQ(Imm(16), levels)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("eight"))
	for i, v := range []VecVirtual{gain, bits} {
		out := GP64()
		fold(v)
		VMOVD(v.AsX(), out.As32())
		MOVLQSX(out.As32(), out)
		Store(out, ReturnIndex(i))
	}
	VZEROUPPER()
	RET()
}

// deblock filters eight lines across an edge, with a threshold tc for each half of them: a vertical edge has
// the lines in rows. Words hold what 10 bits lead to. Masks tell the lines that a filter changes.
func deblock(wide, vertical bool) {
	name, doc := "deblockAcrossFast", "filters eight columns across a horizontal edge."
	if vertical {
		name, doc = "deblockDownFast", "filters eight rows across a vertical edge."
	}
	if wide {
		name = name[:len(name)-4] + "WideFast"
	}
	TEXT(name, attr.NOSPLIT, "func(pix *byte, stride, beta, tc0, tc1, most int)")
	Pragma("noescape")
	Doc(name + " " + doc)
	pix, stride, triple := Load(Param("pix"), GP64()), Load(Param("stride"), GP64()), GP64()
	LEAQ(Mem{Base: stride, Index: stride, Scale: 2}, triple)
	start, rows := GP64(), [8]Mem{} // start is the first line
	MOVQ(pix, start)
	var l [8]VecVirtual     // p3 to q3
	second := Register(pix) // the fifth line
	if vertical {
		if SUBQ(Imm(4), start); wide {
			SUBQ(Imm(4), start)
		}
		second = GP64()
		LEAQ(Mem{Base: start, Index: stride, Scale: 4}, second)
	} else {
		SUBQ(stride, start)
		SUBQ(triple, start)
	}
	for i, m := range []Mem{{}, {Index: stride, Scale: 1}, {Index: stride, Scale: 2}, {Index: triple, Scale: 1}} {
		rows[i], rows[4+i] = m, m
		rows[i].Base, rows[4+i].Base = start, second
	}
	if vertical {
		l = loadColumns(rows, wide)
	} else {
		for i, m := range rows {
			if l[i] = XMM(); wide {
				VMOVDQU(m, l[i])
			} else {
				VPMOVZXBW(m, l[i])
			}
		}
	}
	beta := avoblock.Words(Load(Param("beta"), GP64()))
	bend := func(a, b, c VecVirtual) VecVirtual { // |a - 2b + c|
		d := XMM()
		VPADDW(a, c, d)
		VPSUBW(b, d, d)
		VPSUBW(b, d, d)
		VPABSW(d, d)
		return d
	}
	add := func(a, b, sum Op) { VPADDW(a, b, sum) }
	// outer combines the first and the last line of each half.
	outer := func(v VecVirtual, combine func(a, b, sum Op)) {
		first := XMM()
		VPSHUFLW(Imm(0), v, first)
		VPSHUFHW(Imm(0), first, first)
		VPSHUFLW(Imm(0xFF), v, v)
		VPSHUFHW(Imm(0xFF), v, v)
		combine(first, v, v)
	}
	dp, dq, t := bend(l[1], l[2], l[3]), bend(l[6], l[5], l[4]), XMM()
	strong, filtered, limit := XMM(), XMM(), XMM()
	VPADDW(dp, dq, t)
	VPADDW(t, t, strong)
	outer(t, add)
	VPCMPGTW(t, beta, filtered)
	any := GP32()
	VPMOVMSKB(filtered, any)
	TESTL(any, any)
	JZ(LabelRef("end"))
	// The strong filter, where both outer lines are flat.
	VPSRLW(Imm(2), beta, limit)
	VPCMPGTW(strong, limit, strong)
	flat := func(v VecVirtual) {
		VPCMPGTW(v, limit, v)
		VPAND(v, strong, strong)
	}
	VPSRLW(Imm(1), limit, limit)
	distance(l[0], l[3], t)
	other := XMM()
	distance(l[4], l[7], other)
	VPADDW(other, t, t)
	flat(t)
	tc := avoblock.Words(Load(Param("tc0"), GP64()))
	VPUNPCKLQDQ(avoblock.Words(Load(Param("tc1"), GP64())), tc, tc)
	VPSLLW(Imm(2), tc, limit) // (5*tc + 1) >> 1
	VPADDW(tc, limit, limit)
	VPXOR(t, t, t)
	VPAVGW(t, limit, limit)
	distance(l[3], l[4], t)
	flat(t)
	outer(strong, VPAND)
	VPAND(filtered, strong, strong)
	VPANDN(filtered, strong, filtered) // those of the weak filter
	VPMOVMSKB(filtered, any)
	TESTL(any, any)
	JZ(LabelRef("strong"))
	VPSRLW(Imm(1), beta, limit) // (beta + beta>>1) >> 3
	VPADDW(beta, limit, limit)
	VPSRLW(Imm(3), limit, limit)
	for _, v := range []VecVirtual{dp, dq} {
		outer(v, add)
		VPCMPGTW(v, limit, v)
	}
	smoothEdge(l, filtered, [2]VecVirtual{dp, dq}, tc, wide)
	VPMOVMSKB(strong, any)
	TESTL(any, any)
	JZ(LabelRef("store"))
	Label("strong")
	VPAND(strong, tc, tc) // 0 changes nothing
	smoothStrongly(l, tc)
	Label("store")
	if vertical {
		storeColumns(rows, l, wide)
	} else {
		for i := 1; i < 7; i++ {
			if wide {
				VMOVDQU(l[i], rows[i])
			} else {
				VPACKUSWB(l[i], l[i], l[i])
				VMOVQ(l[i], rows[i])
			}
		}
	}
	Label("end")
	RET()
}

// distance sets d to |a - b|.
func distance(a, b, d VecVirtual) {
	VPSUBW(a, b, d)
	VPABSW(d, d)
}

// negative returns -v.
func negative(v VecVirtual) VecVirtual {
	x := XMM()
	VPXOR(x, x, x)
	VPSUBW(v, x, x)
	return x
}

// total returns the sum of samples, each as often as it is listed, and shifts it after rounding.
func total(shift uint64, list ...VecVirtual) VecVirtual {
	x, half := XMM(), XMM()
	VPCMPEQW(half, half, half)
	VPSRLW(Imm(15), half, half)
	VPSLLW(Imm(shift-1), half, half)
	VPADDW(list[0], list[1], x)
	for _, v := range list[2:] {
		VPADDW(v, x, x)
	}
	VPADDW(half, x, x)
	VPSRLW(Imm(shift), x, x)
	return x
}

// smoothStrongly filters strongly, by no more than two tc.
func smoothStrongly(l [8]VecVirtual, tc VecVirtual) {
	p3, p2, p1, p0, q0, q1, q2, q3 := l[0], l[1], l[2], l[3], l[4], l[5], l[6], l[7]
	VPADDW(tc, tc, tc)
	middle := XMM() // p0 + q0
	VPADDW(p0, q0, middle)
	results := [6]VecVirtual{
		total(3, p3, p3, p2, p2, p2, p1, middle), total(2, p2, p1, middle), total(3, p2, p1, p1, middle, middle, q1),
		total(3, p1, middle, middle, q1, q1, q2), total(2, middle, q1, q2), total(3, middle, q1, q2, q2, q2, q3, q3),
	}
	for i, r := range results {
		low, old := XMM(), l[i+1]
		VPSUBW(tc, old, low)
		VPADDW(tc, old, old)
		VPMINSW(old, r, old)
		VPMAXSW(low, old, old)
	}
}

// smoothEdge filters weakly where the mask filtered says so; sides are where a second sample of P and of Q is
// changed.
func smoothEdge(l [8]VecVirtual, filtered VecVirtual, sides [2]VecVirtual, tc VecVirtual, wide bool) {
	p2, p1, p0, q0, q1, q2 := l[1], l[2], l[3], l[4], l[5], l[6]
	d, t, clip := XMM(), XMM(), XMM()
	VPSUBW(p0, q0, d) // (9*(q0-p0) - 3*(q1-p1) + 8) >> 4
	VPSLLW(Imm(3), d, t)
	VPADDW(t, d, d)
	VPSUBW(p1, q1, t)
	VPSUBW(t, d, d)
	VPADDW(t, t, t)
	VPSUBW(t, d, d)
	VPCMPEQW(t, t, t)
	VPSRLW(Imm(15), t, t)
	VPSLLW(Imm(3), t, t)
	VPADDW(t, d, d)
	VPSRAW(Imm(4), d, d)
	VPADDW(tc, tc, clip) // lines whose step is less than 10*tc
	VPSLLW(Imm(2), clip, t)
	VPADDW(t, clip, clip)
	VPABSW(d, t)
	VPCMPGTW(t, clip, clip)
	VPAND(clip, filtered, filtered)
	limit := func(v VecVirtual, most VecVirtual) { // to -most to most
		low := negative(most)
		VPMINSW(most, v, v)
		VPMAXSW(low, v, v)
	}
	limit(d, tc)
	VPAND(filtered, d, d)
	for _, v := range sides {
		VPAND(filtered, v, v)
	}
	VPSRLW(Imm(1), tc, clip)
	for i, part := range [2][3]VecVirtual{{p2, p1, p0}, {q2, q1, q0}} {
		outer, middle, near := part[0], part[1], part[2]
		VPAVGW(outer, near, t)
		VPSUBW(middle, t, t)
		if i == 0 {
			VPADDW(d, t, t)
		} else {
			VPSUBW(d, t, t)
		}
		VPSRAW(Imm(1), t, t)
		limit(t, clip)
		VPAND(sides[i], t, t)
		VPADDW(t, middle, middle)
	}
	VPADDW(d, p0, p0)
	VPSUBW(d, q0, q0)
	if !wide {
		return // storing clips to 8 bits
	}
	most := avoblock.Words(Load(Param("most"), GP64()))
	VPXOR(t, t, t)
	for _, v := range []VecVirtual{p1, p0, q0, q1} {
		VPMAXSW(t, v, v)
		VPMINSW(most, v, v)
	}
}

// loadColumns turns eight rows of eight samples into eight vectors of words, a column each.
func loadColumns(rows [8]Mem, wide bool) (l [8]VecVirtual) {
	for i, m := range rows {
		if l[i] = XMM(); wide {
			VMOVDQU(m, l[i])
		} else {
			VMOVQ(m, l[i])
		}
	}
	if wide {
		return [8]VecVirtual(avoblock.Transposed(l[:], avoblock.WordElements))
	}
	for k := range 4 {
		VPUNPCKLBW(l[k+4], l[k], l[k])
	}
	for i, x := range avoblock.Transposed(l[:4], avoblock.ByteElements) { // two columns
		l[2*i], l[2*i+1] = XMM(), XMM()
		VPSRLDQ(Imm(8), x, l[2*i+1])
		VPMOVZXBW(x, l[2*i])
		VPMOVZXBW(l[2*i+1], l[2*i+1])
	}
	return l
}

// storeColumns is the inverse of loadColumns.
func storeColumns(rows [8]Mem, l [8]VecVirtual, wide bool) {
	if wide {
		for i, x := range avoblock.Transposed(l[:], avoblock.WordElements) {
			VMOVDQU(x, rows[i])
		}
		return
	}
	for k := range 4 {
		high := XMM()
		VPACKUSWB(l[k+4], l[k], l[k])
		VPSRLDQ(Imm(8), l[k], high)
		VPUNPCKLBW(high, l[k], l[k])
	}
	for i, x := range avoblock.Transposed(l[:4], avoblock.ByteElements) { // two rows
		VMOVQ(x, rows[2*i])
		VPEXTRQ(Imm(1), x, rows[2*i+1])
	}
}
