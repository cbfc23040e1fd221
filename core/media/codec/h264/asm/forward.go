package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

// forward4 transforms samples of two bytes, or bytes: 16x4 or 8x8 of these as words, in which the transform fits.
func forward4(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(src *byte, stride int, pred *byte, step int, w, h int, c *int32)")
	Pragma("noescape")
	Doc(doc)
	src, stride := Load(Param("src"), GP64()), Load(Param("stride"), GP64())
	pred, step := Load(Param("pred"), GP64()), Load(Param("step"), GP64())
	w, h, out := Load(Param("w"), GP64()), Load(Param("h"), GP64()), Load(Param("c"), GP64())
	// rows goes through the block, n rows at a time, of which transform does the first four.
	rows := func(label string, n int, transform func()) {
		Label(label)
		transform()
		for range n / 4 {
			LEAQ(Mem{Base: src, Index: stride, Scale: 4}, src)
			LEAQ(Mem{Base: pred, Index: step, Scale: 4}, pred)
		}
		SUBQ(Imm(uint64(n)), h)
		JNZ(LabelRef(label))
		VZEROUPPER()
		RET()
	}
	zero := Mem{} // no further than src and pred
	if wide {
		avoblock.Block{Stride: stride, Step: step}.Double()
		x := GP64()
		CMPQ(w, Imm(4))
		JEQ(LabelRef(name + "four"))
		rows(name+"eights", 4, func() {
			XORQ(x, x)
			Label(name + "eight")
			forward4Doubles(src, stride, pred, step, out, Mem{Index: x, Scale: 2}, YMM, func(m, v Op) { VPMOVZXWD(m, v) })
			ADDQ(Imm(8), x)
			CMPQ(x, w)
			JL(LabelRef(name + "eight"))
		})
		Label(name + "four")
		rows(name+"fours", 4, func() { forward4Doubles(src, stride, pred, step, out, zero, XMM, func(m, v Op) { VPMOVZXWD(m, v) }) })
		return
	}
	CMPQ(w, Imm(8))
	JEQ(LabelRef(name + "eight"))
	JL(LabelRef(name + "four"))
	rows(name+"sixteens", 4, func() {
		forward4Words(src, stride, pred, step, out, func(m, _ Mem, v VecVirtual) { VPMOVZXBW(m, v) })
	})
	Label(name + "eight")
	rows(name+"eights", 8, func() {
		forward4Words(src, stride, pred, step, out, func(m, below Mem, v VecVirtual) {
			VMOVQ(m, v.AsX())
			VMOVHPS(below, v.AsX(), v.AsX())
			VPMOVZXBW(v.AsX(), v)
		})
	})
	Label(name + "four")
	rows(name+"fours", 4, func() { forward4Doubles(src, stride, pred, step, out, zero, XMM, func(m, v Op) { VPMOVZXBD(m, v) }) })
}

// forward4Doubles transforms two blocks beside each other in the halves of a vector, or one.
func forward4Doubles(src, stride, pred, step, out Register, along Mem, vec func() VecVirtual, widen func(m, v Op)) {
	load := func(p, by Register) (r [4]VecVirtual) {
		at := GP64()
		along.Base = p
		LEAQ(along, at)
		for i := range r {
			r[i] = vec()
			widen(Mem{Base: at}, r[i])
			if i < 3 {
				ADDQ(by, at)
			}
		}
		return r
	}
	r, p := load(src, stride), load(pred, step)
	for i := range r {
		VPSUBD(p[i], r[i], r[i])
	}
	r = analyse4(transpose4(r), doubleOps)
	r = analyse4(transpose4(r), doubleOps)
	for i, v := range r {
		VMOVDQU(v.AsX(), Mem{Base: out, Disp: 16 * i})
		if v.Size() == 32 {
			VEXTRACTI128(Imm(1), v, Mem{Base: out, Disp: 64 + 16*i})
		}
	}
	ADDQ(U32(4*r[0].Size()), out)
}

