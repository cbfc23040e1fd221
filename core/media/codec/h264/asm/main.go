// Command asm writes the assembly twins of the inner loops for amd64 with
// AVX2. Each function does what the Go function of the same name without Fast
// does, for samples of 8 bits. Run it with go generate in the folder above.
package main

import (
	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"vividstrain/core/media/codec/avoblock"
)

func main() {
	ConstraintExpr("amd64")
	bilinear()
	filter("acrossFast", "acrossFast filters w x h samples with six taps in a row.", false)
	filter("downFast", "downFast filters w x h samples with six taps in a column.", true)
	center("centerFast", "centerFast filters w x h samples with six taps both ways.", false)
	center("centerWideFast", "centerWideFast is centerFast for samples of two bytes, clipped to most.", true)
	add4("add4Fast", "transforms a 4x4 block, adds it to dst and clears it.", false)
	add4("add4WideFast", "is add4Fast for samples of two bytes.", true)
	add8("add8Fast", "transforms an 8x8 block, adds it to dst and clears it.", false)
	add8("add8WideFast", "is add8Fast for samples of two bytes.", true)
	addBlocks()
	addDC()
	addDCWide()
	addDCs()
	// Shuffles four words into sixteen, each four times.
	eachFour := bytesOf("fours", 32, func(i int) int { return i/8*2 + i%2 })
	addDCsWide(eachFour)
	lumaEdges(eachFour)
	lumaInner(eachFour)
	chromaEdges()
	bilinearWide()
	filterWide("acrossWideFast", "acrossWideFast is acrossFast for samples of two bytes, clipped to most.", false)
	filterWide("downWideFast", "downWideFast is downFast for samples of two bytes, clipped to most.", true)
	plane()
	smooth()
	directions4()
	directions8()
	satdEach4()
	satdEach8()
	forward4("forward4Fast", "forward4Fast is forward4.", false)
	forward4("forward4WideFast", "forward4WideFast is forward4 for samples of two bytes.", true)
	forward8("forward8Fast", "forward8Fast is forward8.", false)
	forward8("forward8WideFast", "forward8WideFast is forward8 for samples of two bytes.", true)
	quantise8()
	bitCost()
	quantiseBlocks()
	queueFlags()
	cavlc()
	borderSums()
	chromaDC()
	lumaDC()
	Generate()
}

func bilinear() {
	b := avoblock.Begin("bilinearFast", attr.NOSPLIT, "bilinearFast interpolates w = 8, 4 or 2 samples a row at dx, dy eighths.", ", dx, dy int")
	dx, dy := Load(Param("dx"), GP64()), Load(Param("dy"), GP64())
	// The weights (8-dx, dx) of neighbours as bytes.
	a, t := GP64(), GP64()
	MOVQ(U64(8), a)
	SUBQ(dx, a)
	MOVQ(dx, t)
	SHLQ(Imm(8), t)
	ORQ(t, a)
	across := avoblock.Words(a)
	below := avoblock.Words(dy)
	MOVQ(U64(8), a)
	SUBQ(dy, a)
	above := avoblock.Words(a)
	round := avoblock.WordConstant(32)
	row := func(at Mem) VecVirtual {
		x, y := XMM(), XMM()
		VMOVQ(at, x)
		VMOVQ(at.Offset(1), y)
		VPUNPCKLBW(y, x, x)
		VPMADDUBSW(across, x, x)
		return x
	}
	last := XMM()
	b.ByWidthAfter("bilinear", []int{8, 4, 2}, func(int) {
		VMOVDQA(row(b.SrcAt(0)), last)
	}, func(w int) {
		x, y, next := XMM(), XMM(), row(Mem{Base: b.Src, Index: b.Step, Scale: 1})
		VPMULLW(above, last, x)
		VPMULLW(below, next, y)
		VMOVDQA(next, last)
		VPADDW(y, x, x)
		VPADDW(round, x, x)
		VPSRLW(Imm(6), x, x)
		VPACKUSWB(x, x, x)
		avoblock.StoreBytes(x, b.DstAt(), w)
	})
}

