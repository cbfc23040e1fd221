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
	light()
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

// broadcastByte spreads an 8-bit argument.
func broadcastByte(name string, y VecVirtual) {
	g := GP32()
	Load(Param(name), g.As8())
	VMOVD(g, y.AsX())
	VPBROADCASTB(y.AsX(), y)
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
	for _, words := range []Register{dst, profile} {
		LEAQ(Mem{Base: words, Index: n, Scale: 2}, words)
	}
	for _, bytes := range []Register{a, b} {
		ADDQ(n, bytes)
	}
	NEGQ(n) // the index from the ends
	x, y := YMM(), YMM()
	Label("mix")
	VPMOVSXBW(Mem{Base: a, Index: n, Scale: 1}, x)
	VPMOVSXBW(Mem{Base: b, Index: n, Scale: 1}, y)
	VPMULLW(gainA, x, x)
	VPMULLW(gainB, y, y)
	VPADDW(y, x, x)
	VPSRAW(Imm(3), x, x)
	VPADDW(Mem{Base: profile, Index: n, Scale: 2}, x, x)
	VPADDW(base, x, x)
	VMOVDQU(x, Mem{Base: dst, Index: n, Scale: 2})
	ADDQ(Imm(16), n)
	JNZ(LabelRef("mix"))
	VZEROUPPER()
	RET()
}

func store() {
	TEXT("storeRows", attr.NOSPLIT, "func(dst *byte, line *int16, noise *int8, n int, gain int16, least, most uint8)")
	Pragma("noescape")
	Doc("storeRows is store of n values, a multiple of 32.")
	dst, line, noise := Load(Param("dst"), GP64()), Load(Param("line"), GP64()), Load(Param("noise"), GP64())
	n := Load(Param("n"), GP64())
	gain, least, most, round := YMM(), YMM(), YMM(), YMM()
	broadcast("gain", gain)
	broadcastByte("least", least)
	broadcastByte("most", most)
	VPCMPEQW(round, round, round)
	VPABSW(round, round)
	VPSLLW(Imm(3), round, round)
	ADDQ(n, dst)
	ADDQ(n, noise)
	LEAQ(Mem{Base: line, Index: n, Scale: 2}, line)
	NEGQ(n) // the index from the ends
	Label("store")
	var x [2]VecVirtual
	for i := range x {
		x[i] = YMM()
		VPMOVSXBW(Mem{Base: noise, Index: n, Scale: 1, Disp: 16 * i}, x[i])
		VPMULLW(gain, x[i], x[i])
		VPSRAW(Imm(3), x[i], x[i])
		VPADDW(Mem{Base: line, Index: n, Scale: 2, Disp: 32 * i}, x[i], x[i])
		VPADDW(round, x[i], x[i])
		VPSRAW(Imm(4), x[i], x[i])
	}
	VPACKUSWB(x[1], x[0], x[0])
	VPERMQ(Imm(0xd8), x[0], x[0])
	VPMAXUB(least, x[0], x[0])
	VPMINUB(most, x[0], x[0])
	VMOVDQU(x[0], Mem{Base: dst, Index: n, Scale: 1})
	ADDQ(Imm(32), n)
	JNZ(LabelRef("store"))
	VZEROUPPER()
	RET()
}

func light() {
	steps := GLOBL("middles", attr.RODATA|attr.NOPTR)
	for i := range 8 {
		DATA(8*i, F64(float64(i)+0.5))
	}
	TEXT("lightRows", attr.NOSPLIT, "func(line *int16, n int, first, middle, fall, top float64)")
	Pragma("noescape")
	Doc("lightRows is beam for n values, a multiple of 8, from column first on; top is what it adds in the middle.")
	line, n := Load(Param("line"), GP64()), Load(Param("n"), GP64())
	spread := func(load func(x Register)) VecVirtual {
		y := YMM()
		load(y.AsX())
		VBROADCASTSD(y.AsX(), y)
		return y
	}
	param := func(name string) VecVirtual { return spread(func(x Register) { Load(Param(name), x) }) }
	first, middle, fall, top := param("first"), param("middle"), param("fall"), param("top")
	eight := spread(func(x Register) {
		g := GP64()
		MOVQ(U64(0x4020000000000000), g) // 8 as a float64
		VMOVQ(g, x)
	})
	magnitude := YMM()
	VPCMPEQQ(magnitude, magnitude, magnitude)
	VPSRLQ(Imm(1), magnitude, magnitude) // all bits but the sign
	at := [2]VecVirtual{YMM(), YMM()}
	for i, x := range at {
		VADDPD(steps.Offset(32*i), first, x)
	}
	Label("light")
	var words [2]VecVirtual
	for i, x := range at {
		v := YMM()
		words[i] = XMM()
		VSUBPD(middle, x, v)
		VANDPD(magnitude, v, v)
		VMULPD(fall, v, v)
		VSUBPD(v, top, v)
		VCVTTPD2DQY(v, words[i])
		VADDPD(eight, x, x)
	}
	VPACKSSDW(words[1], words[0], words[0])
	VPADDW(Mem{Base: line}, words[0], words[0])
	VMOVDQU(words[0], Mem{Base: line})
	ADDQ(Imm(16), line)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("light"))
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