// forward4Words transforms four blocks: two in each half of a vector of words, which load fills with samples of a row
// and perhaps of the fourth row below.
func forward4Words(src, stride, pred, step, out Register, load func(m, below Mem, v VecVirtual)) {
	at, along := [2]Register{GP64(), GP64()}, [2]Register{stride, step}
	MOVQ(src, at[0])
	MOVQ(pred, at[1])
	var r [4]VecVirtual
	for i := range r {
		r[i] = YMM()
		p := YMM()
		for k, v := range [2]VecVirtual{r[i], p} {
			load(Mem{Base: at[k]}, Mem{Base: at[k], Index: along[k], Scale: 4}, v)
			if i < 3 {
				ADDQ(along[k], at[k])
			}
		}
		VPSUBW(p, r[i], r[i])
	}
	r = analyse4(r, wordOps)
	r = analyse4(avoblock.WordColumns(r[:]), wordOps)
	y, half := YMM(), XMM()
	for i, v := range avoblock.Transposed(r[:], avoblock.WordElements) { // two rows of a block each
		VPMOVSXWD(v.AsX(), y)
		VMOVDQU(y, Mem{Base: out, Disp: 32 * i})
		VEXTRACTI128(Imm(1), v, half)
		VPMOVSXWD(half, y)
		VMOVDQU(y, Mem{Base: out, Disp: 128 + 32*i})
	}
	ADDQ(U32(256), out)
}

// laneOps add and subtract vectors of words or of double words.
type laneOps struct{ add, sub func(ops ...Op) }

var (
	wordOps   = laneOps{VPADDW, VPSUBW}
	doubleOps = laneOps{VPADDD, VPSUBD}
)

// analyse4 is the one-dimensional transform of four vectors.
func analyse4(x [4]VecVirtual, lanes laneOps) [4]VecVirtual {
	s0, s1, d0, d1 := avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0])
	lanes.add(x[3], x[0], s0)
	lanes.add(x[2], x[1], s1)
	lanes.sub(x[3], x[0], d0)
	lanes.sub(x[2], x[1], d1)
	o := [4]VecVirtual{avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0])}
	lanes.add(s1, s0, o[0])
	lanes.sub(s1, s0, o[2])
	lanes.add(d0, d0, o[1])
	lanes.add(d1, o[1], o[1])
	lanes.add(d1, d1, o[3])
	lanes.sub(o[3], d0, o[3])
	return o
}

func forward8(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(src *byte, stride int, pred *byte, step int, c *[64]int32)")
	Pragma("noescape")
	Doc(doc)
	src, stride := Load(Param("src"), GP64()), Load(Param("stride"), GP64())
	pred, step := Load(Param("pred"), GP64()), Load(Param("step"), GP64())
	load := func(m Mem, to VecVirtual) { VPMOVZXBD(m, to) }
	if wide {
		load = func(m Mem, to VecVirtual) { VPMOVZXWD(m, to) }
		avoblock.Block{Stride: stride, Step: step}.Double()
	}
	var r [8]VecVirtual
	t := YMM()
	for i := range r {
		r[i] = YMM()
		load(Mem{Base: src}, r[i])
		load(Mem{Base: pred}, t)
		VPSUBD(t, r[i], r[i])
		if i < 7 {
			ADDQ(stride, src)
			ADDQ(step, pred)
		}
	}
	transpose8(&r)
	analyse8(&r)
	transpose8(&r)
	analyse8(&r)
	c := Load(Param("c"), GP64())
	for i := range r {
		VMOVDQU(r[i], Mem{Base: c, Disp: 32 * i})
	}
	VZEROUPPER()
	RET()
}