// tap sums six words: a - 5b + 20c + 20d - 5e + f.
func tap(load func(i int) VecVirtual, five, twenty VecVirtual) VecVirtual {
	sum := load(2)
	VPADDW(load(3), sum, sum)
	VPMULLW(twenty, sum, sum)
	inner := load(1)
	VPADDW(load(4), inner, inner)
	VPMULLW(five, inner, inner)
	VPSUBW(inner, sum, sum)
	VPADDW(load(0), sum, sum)
	VPADDW(load(5), sum, sum)
	return sum
}

// spread copies a vector of words to both halves of a wide register.
func spread(x VecVirtual) VecVirtual {
	y := YMM()
	VPBROADCASTW(x, y)
	return y
}

func filter(name, doc string, down bool) {
	b := avoblock.Begin(name, attr.NOSPLIT, doc, "")
	five, twenty, round := avoblock.WordConstant(5), avoblock.WordConstant(20), avoblock.WordConstant(16)
	fiveW, twentyW, roundW := spread(five), spread(twenty), spread(round)
	step3, step5 := GP64(), GP64()
	if down {
		LEAQ(Mem{Base: b.Step, Index: b.Step, Scale: 2}, step3)
		LEAQ(Mem{Base: b.Step, Index: b.Step, Scale: 4}, step5)
	}
	at := func(i int) Mem {
		if !down {
			return b.SrcAt(i)
		}
		switch i {
		case 0:
			return b.SrcAt(0)
		case 1, 2, 4:
			return Mem{Base: b.Src, Index: b.Step, Scale: uint8(i)}
		case 3:
			return Mem{Base: b.Src, Index: step3, Scale: 1}
		}
		return Mem{Base: b.Src, Index: step5, Scale: 1}
	}
	b.ByWidth(name, []int{16, 8, 4}, func(w int) {
		if w == 16 {
			sum := tap(func(i int) VecVirtual { y := YMM(); VPMOVZXBW(at(i), y); return y }, fiveW, twentyW)
			VPADDW(roundW, sum, sum)
			VPSRAW(Imm(5), sum, sum)
			high := XMM()
			VEXTRACTI128(Imm(1), sum, high)
			VPACKUSWB(high, sum.AsX(), high)
			VMOVDQU(high, b.DstAt())
			return
		}
		sum := tap(func(i int) VecVirtual { x := XMM(); VPMOVZXBW(at(i), x); return x }, five, twenty)
		VPADDW(round, sum, sum)
		VPSRAW(Imm(5), sum, sum)
		VPACKUSWB(sum, sum, sum)
		avoblock.StoreBytes(sum, b.DstAt(), w)
	})
}

