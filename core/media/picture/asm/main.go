// Command asm writes the assembly of the scaler's inner loops for amd64 with
// AVX2. Run it with go generate in the folder above.
package main

import (
	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"
)

func main() {
	ConstraintExpr("amd64")
	down("downBytes", 1)
	down("downWords", 2)
	across()
	pack()
	tone()
	Generate()
}

// sliceHeader is the size of a slice in memory.
const sliceHeader = 24

// down filters down 16 columns at a time: two rows are interleaved and
// multiplied by two coefficients at once.
func down(name string, size int) {
	kind := map[int]string{1: "[]byte", 2: "[]uint16"}[size]
	TEXT(name, attr.NOSPLIT, "func(dst *int16, rows *"+kind+", coefficients *int16, taps, n, shift int)")
	Pragma("noescape")
	Doc(name + " makes n values, a multiple of 16, of an even number of rows.")
	dst, rows, coefficients := Load(Param("dst"), GP64()), Load(Param("rows"), GP64()), Load(Param("coefficients"), GP64())
	taps, n := Load(Param("taps"), GP64()), Load(Param("n"), GP64())
	count := GP64()
	Load(Param("shift"), count)
	shift, round := XMM(), YMM()
	VMOVQ(count, shift)
	one := GP64()
	MOVQ(U32(1), one)
	VMOVQ(one, round.AsX())
	VPBROADCASTD(round.AsX(), round)
	less := XMM()
	SUBQ(Imm(1), count)
	VMOVQ(count, less)
	VPSLLD(less, round, round)
	at := GP64() // bytes into the rows
	XORQ(at, at)
	c := YMM()
	column := func(label string, units int) {
		Label(label)
		sums := make([]VecVirtual, 2*units)
		for i := range sums {
			sums[i] = YMM()
			VMOVDQA(round, sums[i])
		}
		row, pair, left := GP64(), GP64(), GP64()
		MOVQ(rows, row)
		MOVQ(coefficients, pair)
		MOVQ(taps, left)
		Label(label + "_taps")
		first, second := GP64(), GP64()
		MOVQ(Mem{Base: row}, first)
		MOVQ(Mem{Base: row, Disp: sliceHeader}, second)
		VPBROADCASTD(Mem{Base: pair}, c)
		a, b, x := YMM(), YMM(), YMM()
		for u := range units {
			if size == 1 {
				VPMOVZXBW(Mem{Base: first, Index: at, Scale: 1, Disp: 16 * u}, a)
				VPMOVZXBW(Mem{Base: second, Index: at, Scale: 1, Disp: 16 * u}, b)
			} else {
				VMOVDQU(Mem{Base: first, Index: at, Scale: 1, Disp: 32 * u}, a)
				VMOVDQU(Mem{Base: second, Index: at, Scale: 1, Disp: 32 * u}, b)
			}
			VPUNPCKLWD(b, a, x)
			VPUNPCKHWD(b, a, a)
			VPMADDWD(c, x, x)
			VPMADDWD(c, a, a)
			VPADDD(x, sums[2*u], sums[2*u])
			VPADDD(a, sums[2*u+1], sums[2*u+1])
		}
		ADDQ(Imm(2*sliceHeader), row)
		ADDQ(Imm(4), pair)
		SUBQ(Imm(2), left)
		JNZ(LabelRef(label + "_taps"))
		for u := range units {
			low, high := sums[2*u], sums[2*u+1]
			VPSRAD(shift, low, low)
			VPSRAD(shift, high, high)
			VPACKSSDW(high, low, low)
			VMOVDQU(low, Mem{Base: dst, Disp: 32 * u})
		}
		ADDQ(Imm(uint64(32*units)), dst)
		ADDQ(Imm(uint64(16*size*units)), at)
		SUBQ(Imm(uint64(16*units)), n)
	}
	Label("columns")
	CMPQ(n, Imm(48))
	JL(LabelRef("few"))
	column("three", 3)
	JMP(LabelRef("columns"))
	Label("few")
	TESTQ(n, n)
	JZ(LabelRef("done"))
	column("one", 1)
	JMP(LabelRef("few"))
	Label("done")
	VZEROUPPER()
	RET()
}