// quantise8 quantises 64 coefficients and, if levels are left, scales them.
func quantise8() {
	TEXT("quantise8Fast", attr.NOSPLIT, "func(c *[64]int32, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (has uint64)")
	Pragma("noescape")
	Doc("quantise8Fast is quantise8.")
	c, factors := Load(Param("c"), GP64()), Load(Param("factors"), GP64())
	var r [8]VecVirtual
	bias, shift, zero, y := YMM(), XMM(), YMM(), YMM()
	VMOVD(Load(Param("bias"), GP32()), bias.AsX())
	VPBROADCASTD(bias.AsX(), bias)
	VMOVQ(Load(Param("shift"), GP64()), shift)
	VPXOR(zero, zero, zero)
	has, bits := GP64(), GP64()
	XORQ(has, has)
	for i := 7; i >= 0; i-- {
		r[i] = YMM()
		VMOVDQU(Mem{Base: c, Disp: 32 * i}, r[i])
		VPABSD(r[i], y)
		VPMULLD(Mem{Base: factors, Disp: 32 * i}, y, y)
		VPADDD(bias, y, y)
		VPSRLD(shift, y, y)
		VPSIGND(r[i], y, r[i])
		VMOVDQU(r[i], Mem{Base: c, Disp: 32 * i})
		VPCMPEQD(zero, r[i], y)
		VMOVMSKPS(y, bits.As32())
		SHLQ(Imm(8), has)
		ORQ(bits, has)
	}
	NOTQ(has)
	Store(has, ReturnIndex(0))
	TESTQ(has, has)
	JZ(LabelRef("quantise8none"))
	scale, coeffs := Load(Param("scale"), GP64()), Load(Param("coeffs"), GP64())
	round := doubles(32)
	for i := range r {
		VPMULLD(Mem{Base: scale, Disp: 32 * i}, r[i], r[i])
		VPADDD(round, r[i], r[i])
		VPSRAD(Imm(6), r[i], r[i])
		VMOVDQU(r[i], Mem{Base: coeffs, Disp: 32 * i})
	}
	Label("quantise8none")
	VZEROUPPER()
	RET()
}

// doubles has v in each double word.
func doubles(v uint32) VecVirtual {
	g, y := GP32(), YMM()
	MOVL(U32(v), g)
	VMOVD(g, y.AsX())
	VPBROADCASTD(y.AsX(), y)
	return y
}

// bitCost adds up what 64 coefficients cost, of which each is the less of its square and
// what coding it takes.
func bitCost() {
	TEXT("bitCostFast", attr.NOSPLIT, "func(c, factors *[64]int32, shift uint) int")
	Pragma("noescape")
	Doc("bitCostFast is bitCost.")
	c, factors := Load(Param("c"), GP64()), Load(Param("factors"), GP64())
	shift, sum, x, square, bits, zero := XMM(), YMM(), YMM(), YMM(), YMM(), YMM()
	VMOVQ(Load(Param("shift"), GP64()), shift)
	most, one, base := doubles(1<<14-1), doubles((127+6)<<7), doubles(2570)
	VPXOR(sum, sum, sum)
	VPXOR(zero, zero, zero)
	for i := range 8 {
		VPABSD(Mem{Base: c, Disp: 32 * i}, x)
		VPMULLD(Mem{Base: factors, Disp: 32 * i}, x, x)
		VPSRLD(shift, x, x)
		VPMINUD(most, x, x)
		VPMULLD(x, x, square)
		VCVTDQ2PS(x, bits)
		VPSRLD(Imm(16), bits, bits)
		VPSUBD(one, bits, bits)
		VPMAXSD(zero, bits, bits)
		VPSLLD(Imm(3), bits, x)
		VPADDD(x, bits, bits)
		VPADDD(base, bits, bits)
		VPMINSD(square, bits, bits)
		VPADDD(bits, sum, sum)
	}
	avoblock.Fold(sum)
	avoblock.Finish(sum.AsX())
}

