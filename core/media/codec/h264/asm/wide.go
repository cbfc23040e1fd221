package main

import (
	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"vividstrain/core/media/codec/avoblock"
)

// filterWide is filter for samples of two bytes, of up to 10 bits. The sums are
// -10230 to 42966: moved up by 10240 they fit into words without a sign, of which
// 320 is taken off again after the shift, not below 0.
func filterWide(name, doc string, down bool) {
	b := avoblock.Begin(name, attr.NOSPLIT, doc, ", most int")
	b.Double()
	five, twenty, round, back, most := avoblock.WordConstant(5), avoblock.WordConstant(20), avoblock.WordConstant(16+10240), avoblock.WordConstant(320), avoblock.Words(Load(Param("most"), GP64()))
	fiveW, twentyW, roundW, backW, mostW := spread(five), spread(twenty), spread(round), spread(back), spread(most)
	step3, step5 := GP64(), GP64()
	if down {
		LEAQ(Mem{Base: b.Step, Index: b.Step, Scale: 2}, step3)
		LEAQ(Mem{Base: b.Step, Index: b.Step, Scale: 4}, step5)
	}
	at := func(i int) Mem {
		switch {
		case !down:
			return b.SrcAt(2 * i)
		case i == 0:
			return b.SrcAt(0)
		case i == 3:
			return Mem{Base: b.Src, Index: step3, Scale: 1}
		case i == 5:
			return Mem{Base: b.Src, Index: step5, Scale: 1}
		}
		return Mem{Base: b.Src, Index: b.Step, Scale: uint8(i)}
	}
	b.ByWidth(name, []int{16, 8, 4}, func(w int) {
		k := [5]VecVirtual{five, twenty, round, back, most}
		if w == 16 {
			k = [5]VecVirtual{fiveW, twentyW, roundW, backW, mostW}
		}
		sum := tap(func(i int) VecVirtual { return avoblock.LoadWide(at(i), w) }, k[0], k[1])
		VPADDW(k[2], sum, sum)
		VPSRLW(Imm(5), sum, sum)
		VPSUBUSW(k[3], sum, sum)
		VPMINUW(k[4], sum, sum)
		avoblock.StoreWide(sum, b.DstAt(), w)
	})
}

// bilinearWide is bilinear for samples of two bytes, of up to 10 bits: the sums
// fit into words without a sign.
func bilinearWide() {
	b := avoblock.Begin("bilinearWideFast", attr.NOSPLIT, "bilinearWideFast is bilinearFast for samples of two bytes.", ", dx, dy int")
	b.Double()
	weights := func(name string) (near, far VecVirtual) {
		d, rest := Load(Param(name), GP64()), GP64()
		MOVQ(U64(8), rest)
		SUBQ(d, rest)
		return avoblock.Words(rest), avoblock.Words(d)
	}
	left, right := weights("dx")
	above, below := weights("dy")
	round := avoblock.WordConstant(32)
	b.ByWidth("bilinearwide", []int{8, 4, 2}, func(w int) {
		row := func(at Mem) VecVirtual {
			x, y := avoblock.LoadWide(at, w), avoblock.LoadWide(at.Offset(2), w)
			VPMULLW(left, x, x)
			VPMULLW(right, y, y)
			VPADDW(y, x, x)
			return x
		}
		x := row(b.SrcAt(0))
		y := row(Mem{Base: b.Src, Index: b.Step, Scale: 1})
		VPMULLW(above, x, x)
		VPMULLW(below, y, y)
		VPADDW(y, x, x)
		VPADDW(round, x, x)
		VPSRLW(Imm(6), x, x)
		avoblock.StoreWide(x, b.DstAt(), w)
	})
}