// center filters rows into words on the stack, and those in columns. The sums of samples of
// 10 bits, -10230 to 42966, fit into words when moved down, which is made up for at last.
func center(name, doc string, wide bool) {
	more, moved := "", 0
	if wide {
		more, moved = ", most int", 16384
	}
	b := avoblock.Begin(name, 0, doc, more)
	var most, down VecVirtual
	load := func(i int) VecVirtual { y := YMM(); VPMOVZXBW(b.SrcAt(i), y); return y }
	if wide {
		b.Double()
		most, down = avoblock.Words(Load(Param("most"), GP64())), spread(avoblock.WordConstant(moved))
		load = func(i int) VecVirtual { y := YMM(); VMOVDQU(b.SrcAt(2*i), y); return y }
	}
	mid := AllocLocal(21 * 32)
	five, twenty := spread(avoblock.WordConstant(5)), spread(avoblock.WordConstant(20))
	rows, at := GP64(), GP64()
	MOVQ(b.H, rows)
	ADDQ(Imm(5), rows)
	LEAQ(mid, at)
	Label("centerrows")
	sum := tap(load, five, twenty)
	if wide {
		VPSUBW(down, sum, sum)
	}
	VMOVDQU(sum, Mem{Base: at})
	ADDQ(Imm(32), at)
	ADDQ(b.Step, b.Src)
	DECQ(rows)
	JNZ(LabelRef("centerrows"))

	pair := func(low, high int16) VecVirtual {
		g, x, y := GP64(), XMM(), YMM()
		MOVQ(I64(int64(uint32(uint16(low))|uint32(uint16(high))<<16)), g)
		VMOVD(g.As32(), x)
		VPBROADCASTD(x, y)
		return y
	}
	outer, middle, last := pair(1, -5), pair(20, 20), pair(-5, 1)
	round := YMM()
	{
		g, x := GP64(), XMM()
		MOVQ(U64(uint64(512+32*moved)), g) // 32 is what the taps add up to
		VMOVD(g.As32(), x)
		VPBROADCASTD(x, round)
	}
	LEAQ(mid, at)
	MOVQ(U64(0), b.Src) // the rows in mid are stepped through instead
	MOVQ(U64(0), b.Step)
	half := func(unpack func(ops ...Op)) VecVirtual {
		total := YMM()
		for i, weights := range []VecVirtual{outer, middle, last} {
			x, y := YMM(), YMM()
			VMOVDQU(Mem{Base: at, Disp: 64 * i}, x)
			VMOVDQU(Mem{Base: at, Disp: 64*i + 32}, y)
			unpack(y, x, x)
			VPMADDWD(weights, x, x)
			if i == 0 {
				VMOVDQA(x, total)
			} else {
				VPADDD(x, total, total)
			}
		}
		VPADDD(round, total, total)
		VPSRAD(Imm(10), total, total)
		return total
	}
	b.ByWidth("center", []int{16, 8, 4}, func(w int) {
		low := half(func(ops ...Op) { VPUNPCKLWD(ops[0], ops[1], ops[2]) })
		high := half(func(ops ...Op) { VPUNPCKHWD(ops[0], ops[1], ops[2]) })
		if wide {
			VPACKUSDW(high, low, low)
			limit := spread(most)
			VPMINUW(limit, low, low)
			if w < 16 {
				low = low.AsX().(VecVirtual)
			}
			avoblock.StoreWide(low, b.DstAt(), w)
		} else {
			VPACKSSDW(high, low, low)
			x := XMM()
			VEXTRACTI128(Imm(1), low, x)
			VPACKUSWB(x, low.AsX(), x)
			avoblock.StoreBytes(x, b.DstAt(), w)
		}
		ADDQ(Imm(32), at)
	})
}

// transpose4 turns four rows of four double words into columns.
func transpose4(r [4]VecVirtual) [4]VecVirtual {
	var t, o [4]VecVirtual
	for i := range t {
		t[i], o[i] = avoblock.Alike(r[0]), avoblock.Alike(r[0])
	}
	VPUNPCKLDQ(r[1], r[0], t[0])
	VPUNPCKHDQ(r[1], r[0], t[1])
	VPUNPCKLDQ(r[3], r[2], t[2])
	VPUNPCKHDQ(r[3], r[2], t[3])
	VPUNPCKLQDQ(t[2], t[0], o[0])
	VPUNPCKHQDQ(t[2], t[0], o[1])
	VPUNPCKLQDQ(t[3], t[1], o[2])
	VPUNPCKHQDQ(t[3], t[1], o[3])
	return o
}

// inverse4 is the one-dimensional transform of four vectors.
func inverse4(c [4]VecVirtual) [4]VecVirtual {
	e, f, g, h, t := avoblock.Alike(c[0]), avoblock.Alike(c[0]), avoblock.Alike(c[0]), avoblock.Alike(c[0]), avoblock.Alike(c[0])
	VPADDD(c[2], c[0], e)
	VPSUBD(c[2], c[0], f)
	VPSRAD(Imm(1), c[1], g)
	VPSUBD(c[3], g, g)
	VPSRAD(Imm(1), c[3], t)
	VPADDD(c[1], t, h)
	var o [4]VecVirtual
	for i := range o {
		o[i] = avoblock.Alike(c[0])
	}
	VPADDD(h, e, o[0])
	VPADDD(g, f, o[1])
	VPSUBD(g, f, o[2])
	VPSUBD(h, e, o[3])
	return o
}

// adding begins a function that adds to samples, of two bytes if wide; then there is the
// largest of them, too.
func adding(name, doc, params string, wide bool) (dst, stride Register, most VecVirtual) {
	if wide {
		params += ", most int"
	}
	TEXT(name, attr.NOSPLIT, "func(dst *byte, stride "+params+")")
	Pragma("noescape")
	Doc(name + " " + doc)
	dst, stride = Load(Param("dst"), GP64()), Load(Param("stride"), GP64())
	if wide {
		SHLQ(Imm(1), stride)
		most = avoblock.Words(Load(Param("most"), GP64()))
	}
	return dst, stride, most
}

