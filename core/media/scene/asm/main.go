// Command asm writes the assembly of a row's inner loops for amd64 with AVX2.
// Run it with go generate in the folder above.
package main

import (
	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"
)

func main() {
	ConstraintExpr("amd64")
	mix()
	store()
	shifted()
	overlay()
	rise()
	keep()
	Generate()
}

// broadcast spreads a 16-bit argument.
func broadcast(name string, y VecVirtual) {
	g := GP32()
	Load(Param(name), g.As16())
	VMOVD(g, y.AsX())
	VPBROADCASTW(y.AsX(), y)
}

func mix() {
	TEXT("mixRows", attr.NOSPLIT, "func(dst, profile *int16, a, b *int8, n int, base, gainA, gainB int16)")
	Pragma("noescape")
	Doc("mixRows is mix of n values, a multiple of 16.")
	dst, profile := Load(Param("dst"), GP64()), Load(Param("profile"), GP64())
	a, b := Load(Param("a"), GP64()), Load(Param("b"), GP64())
	n := Load(Param("n"), GP64())
	base, gainA, gainB := YMM(), YMM(), YMM()
	broadcast("base", base)
	broadcast("gainA", gainA)
	broadcast("gainB", gainB)
	x, y := YMM(), YMM()
	Label("mix")
	VPMOVSXBW(Mem{Base: a}, x)
	VPMOVSXBW(Mem{Base: b}, y)
	VPMULLW(gainA, x, x)
	VPMULLW(gainB, y, y)
	VPADDW(y, x, x)
	VPSRAW(Imm(3), x, x)
	VPADDW(Mem{Base: profile}, x, x)
	VPADDW(base, x, x)
	VMOVDQU(x, Mem{Base: dst})
	ADDQ(Imm(32), dst)
	ADDQ(Imm(32), profile)
	ADDQ(Imm(16), a)
	ADDQ(Imm(16), b)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("mix"))
	VZEROUPPER()
	RET()
}

func store() {
	TEXT("storeRows", attr.NOSPLIT, "func(dst *byte, line *int16, noise *int8, n int, gain, least, most int16)")
	Pragma("noescape")
	Doc("storeRows is store of n values, a multiple of 16.")
	dst, line, noise := Load(Param("dst"), GP64()), Load(Param("line"), GP64()), Load(Param("noise"), GP64())
	n := Load(Param("n"), GP64())
	gain, least, most, round := YMM(), YMM(), YMM(), YMM()
	broadcast("gain", gain)
	broadcast("least", least)
	broadcast("most", most)
	VPCMPEQW(round, round, round)
	VPABSW(round, round)
	VPSLLW(Imm(3), round, round)
	x, y := YMM(), XMM()
	Label("store")
	VPMOVSXBW(Mem{Base: noise}, x)
	VPMULLW(gain, x, x)
	VPSRAW(Imm(3), x, x)
	VPADDW(Mem{Base: line}, x, x)
	VPADDW(round, x, x)
	VPSRAW(Imm(4), x, x)
	VPMAXSW(least, x, x)
	VPMINSW(most, x, x)
	VEXTRACTI128(Imm(1), x, y)
	VPACKUSWB(y, x.AsX(), y)
	VMOVDQU(y, Mem{Base: dst})
	ADDQ(Imm(32), line)
	ADDQ(Imm(16), noise)
	ADDQ(Imm(16), dst)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("store"))
	VZEROUPPER()
	RET()
}

func shifted() {
	TEXT("shiftRows", attr.NOSPLIT, "func(dst *uint16, line *int16, n int, shift uint, most int16)")
	Pragma("noescape")
	Doc("shiftRows is storeShifted of n values, a multiple of 16.")
	dst, line, n := Load(Param("dst"), GP64()), Load(Param("line"), GP64()), Load(Param("n"), GP64())
	most, one, shift, x := YMM(), YMM(), XMM(), YMM()
	broadcast("most", most)
	VMOVQ(Load(Param("shift"), GP64()), shift)
	VPCMPEQW(one, one, one)
	VPABSW(one, one)
	Label("shifted")
	VMOVDQU(Mem{Base: line}, x)
	VPSRAW(shift, x, x)
	VPMINSW(most, x, x)
	VPMAXSW(one, x, x)
	VMOVDQU(x, Mem{Base: dst})
	ADDQ(Imm(32), dst)
	ADDQ(Imm(32), line)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("shifted"))
	VZEROUPPER()
	RET()
}