// analyse8 is the one-dimensional transform of eight vectors.
func analyse8(x *[8]VecVirtual) {
	half := func(v VecVirtual, n uint64) VecVirtual {
		t := YMM()
		VPSRAD(Imm(n), v, t)
		return t
	}
	var s, d [4]VecVirtual
	for i := range 4 {
		s[i], d[i] = YMM(), x[7-i]
		VPADDD(x[7-i], x[i], s[i])
		VPSUBD(x[7-i], x[i], d[i])
	}
	// The even part.
	e0, e1, e2, e3 := YMM(), s[1], YMM(), s[2]
	VPSUBD(s[3], s[0], e2)
	VPADDD(s[3], s[0], e0)
	t := YMM()
	VPSUBD(s[2], s[1], t)
	VPADDD(s[2], s[1], e1)
	VMOVDQA(t, e3)
	o := [8]VecVirtual{}
	for i := range o {
		if i%2 == 0 {
			o[i] = YMM()
		}
	}
	VPADDD(e1, e0, o[0])
	VPSUBD(e1, e0, o[4])
	VPADDD(half(e3, 1), e2, o[2])
	VPSUBD(e3, half(e2, 1), o[6])
	// The odd part.
	o0, o1, o2, o3 := YMM(), YMM(), YMM(), YMM()
	VPADDD(d[2], d[1], o0)
	VPADDD(d[0], o0, o0)
	VPADDD(half(d[0], 1), o0, o0)
	VPSUBD(d[3], d[0], o1)
	VPSUBD(d[2], o1, o1)
	VPSUBD(half(d[2], 1), o1, o1)
	VPADDD(d[3], d[0], o2)
	VPSUBD(d[1], o2, o2)
	VPSUBD(half(d[1], 1), o2, o2)
	VPSUBD(d[2], d[1], o3)
	VPADDD(d[3], o3, o3)
	VPADDD(half(d[3], 1), o3, o3)
	o[1], o[3], o[5], o[7] = d[0], d[1], d[2], d[3]
	VPADDD(half(o3, 2), o0, o[1])
	VPSUBD(o3, half(o0, 2), o[7])
	VPADDD(half(o2, 2), o1, o[3])
	VPSUBD(half(o1, 2), o2, o[5])
	*x = o
}

// quantiseBlocks turns the coefficients of 4x4 blocks into levels in place.
func quantiseBlocks() {
	TEXT("quantiseBlocksFast", attr.NOSPLIT, "func(c *int32, n int, factors *[16]int32, bias int32, shift uint, has *uint16)")
	Pragma("noescape")
	Doc("quantiseBlocksFast is quantiseBlocks of n blocks.")
	c, n, has := Load(Param("c"), GP64()), Load(Param("n"), GP64()), Load(Param("has"), GP64())
	factors := Load(Param("factors"), GP64())
	f := [2]VecVirtual{YMM(), YMM()}
	VMOVDQU(Mem{Base: factors}, f[0])
	VMOVDQU(Mem{Base: factors, Disp: 32}, f[1])
	bias, shift := YMM(), XMM()
	g := Load(Param("bias"), GP32())
	VMOVD(g, bias.AsX())
	VPBROADCASTD(bias.AsX(), bias)
	VMOVQ(Load(Param("shift"), GP64()), shift)
	zero, x, bits := YMM(), YMM(), GP64()
	VPXOR(zero, zero, zero)
	y := [2]VecVirtual{YMM(), YMM()}
	Label("quantiseblock")
	for i := range y {
		at := Mem{Base: c, Disp: 32 * i}
		VMOVDQU(at, x)
		VPABSD(x, y[i])
		VPMULLD(f[i], y[i], y[i])
		VPADDD(bias, y[i], y[i])
		VPSRLD(shift, y[i], y[i])
		VPSIGND(x, y[i], y[i])
		VMOVDQU(y[i], at)
		VPCMPEQD(zero, y[i], y[i])
	}
	VPACKSSDW(y[1], y[0], y[0]) // in each half four of the first and four of the second vector
	VPERMQ(Imm(0xD8), y[0], y[0])
	VPACKSSWB(y[0], y[0], y[0])
	VPERMQ(Imm(0xD8), y[0], y[0])
	VPMOVMSKB(y[0], bits.As32())
	NOTL(bits.As32())
	MOVW(bits.As16(), Mem{Base: has})
	ADDQ(Imm(64), c)
	ADDQ(Imm(2), has)
	DECQ(n)
	JNZ(LabelRef("quantiseblock"))
	VZEROUPPER()
	RET()
}