// across makes eight results at a time; see filter.pack.
func across() {
	TEXT("acrossWords", attr.NOSPLIT, "func(dst *uint16, src, packed *int16, taps, n, shift int, most int32)")
	Pragma("noescape")
	Doc("acrossWords makes n values, a multiple of 8, with a number of taps that is one, too.")
	dst, src, packed := Load(Param("dst"), GP64()), Load(Param("src"), GP64()), Load(Param("packed"), GP64())
	n := Load(Param("n"), GP64())
	shift, round, most := XMM(), YMM(), YMM()
	{
		count := GP64()
		Load(Param("shift"), count)
		VMOVQ(count, shift)
		SUBQ(Imm(1), count)
		less := XMM()
		VMOVQ(count, less)
		MOVQ(U32(1), count)
		VMOVQ(count, round.AsX())
		VPBROADCASTD(round.AsX(), round)
		VPSLLD(less, round, round)
		Load(Param("most"), count.As32())
		VMOVD(count.As32(), most.AsX())
		VPBROADCASTD(most.AsX(), most)
	}
	Label("results")
	var from [8]GPVirtual
	for j := range from {
		from[j] = GP64()
		MOVLQSX(Mem{Base: packed, Disp: 4 * j}, from[j])
	}
	ADDQ(Imm(32), packed)
	var sums [4]VecVirtual
	base, taps := GP64(), GP64()
	MOVQ(src, base)
	Load(Param("taps"), taps)
	x := YMM()
	for j := range sums {
		sums[j] = YMM()
		VMOVDQU(Mem{Base: base, Index: from[j], Scale: 1}, sums[j].AsX())
		VINSERTI128(Imm(1), Mem{Base: base, Index: from[j+4], Scale: 1}, sums[j], sums[j])
		VPMADDWD(Mem{Base: packed, Disp: 32 * j}, sums[j], sums[j])
	}
	ADDQ(Imm(128), packed)
	SUBQ(Imm(8), taps)
	JZ(LabelRef("summed"))
	Label("eight")
	ADDQ(Imm(16), base)
	for j := range sums {
		VMOVDQU(Mem{Base: base, Index: from[j], Scale: 1}, x.AsX())
		VINSERTI128(Imm(1), Mem{Base: base, Index: from[j+4], Scale: 1}, x, x)
		VPMADDWD(Mem{Base: packed, Disp: 32 * j}, x, x)
		VPADDD(x, sums[j], sums[j])
	}
	ADDQ(Imm(128), packed)
	SUBQ(Imm(8), taps)
	JNZ(LabelRef("eight"))
	Label("summed")
	VPHADDD(sums[1], sums[0], sums[0])
	VPHADDD(sums[3], sums[2], sums[2])
	VPHADDD(sums[2], sums[0], sums[0])
	sum := sums[0]
	VPADDD(round, sum, sum)
	VPSRAD(shift, sum, sum)
	VPMINSD(most, sum, sum)
	high := XMM()
	VEXTRACTI128(Imm(1), sum, high)
	VPACKUSDW(high, sum.AsX(), high)
	VMOVDQU(high, Mem{Base: dst})
	ADDQ(Imm(16), dst)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("results"))
	VZEROUPPER()
	RET()
}

func pack() {
	TEXT("packBytes", attr.NOSPLIT, "func(dst *byte, src *uint16, n int)")
	Pragma("noescape")
	Doc("packBytes makes bytes of n values, a multiple of 16.")
	dst, src, n := Load(Param("dst"), GP64()), Load(Param("src"), GP64()), Load(Param("n"), GP64())
	x, y := XMM(), XMM()
	Label("pack")
	VMOVDQU(Mem{Base: src}, x)
	VMOVDQU(Mem{Base: src, Disp: 16}, y)
	VPACKUSWB(y, x, x)
	VMOVDQU(x, Mem{Base: dst})
	ADDQ(Imm(32), src)
	ADDQ(Imm(16), dst)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("pack"))
	RET()
}

