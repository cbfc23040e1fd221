package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

func forward4(name, doc string, wide bool) {
	TEXT(name, attr.NOSPLIT, "func(src *byte, stride int, pred *byte, step int, w, h int, c *int32)")
	Pragma("noescape")
	Doc(doc)
	src, stride := Load(Param("src"), GP64()), Load(Param("stride"), GP64())
	pred, step := Load(Param("pred"), GP64()), Load(Param("step"), GP64())
	w, h, out := Load(Param("w"), GP64()), Load(Param("h"), GP64()), Load(Param("c"), GP64())
	bytes := 1
	if wide {
		bytes = 2
		avoblock.Block{Stride: stride, Step: step}.Double()
	}
	// Two blocks beside each other lie in the halves of a vector.
	blocks := func(label string, vec func() VecVirtual, x Register) {
		load := func(p, along Register) (r [4]VecVirtual) {
			at := GP64()
			LEAQ(Mem{Base: p, Index: x, Scale: uint8(bytes)}, at)
			for i := range r {
				r[i] = vec()
				if wide {
					VPMOVZXWD(Mem{Base: at}, r[i])
				} else {
					VPMOVZXBD(Mem{Base: at}, r[i])
				}
				if i < 3 {
					ADDQ(along, at)
				}
			}
			return r
		}
		r, p := load(src, stride), load(pred, step)
		for i := range r {
			VPSUBD(p[i], r[i], r[i])
		}
		r = analyse4(transpose4(r))
		r = analyse4(transpose4(r))
		for i, v := range r {
			VMOVDQU(v.AsX(), Mem{Base: out, Disp: 16 * i})
			if v.Size() == 32 {
				VEXTRACTI128(Imm(1), v, Mem{Base: out, Disp: 64 + 16*i})
			}
		}
		ADDQ(U32(4*r[0].Size()), out)
	}
	x := GP64()
	Label(name + "rows")
	XORQ(x, x)
	CMPQ(w, Imm(4))
	JEQ(LabelRef(name + "four"))
	Label(name + "eight")
	blocks(name, YMM, x)
	ADDQ(Imm(8), x)
	CMPQ(x, w)
	JL(LabelRef(name + "eight"))
	JMP(LabelRef(name + "next"))
	Label(name + "four")
	blocks(name, XMM, x)
	Label(name + "next")
	LEAQ(Mem{Base: src, Index: stride, Scale: 4}, src)
	LEAQ(Mem{Base: pred, Index: step, Scale: 4}, pred)
	SUBQ(Imm(4), h)
	JNZ(LabelRef(name + "rows"))
	VZEROUPPER()
	RET()
}

// analyse4 is the one-dimensional transform of four vectors.
func analyse4(x [4]VecVirtual) [4]VecVirtual {
	s0, s1, d0, d1 := avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0])
	VPADDD(x[3], x[0], s0)
	VPADDD(x[2], x[1], s1)
	VPSUBD(x[3], x[0], d0)
	VPSUBD(x[2], x[1], d1)
	o := [4]VecVirtual{avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0]), avoblock.Alike(x[0])}
	VPADDD(s1, s0, o[0])
	VPSUBD(s1, s0, o[2])
	VPADDD(d0, d0, o[1])
	VPADDD(d1, o[1], o[1])
	VPADDD(d1, d1, o[3])
	VPSUBD(o[3], d0, o[3])
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
