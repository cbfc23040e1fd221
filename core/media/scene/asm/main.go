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
	overlay()
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