// tone maps 2x2 blocks of luma with one sample of each chroma. Of a colour's place
// in the table all eight knots around it lie side by side: for the lower luma,
// then for the upper one those of the four pairs of chroma values.
func tone() {
	TEXT("mapBlocks", attr.NOSPLIT, "func(above, below, blue, red *byte, y0, y1, cb, cr *uint16, tables, weights *[8]int16, n int)")
	Pragma("noescape")
	Doc("mapBlocks maps n blocks.")
	cb, cr := Load(Param("cb"), GP64()), Load(Param("cr"), GP64())
	y0, y1 := Load(Param("y0"), GP64()), Load(Param("y1"), GP64())
	tables, weights := Load(Param("tables"), GP64()), Load(Param("weights"), GP64())
	count := GP64()
	XORQ(count, count)
	constant := func(v uint32) VecVirtual {
		g, x := GP32(), XMM()
		MOVL(U32(v), g)
		VMOVD(g, x)
		VPBROADCASTD(x, x)
		return x
	}
	low, whole, round, most := constant(15), constant(16), constant(1<<18), constant(1023<<16|1023)
	Label("block")
	// The cell of the chroma values, and how much its corners count.
	b, r, cell := GP64(), GP64(), GP64()
	MOVWLZX(Mem{Base: cb, Index: count, Scale: 2}, b.As32())
	MOVWLZX(Mem{Base: cr, Index: count, Scale: 2}, r.As32())
	limit := GP64()
	MOVL(U32(1023), limit.As32())
	CMPQ(b, limit)
	CMOVQGT(limit, b)
	CMPQ(r, limit)
	CMOVQGT(limit, r)
	part := GP64()
	MOVQ(b, cell)
	SHRQ(Imm(5), cell)
	SHLQ(Imm(5), cell)
	MOVQ(r, part)
	SHRQ(Imm(5), part)
	ADDQ(part, cell)
	SHLQ(Imm(10), cell) // 64 places of 16 bytes
	ANDQ(Imm(31), b)
	SHLQ(Imm(5), b)
	ANDQ(Imm(31), r)
	ADDQ(r, b)
	SHLQ(Imm(4), b)
	corner := XMM()
	VMOVDQU(Mem{Base: weights, Index: b, Scale: 1}, corner)
	ADDQ(tables, cell)
	// The four luma values, and their mean.
	luma, mean, x := XMM(), XMM(), XMM()
	VMOVD(Mem{Base: y0, Index: count, Scale: 4}, luma)
	VPINSRD(Imm(1), Mem{Base: y1, Index: count, Scale: 4}, luma, luma)
	VPMINUW(most, luma, luma)
	VPMOVZXWD(luma, luma)
	VPHADDD(luma, luma, mean)
	VPHADDD(mean, mean, mean)
	two := GP32()
	VMOVD(mean, two)
	ADDL(Imm(2), two)
	SHRL(Imm(2), two)
	// [16-f0 f0 16-f1 f1] and so on
	f, g, pairs, pairs2 := XMM(), XMM(), XMM(), XMM()
	VPAND(low, luma, f)
	VPSUBD(f, whole, g)
	VPUNPCKLDQ(f, g, pairs)
	VPUNPCKHDQ(f, g, pairs2)
	VPSRLD(Imm(4), luma, luma)
	VPSLLD(Imm(4), luma, luma)
	var sums [4]VecVirtual
	for i := range sums {
		at := GP32()
		if i == 0 {
			VMOVD(luma, at)
		} else {
			VPEXTRD(Imm(uint64(i)), luma, at)
		}
		sums[i] = XMM()
		VPMADDWD(Mem{Base: cell, Index: at.As64(), Scale: 1}, corner, sums[i])
	}
	VPHADDD(sums[1], sums[0], sums[0])
	VPHADDD(sums[3], sums[2], sums[2])
	VPMULLD(pairs, sums[0], sums[0])
	VPMULLD(pairs2, sums[2], sums[2])
	VPHADDD(sums[2], sums[0], x)
	finish := func() {
		VPADDD(round, x, x)
		VPSRLD(Imm(19), x, x)
		VPACKUSDW(x, x, x)
		VPACKUSWB(x, x, x)
	}
	finish()
	out := GP64()
	Load(Param("above"), out)
	VPEXTRW(Imm(0), x, Mem{Base: out, Index: count, Scale: 2})
	Load(Param("below"), out)
	VPEXTRW(Imm(1), x, Mem{Base: out, Index: count, Scale: 2})
	// Chroma by the mean.
	at := GP64()
	MOVL(two, at.As32())
	ANDL(Imm(15), two)
	VMOVD(two, f)
	VPSUBD(f, whole, g)
	VPUNPCKLDQ(f, g, pairs)
	VPUNPCKLQDQ(pairs, pairs, pairs)
	SHRQ(Imm(4), at)
	SHLQ(Imm(4), at)
	ADDQ(at, cell)
	const table = 32 * 32 * 64 * 16
	VPMADDWD(Mem{Base: cell, Disp: table}, corner, sums[0])
	VPMADDWD(Mem{Base: cell, Disp: 2 * table}, corner, sums[1])
	VPHADDD(sums[1], sums[0], sums[0])
	VPMULLD(pairs, sums[0], sums[0])
	VPHADDD(sums[0], sums[0], x)
	finish()
	Load(Param("blue"), out)
	VPEXTRB(Imm(0), x, Mem{Base: out, Index: count, Scale: 1})
	Load(Param("red"), out)
	VPEXTRB(Imm(1), x, Mem{Base: out, Index: count, Scale: 1})
	INCQ(count)
	n := GP64()
	Load(Param("n"), n)
	CMPQ(count, n)
	JL(LabelRef("block"))
	RET()
}