func add4(name, doc string, wide bool) {
	dst, stride, most := adding(name, doc, "int, c *[16]int32", wide)
	c := Load(Param("c"), GP64())
	round, zero := XMM(), YMM()
	broadcastRounding(round)
	VPXOR(zero, zero, zero)
	r := load4(c, XMM)
	clear4(c, zero)
	inverseBoth(&r, round)
	if !wide {
		addRows(dst, stride, r)
	}
	for i := 0; i < 4 && wide; i += 2 {
		p, next := XMM(), Mem{Base: dst, Index: stride, Scale: 1}
		VPACKSSDW(r[i+1], r[i], r[i])
		VMOVQ(Mem{Base: dst}, p)
		VPINSRQ(Imm(1), next, p, p)
		VPADDSW(r[i], p, p)
		p = clipped(p, most)
		VMOVQ(p, Mem{Base: dst})
		VPEXTRQ(Imm(1), p, next)
		LEAQ(Mem{Base: dst, Index: stride, Scale: 2}, dst)
	}
	VZEROUPPER()
	RET()
}

// addRows adds four residuals to each of four rows of bytes. It changes dst.
func addRows(dst, stride Register, r [4]VecVirtual) {
	for i := 0; i < 4; i += 2 {
		p, next := XMM(), Mem{Base: dst, Index: stride, Scale: 1}
		VPACKSSDW(r[i+1], r[i], r[i])
		VMOVD(Mem{Base: dst}, p)
		VPINSRD(Imm(1), next, p, p)
		VPMOVZXBW(p, p)
		VPADDSW(r[i], p, p)
		VPACKUSWB(p, p, p)
		VMOVD(p, Mem{Base: dst})
		VPEXTRD(Imm(1), p, next)
		LEAQ(Mem{Base: dst, Index: stride, Scale: 2}, dst)
	}
}

// broadcastRounding sets what is added to a residual before its shift.
func broadcastRounding(round VecVirtual) {
	g := GP64()
	MOVQ(U64(32), g)
	VMOVD(g.As32(), round.AsX())
	VPBROADCASTD(round.AsX(), round)
}

// load4 loads the rows of a block into the lower halves of vectors.
func load4(c Register, vector func() VecVirtual) (r [4]VecVirtual) {
	for i := range r {
		r[i] = vector()
		VMOVDQU(Mem{Base: c, Disp: 16 * i}, r[i].AsX())
	}
	return r
}

// clear4 clears a block.
func clear4(c Register, zero VecVirtual) {
	VMOVDQU(zero, Mem{Base: c})
	VMOVDQU(zero, Mem{Base: c, Disp: 32})
}

// inverseBoth transforms blocks both ways to residuals.
func inverseBoth(r *[4]VecVirtual, round VecVirtual) {
	// The second transpose gave rows of columns: the result is by rows.
	*r = inverse4(transpose4(inverse4(transpose4(*r))))
	for i := range r {
		VPADDD(round, r[i], r[i])
		VPSRAD(Imm(6), r[i], r[i])
	}
}