func overlay() {
	TEXT("overlayRows", attr.NOSPLIT, "func(line *int16, town *int8, n int)")
	Pragma("noescape")
	Doc("overlayRows is overlay of n values, a multiple of 16.")
	line, town, n := Load(Param("line"), GP64()), Load(Param("town"), GP64()), Load(Param("n"), GP64())
	constant := func(v int64) VecVirtual {
		g, y := GP64(), YMM()
		MOVQ(I64(v), g)
		VMOVQ(g, y.AsX())
		VPBROADCASTW(y.AsX(), y)
		return y
	}
	sky, base, gain := constant(-127), constant(2000), constant(13)
	v, open := YMM(), YMM()
	Label("overlay")
	VPMOVSXBW(Mem{Base: town}, v)
	VPCMPEQW(sky, v, open)
	VPMULLW(gain, v, v)
	VPADDW(base, v, v)
	VPBLENDVB(open, Mem{Base: line}, v, v)
	VMOVDQU(v, Mem{Base: line})
	ADDQ(Imm(32), line)
	ADDQ(Imm(16), town)
	SUBQ(Imm(16), n)
	JNZ(LabelRef("overlay"))
	VZEROUPPER()
	RET()
}

func rise() {
	TEXT("riseRows", attr.NOSPLIT, "func(values, curve *float32, n int, first, rise float32)")
	Pragma("noescape")
	Doc("riseRows adds first + curve*rise to n values, a multiple of 8.")
	values, curve, n := Load(Param("values"), GP64()), Load(Param("curve"), GP64()), Load(Param("n"), GP64())
	first, rise, x := YMM(), YMM(), YMM()
	Load(Param("first"), first.AsX())
	VBROADCASTSS(first.AsX(), first)
	Load(Param("rise"), rise.AsX())
	VBROADCASTSS(rise.AsX(), rise)
	Label("rise")
	VMULPS(Mem{Base: curve}, rise, x)
	VADDPS(x, first, x)
	VADDPS(Mem{Base: values}, x, x)
	VMOVUPS(x, Mem{Base: values})
	ADDQ(Imm(32), values)
	ADDQ(Imm(32), curve)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("rise"))
	VZEROUPPER()
	RET()
}

func keep() {
	order := GLOBL("phaseOrder", attr.RODATA|attr.NOPTR)
	for half := range 2 {
		for i := range 16 {
			DATA(16*half+i, U8(i%4*4+i/4))
		}
	}
	TEXT("keepRows", attr.NOSPLIT, "func(a, b, c, d *int8, values *float32, n int)")
	Pragma("noescape")
	Doc("keepRows is level of n columns of four values, a multiple of 8.")
	var rows [4]Register
	for i, name := range []string{"a", "b", "c", "d"} {
		rows[i] = Load(Param(name), GP64())
	}
	values, n := Load(Param("values"), GP64()), Load(Param("n"), GP64())
	least, phases := YMM(), YMM()
	g := GP32()
	MOVL(U32(0x81818181), g) // -127 in each byte
	VMOVD(g, least.AsX())
	VPBROADCASTD(least.AsX(), least)
	VMOVDQU(order, phases)
	Label("keep")
	var v [4]VecVirtual
	for i := range v {
		v[i] = YMM()
		VCVTTPS2DQ(Mem{Base: values, Disp: 32 * i}, v[i])
	}
	VPACKSSDW(v[1], v[0], v[0])
	VPACKSSDW(v[3], v[2], v[2])
	VPACKSSWB(v[2], v[0], v[0])
	VPMAXSB(least, v[0], v[0])
	VPSHUFB(phases, v[0], v[0]) // the even columns by phase, and the odd ones
	odd, low, high := XMM(), XMM(), XMM()
	VEXTRACTI128(Imm(1), v[0], odd)
	VPUNPCKLBW(odd, v[0].AsX(), low)
	VPUNPCKHBW(odd, v[0].AsX(), high)
	VMOVQ(low, Mem{Base: rows[0]})
	VPEXTRQ(Imm(1), low, Mem{Base: rows[1]})
	VMOVQ(high, Mem{Base: rows[2]})
	VPEXTRQ(Imm(1), high, Mem{Base: rows[3]})
	for _, row := range rows {
		ADDQ(Imm(8), row)
	}
	ADDQ(U32(128), values)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("keep"))
	VZEROUPPER()
	RET()
}
