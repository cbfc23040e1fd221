// Command asm writes the assembly of colour conversion for amd64 with AVX2.
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
	TEXT("paintPixels", attr.NOSPLIT, "func(dst, luma, cb, cr *byte, n int, factors *int32)")
	Pragma("noescape")
	Doc("paintPixels is paintRow of n pixels, a multiple of 8, by the factors of a matrix.")
	dst, luma := Load(Param("dst"), GP64()), Load(Param("luma"), GP64())
	cb, cr, n := Load(Param("cb"), GP64()), Load(Param("cr"), GP64()), Load(Param("n"), GP64())
	m := Load(Param("factors"), GP64())
	var factors [5]VecVirtual
	for i := range factors {
		factors[i] = YMM()
		VPBROADCASTD(Mem{Base: m, Disp: 4 * i}, factors[i])
	}
	forLuma, red, greenCb, greenCr, blue := factors[0], factors[1], factors[2], factors[3], factors[4]
	dark, middle, half, most, zero := constant(16), constant(128), constant(1<<15), constant(255), YMM()
	VPXOR(zero, zero, zero)
	Label("pixels")
	b, r, v := YMM(), YMM(), YMM()
	for _, c := range []struct {
		from Register
		to   VecVirtual
	}{{cb, b}, {cr, r}} { // each for two pixels
		VMOVD(Mem{Base: c.from}, c.to.AsX())
		VPUNPCKLBW(c.to.AsX(), c.to.AsX(), c.to.AsX())
		VPMOVZXBD(c.to.AsX(), c.to)
		VPSUBD(middle, c.to, c.to)
	}
	VPMOVZXBD(Mem{Base: luma}, v)
	VPSUBD(dark, v, v)
	VPMULLD(forLuma, v, v)
	VPADDD(half, v, v)
	pixel, product := YMM(), YMM()
	VPMULLD(blue, b, pixel)
	VPADDD(v, pixel, pixel)
	toByte(pixel, zero, most)
	VPMULLD(greenCb, b, b)
	VPMULLD(greenCr, r, product)
	VPADDD(product, b, b)
	VPSUBD(b, v, b)
	toByte(b, zero, most)
	VPSLLD(Imm(8), b, b)
	VPOR(b, pixel, pixel)
	VPMULLD(red, r, r)
	VPADDD(v, r, r)
	toByte(r, zero, most)
	VPSLLD(Imm(16), r, r)
	VPOR(r, pixel, pixel)
	VMOVDQU(pixel, Mem{Base: dst})
	ADDQ(Imm(32), dst)
	ADDQ(Imm(8), luma)
	ADDQ(Imm(4), cb)
	ADDQ(Imm(4), cr)
	SUBQ(Imm(8), n)
	JNZ(LabelRef("pixels"))
	VZEROUPPER()
	RET()
	Generate()
}

// constant broadcasts a number.
func constant(v uint32) VecVirtual {
	g, y := GP32(), YMM()
	MOVL(U32(v), g)
	VMOVD(g, y.AsX())
	VPBROADCASTD(y.AsX(), y)
	return y
}

// toByte turns 1/65536 into bytes.
func toByte(v, zero, most VecVirtual) {
	VPSRAD(Imm(16), v, v)
	VPMAXSD(zero, v, v)
	VPMINSD(most, v, v)
}