// addBlocks writes what adds a set of blocks, two at a time: each half of a vector is of one of them.
func addBlocks() {
	dst, stride, _ := adding("addBlocksFast", "transforms a set of 4x4 blocks of c, adds those to dst and clears them; a place is four times the row of blocks, and the block in it.",
		"int, c *int32, set uint64, places *[16]uint8", false)
	c, set, places := Load(Param("c"), GP64()), Load(Param("set"), GP64()), Load(Param("places"), GP64())
	round, zero := YMM(), YMM()
	broadcastRounding(round)
	VPXOR(zero, zero, zero)
	k, t := GP64(), GP64()
	var at, block [2]GPVirtual
	for i := range at {
		at[i], block[i] = GP64(), GP64()
	}
	Label("pair")
	for i := range at {
		BSFQ(set, k)
		if i == 0 {
			JZ(LabelRef("done"))
		} else {
			JZ(LabelRef("single"))
		}
		MOVQ(set, t)
		DECQ(t)
		ANDQ(t, set)
		MOVBLZX(Mem{Base: places, Index: k, Scale: 1}, t.As32())
		SHLQ(Imm(6), k)
		LEAQ(Mem{Base: c, Index: k, Scale: 1}, block[i])
		MOVL(t.As32(), at[i].As32())
		ANDL(Imm(3), t.As32())
		SHRL(Imm(2), at[i].As32())
		IMULQ(stride, at[i])
		ADDQ(t, at[i])
		LEAQ(Mem{Base: dst, Index: at[i], Scale: 4}, at[i])
	}
	r := load4(block[0], YMM)
	for i := range r {
		VINSERTI128(Imm(1), Mem{Base: block[1], Disp: 16 * i}, r[i], r[i])
	}
	clear4(block[0], zero)
	clear4(block[1], zero)
	inverseBoth(&r, round)
	for i := 0; i < 4; i += 2 {
		p, high := YMM(), XMM()
		rows := [4]Mem{{Base: at[0]}, {Base: at[0], Index: stride, Scale: 1}, {Base: at[1]}, {Base: at[1], Index: stride, Scale: 1}}
		VPACKSSDW(r[i+1], r[i], r[i])
		VMOVD(rows[0], p.AsX())
		for k := 1; k < 4; k++ {
			VPINSRD(Imm(uint64(k)), rows[k], p.AsX(), p.AsX())
		}
		VPMOVZXBW(p.AsX(), p)
		VPADDSW(r[i], p, p)
		VPACKUSWB(p, p, p)
		VEXTRACTI128(Imm(1), p, high)
		VMOVD(p.AsX(), rows[0])
		VPEXTRD(Imm(1), p.AsX(), rows[1])
		VMOVD(high, rows[2])
		VPEXTRD(Imm(1), high, rows[3])
		for k := range at {
			LEAQ(Mem{Base: at[k], Index: stride, Scale: 2}, at[k])
		}
	}
	JMP(LabelRef("pair"))

	Label("single")
	r = load4(block[0], XMM)
	clear4(block[0], zero)
	inverseBoth(&r, round.AsX().(VecVirtual))
	addRows(at[0], stride, r)
	Label("done")
	VZEROUPPER()
	RET()
}

// transpose8 turns eight rows of eight double words into columns, in place.
func transpose8(r *[8]VecVirtual) {
	var t [8]VecVirtual
	for i := 0; i < 8; i += 2 {
		t[i], t[i+1] = YMM(), YMM()
		VPUNPCKLDQ(r[i+1], r[i], t[i])
		VPUNPCKHDQ(r[i+1], r[i], t[i+1])
	}
	var u [8]VecVirtual
	for i := 0; i < 8; i += 4 {
		for k := range 2 {
			u[i+2*k], u[i+2*k+1] = YMM(), YMM()
			VPUNPCKLQDQ(t[i+k+2], t[i+k], u[i+2*k])
			VPUNPCKHQDQ(t[i+k+2], t[i+k], u[i+2*k+1])
		}
	}
	for i := range 4 {
		low, high := YMM(), YMM()
		VPERM2I128(Imm(0x20), u[i+4], u[i], low)
		VPERM2I128(Imm(0x31), u[i+4], u[i], high)
		r[i], r[i+4] = low, high
	}
}

