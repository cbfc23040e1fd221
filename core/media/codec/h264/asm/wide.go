package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"
)

// load reads w samples of two bytes into a vector that holds at least as many.
func load(m Mem, w int) VecVirtual {
	switch w {
	case 16:
		y := YMM()
		VMOVDQU(m, y)
		return y
	case 8:
		x := XMM()
		VMOVDQU(m, x)
		return x
	case 4:
		x := XMM()
		VMOVQ(m, x)
		return x
	}
	x := XMM()
	VMOVD(m, x)
	return x
}

// storeWide writes w samples of two bytes.
func storeWide(v VecVirtual, m Mem, w int) {
	switch w {
	case 16, 8:
		VMOVDQU(v, m)
	case 4:
		VMOVQ(v, m)
	default:
		VMOVD(v, m)
	}
}

// filterWide is filter for samples of two bytes, of up to 10 bits. The sums are
// -10230 to 42966: moved up by 10240 they fit into words without a sign, of which
// 320 is taken off again behind the shift, not below 0.
func filterWide(name, doc string, down bool) {
	b := begin(name, doc, ", most int")
	b.double()
	five, twenty, round, back, most := constant(5), constant(20), constant(16+10240), constant(320), words(Load(Param("most"), GP64()))
	fiveW, twentyW, roundW, backW, mostW := spread(five), spread(twenty), spread(round), spread(back), spread(most)
	step3, step5 := GP64(), GP64()
	if down {
		LEAQ(Mem{Base: b.step, Index: b.step, Scale: 2}, step3)
		LEAQ(Mem{Base: b.step, Index: b.step, Scale: 4}, step5)
	}
	at := func(i int) Mem {
		switch {
		case !down:
			return b.srcAt(2 * i)
		case i == 0:
			return b.srcAt(0)
		case i == 3:
			return Mem{Base: b.src, Index: step3, Scale: 1}
		case i == 5:
			return Mem{Base: b.src, Index: step5, Scale: 1}
		}
		return Mem{Base: b.src, Index: b.step, Scale: uint8(i)}
	}
	b.byWidth(name, []int{16, 8, 4}, func(w int) {
		k := [5]VecVirtual{five, twenty, round, back, most}
		if w == 16 {
			k = [5]VecVirtual{fiveW, twentyW, roundW, backW, mostW}
		}
		sum := tap(func(i int) VecVirtual { return load(at(i), w) }, k[0], k[1])
		VPADDW(k[2], sum, sum)
		VPSRLW(Imm(5), sum, sum)
		VPSUBUSW(k[3], sum, sum)
		VPMINUW(k[4], sum, sum)
		storeWide(sum, b.dstAt(), w)
	})
}

// bilinearWide is bilinear for samples of two bytes, of up to 10 bits: the sums
// fit into words without a sign.
func bilinearWide() {
	b := begin("bilinearWideFast", "bilinearWideFast is bilinearFast for samples of two bytes.", ", dx, dy int")
	b.double()
	weights := func(name string) (near, far VecVirtual) {
		d, rest := Load(Param(name), GP64()), GP64()
		MOVQ(U64(8), rest)
		SUBQ(d, rest)
		return words(rest), words(d)
	}
	left, right := weights("dx")
	above, below := weights("dy")
	round := constant(32)
	b.byWidth("bilinearwide", []int{8, 4, 2}, func(w int) {
		row := func(at Mem) VecVirtual {
			x, y := load(at, w), load(at.Offset(2), w)
			VPMULLW(left, x, x)
			VPMULLW(right, y, y)
			VPADDW(y, x, x)
			return x
		}
		x := row(b.srcAt(0))
		y := row(Mem{Base: b.src, Index: b.step, Scale: 1})
		VPMULLW(above, x, x)
		VPMULLW(below, y, y)
		VPADDW(y, x, x)
		VPADDW(round, x, x)
		VPSRLW(Imm(6), x, x)
		storeWide(x, b.dstAt(), w)
	})
}

// averageWide is average for samples of two bytes.
func averageWide() {
	b := begin("averageWideFast", "averageWideFast is averageFast for samples of two bytes.", "")
	b.double()
	b.byWidth("averagewide", []int{16, 8, 4, 2}, func(w int) {
		x, y := load(b.dstAt(), w), load(b.srcAt(0), w)
		VPAVGW(y, x, x)
		storeWide(x, b.dstAt(), w)
	})
}