// inverse8 is the one-dimensional transform of eight vectors. Registers are
// scarce, so that some of them go through memory at spill.
func inverse8(c *[8]VecVirtual) {
	half := func(v VecVirtual, n uint64) VecVirtual {
		t := YMM()
		VPSRAD(Imm(n), v, t)
		return t
	}
	// The odd part.
	a1, a3, a5, a7 := YMM(), YMM(), YMM(), YMM()
	VPSUBD(c[3], c[5], a1)
	VPSUBD(c[7], a1, a1)
	VPSUBD(half(c[7], 1), a1, a1)
	VPADDD(c[7], c[1], a3)
	VPSUBD(c[3], a3, a3)
	VPSUBD(half(c[3], 1), a3, a3)
	VPSUBD(c[1], c[7], a5)
	VPADDD(c[5], a5, a5)
	VPADDD(half(c[5], 1), a5, a5)
	VPADDD(c[5], c[3], a7)
	VPADDD(c[1], a7, a7)
	VPADDD(half(c[1], 1), a7, a7)
	b1, b3, b5, b7 := c[1], c[3], c[5], c[7]
	VPADDD(half(a7, 2), a1, b1)
	VPSUBD(half(a1, 2), a7, b7)
	VPADDD(half(a5, 2), a3, b3)
	VPSUBD(a5, half(a3, 2), b5)
	// The even part.
	a0, a2, a4, a6 := YMM(), YMM(), YMM(), YMM()
	VPADDD(c[4], c[0], a0)
	VPSUBD(c[4], c[0], a2)
	VPSUBD(c[6], half(c[2], 1), a4)
	VPADDD(half(c[6], 1), c[2], a6)
	b0, b2, b4, b6 := c[0], c[2], c[4], c[6]
	VPADDD(a6, a0, b0)
	VPADDD(a4, a2, b2)
	VPSUBD(a4, a2, b4)
	VPSUBD(a6, a0, b6)
	o := [8]VecVirtual{YMM(), YMM(), YMM(), YMM(), YMM(), YMM(), YMM(), YMM()}
	VPADDD(b7, b0, o[0])
	VPSUBD(b7, b0, o[7])
	VPADDD(b5, b2, o[1])
	VPSUBD(b5, b2, o[6])
	VPADDD(b3, b4, o[2])
	VPSUBD(b3, b4, o[5])
	VPADDD(b1, b6, o[3])
	VPSUBD(b1, b6, o[4])
	*c = o
}

func add8(name, doc string, wide bool) {
	dst, stride, most := adding(name, doc, "int, c *[64]int32", wide)
	c := Load(Param("c"), GP64())
	var r [8]VecVirtual
	for i := range r {
		r[i] = YMM()
		VMOVDQU(Mem{Base: c, Disp: 32 * i}, r[i])
	}
	transpose8(&r)
	inverse8(&r)
	transpose8(&r)
	inverse8(&r)
	zero, round := YMM(), YMM()
	VPXOR(zero, zero, zero)
	for i := range r {
		VMOVDQU(zero, Mem{Base: c, Disp: 32 * i})
	}
	g, x := GP64(), XMM()
	MOVQ(U64(32), g)
	VMOVD(g.As32(), x)
	VPBROADCASTD(x, round)
	for i := range r {
		VPADDD(round, r[i], r[i])
		VPSRAD(Imm(6), r[i], r[i])
		high, p := XMM(), XMM()
		VEXTRACTI128(Imm(1), r[i], high)
		VPACKSSDW(high, r[i].AsX(), high)
		if wide {
			VPADDSW(Mem{Base: dst}, high, p)
			VMOVDQU(clipped(p, most), Mem{Base: dst})
		} else {
			VPMOVZXBW(Mem{Base: dst}, p)
			VPADDSW(high, p, p)
			VPACKUSWB(p, p, p)
			VMOVQ(p, Mem{Base: dst})
		}
		ADDQ(stride, dst)
	}
	VZEROUPPER()
	RET()
}

// addDCWide adds one value to all samples of a block.
func addDCWide() {
	dst, stride, most := adding("addDCWideFast", "adds v to size x size samples of two bytes.", "int, size, v int", true)
	v, x := avoblock.Words(Load(Param("v"), GP64())), XMM()
	CMPQ(Load(Param("size"), GP64()), Imm(8))
	JEQ(LabelRef("eight"))
	for range 4 {
		VMOVQ(Mem{Base: dst}, x)
		VPADDSW(v, x, x)
		VMOVQ(clipped(x, most), Mem{Base: dst})
		ADDQ(stride, dst)
	}
	RET()
	Label("eight")
	for range 8 {
		VPADDSW(Mem{Base: dst}, v, x)
		VMOVDQU(clipped(x, most), Mem{Base: dst})
		ADDQ(stride, dst)
	}
	RET()
}

// addDCsWide adds one number to each 4x4 block.
func addDCsWide(fours Mem) {
	dst, stride, most := adding("addDCsWideFast", "is addDCsFast for samples of two bytes.", "int, w, h int, dcs *[16]int16", true)
	x, y, limit := YMM(), YMM(), spread(most)
	byRowsOfBlocks("Wide", func(dcs Register) {
		VPBROADCASTQ(Mem{Base: dcs}, x)
		VPSHUFB(fours, x, x)
	}, func(w int) {
		if w == 16 {
			VPADDSW(Mem{Base: dst}, x, y)
			VMOVDQU(clipped(y, limit), Mem{Base: dst})
		} else {
			VMOVDQU(Mem{Base: dst}, y.AsX())
			VPADDSW(y, x, y)
			VMOVDQU(clipped(y, limit).AsX(), Mem{Base: dst})
		}
		ADDQ(stride, dst)
	})
	VZEROUPPER()
	RET()
}

// byRowsOfBlocks writes the loops over rows of 4x4 blocks, in a function of w, h and dcs: start takes the numbers
// of a row of blocks, line adds them to one of its four rows of w samples.
func byRowsOfBlocks(name string, start func(dcs Register), line func(w int)) {
	dcs, w, rows := Load(Param("dcs"), GP64()), Load(Param("w"), GP64()), Load(Param("h"), GP64())
	done := "done" + name
	CMPQ(w, Imm(8))
	JEQ(LabelRef("eight" + name))
	for i, width := range []int{16, 8} {
		label := []string{"sixteen", "eight"}[i] + name
		Label(label)
		start(dcs)
		for range 4 {
			line(width)
		}
		ADDQ(Imm(uint64(width/2)), dcs)
		SUBQ(Imm(4), rows)
		JNE(LabelRef(label))
		if i == 0 {
			JMP(LabelRef(done))
		}
	}
	Label(done)
}

// addDC adds one value to all samples of a block, or takes it off.
func addDC() {
	TEXT("addDCFast", attr.NOSPLIT, "func(dst *byte, stride, size int, plus, minus int)")
	Pragma("noescape")
	Doc("addDCFast adds plus to size x size samples and takes minus off them.")
	dst, stride, size := Load(Param("dst"), GP64()), Load(Param("stride"), GP64()), Load(Param("size"), GP64())
	bytes := func(name string) VecVirtual {
		x := XMM()
		VMOVD(Load(Param(name), GP64()).(GPVirtual).As32(), x)
		VPBROADCASTB(x, x)
		return x
	}
	plus, minus, x := bytes("plus"), bytes("minus"), XMM()
	CMPQ(size, Imm(8))
	JEQ(LabelRef("eight"))
	for range 4 {
		VMOVD(Mem{Base: dst}, x)
		VPADDUSB(plus, x, x)
		VPSUBUSB(minus, x, x)
		VMOVD(x, Mem{Base: dst})
		ADDQ(stride, dst)
	}
	RET()
	Label("eight")
	for range 8 {
		VMOVQ(Mem{Base: dst}, x)
		VPADDUSB(plus, x, x)
		VPSUBUSB(minus, x, x)
		VMOVQ(x, Mem{Base: dst})
		ADDQ(stride, dst)
	}
	RET()
}

// addDCs writes the sum of samples and one number for each 4x4 block.
func addDCs() {
	plus, minus := GLOBL("spreadPlus", attr.RODATA|attr.NOPTR), Mem{}
	for i := range 16 {
		DATA(i, U8(i/4))
	}
	minus = GLOBL("spreadMinus", attr.RODATA|attr.NOPTR)
	for i := range 16 {
		DATA(i, U8(8+i/4))
	}
	TEXT("addDCsFast", attr.NOSPLIT, "func(dst *byte, stride, w, h int, dcs *[16]int16)")
	Pragma("noescape")
	Doc("addDCsFast is addDCs.")
	dst, stride := Load(Param("dst"), GP64()), Load(Param("stride"), GP64())
	zero, x, y, v := XMM(), XMM(), XMM(), XMM()
	VPXOR(zero, zero, zero)
	byRowsOfBlocks("", func(dcs Register) {
		VMOVQ(Mem{Base: dcs}, x)
		VPSUBW(x, zero, y)
		VPACKUSWB(y, x, x)
		VPSHUFB(minus, x, y)
		VPSHUFB(plus, x, x)
	}, func(w int) {
		if w == 16 {
			VPADDUSB(Mem{Base: dst}, x, v)
			VPSUBUSB(y, v, v)
			VMOVDQU(v, Mem{Base: dst})
		} else {
			VMOVQ(Mem{Base: dst}, v)
			VPADDUSB(v, x, v)
			VPSUBUSB(y, v, v)
			VMOVQ(v, Mem{Base: dst})
		}
		ADDQ(stride, dst)
	})
	RET()
}
