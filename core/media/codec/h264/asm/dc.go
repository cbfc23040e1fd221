package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"
)

// chromaDC writes the DC prediction of a block of 8x8 samples with all its neighbours.
func chromaDC() {
	TEXT("chromaDCFast", attr.NOSPLIT, "func(pix *byte, stride int)")
	Pragma("noescape")
	Doc("chromaDCFast is chromaDC for the block at pix.")
	pix, stride := Load(Param("pix"), GP64()).(GPVirtual), Load(Param("stride"), GP64()).(GPVirtual)
	x, zero := XMM(), XMM()
	above, beside := [2]GPVirtual{GP64(), GP64()}, [2]GPVirtual{GP64(), GP64()}
	at, t := GP64(), GP64()
	MOVQ(pix, at)
	SUBQ(stride, at)
	VPXOR(zero, zero, zero)
	VMOVQ(Mem{Base: at}, x)
	VPUNPCKLDQ(zero, x, x)
	VPSADBW(zero, x, x)
	VMOVQ(x, above[0])
	VPEXTRQ(Imm(1), x, above[1])
	MOVQ(pix, at)
	for y := range 8 {
		sum := beside[y/4]
		if y%4 == 0 {
			MOVBLZX(Mem{Base: at, Disp: -1}, sum.As32())
		} else {
			MOVBLZX(Mem{Base: at, Disp: -1}, t.As32())
			ADDL(t.As32(), sum.As32())
		}
		if y < 7 {
			ADDQ(stride, at)
		}
	}
	spread := GP64()
	MOVL(U32(0x01010101), spread.As32())
	// row makes eight samples of two means.
	row := func(left, right GPVirtual) GPVirtual {
		IMULQ(spread, left)
		IMULQ(spread, right)
		SHLQ(Imm(32), right)
		ORQ(left, right)
		return right
	}
	mean := func(shift uint64, sums ...GPVirtual) GPVirtual {
		sum := GP64()
		LEAQ(Mem{Base: sums[0], Disp: 2 * len(sums)}, sum)
		for _, other := range sums[1:] {
			ADDQ(other, sum)
		}
		SHRQ(Imm(shift), sum)
		return sum
	}
	upper := row(mean(3, beside[0], above[0]), mean(2, above[1]))
	lower := row(mean(2, beside[1]), mean(3, beside[1], above[1]))
	for y := range 8 {
		samples := upper
		if y >= 4 {
			samples = lower
		}
		MOVQ(samples, Mem{Base: pix})
		if y < 7 {
			ADDQ(stride, pix)
		}
	}
	RET()
}

// borderSums writes the sums of the samples at the border of a macroblock.
func borderSums() {
	TEXT("borderSumsFast", attr.NOSPLIT, "func(pix *byte, stride int) (left, above int)")
	Pragma("noescape")
	Doc("borderSumsFast is borderSums for the macroblock at pix.")
	pix, stride := Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
	x, y, zero := XMM(), XMM(), XMM()
	above, at, t := GP64(), GP64(), GP64()
	left := [2]GPVirtual{GP64(), GP64()} // in turns, so that one addition need not wait for another
	MOVQ(pix, at)
	SUBQ(stride, at)
	VPXOR(zero, zero, zero)
	VPSADBW(Mem{Base: at}, zero, x)
	VPSRLDQ(Imm(8), x, y)
	VPADDD(y, x, x)
	VMOVQ(x, above)
	for i := range 16 {
		if i < 2 {
			MOVBLZX(Mem{Base: pix, Disp: -1}, left[i].As32())
		} else {
			MOVBLZX(Mem{Base: pix, Disp: -1}, t.As32())
			ADDL(t.As32(), left[i&1].As32())
		}
		if i < 15 {
			ADDQ(stride, pix)
		}
	}
	ADDQ(left[1], left[0])
	Store(left[0], ReturnIndex(0))
	Store(above, ReturnIndex(1))
	RET()
}

// lumaDC writes the transforms of the DC levels of a macroblock.
func lumaDC() {
	TEXT("flatLumaDCFast", attr.NOSPLIT, "func(dc *[16]int32, scale int32, flat *[16]int16)")
	Pragma("noescape")
	Doc("flatLumaDCFast is flatLumaDC.")
	c, round, _ := scaledDC()
	flat := Load(Param("flat"), GP64())
	for i := range c {
		VPADDD(round, c[i], c[i])
		VPSRAD(Imm(6), c[i], c[i])
	}
	// Columns to rows, of words.
	low, high, ones, least := XMM(), XMM(), XMM(), XMM()
	VPACKSSDW(c[1], c[0], c[0])
	VPACKSSDW(c[3], c[2], c[2])
	VPUNPCKLWD(c[2], c[0], low)
	VPUNPCKHWD(c[2], c[0], high)
	VPUNPCKLWD(high, low, c[0])
	VPUNPCKHWD(high, low, c[1])
	VPCMPEQW(ones, ones, ones)
	VPSLLW(Imm(15), ones, least)
	VPSUBW(ones, least, least) // -32767, whose negative is a word as well
	for i := range 2 {
		VPMAXSW(least, c[i], c[i])
		VMOVDQU(c[i], Mem{Base: flat, Disp: 16 * i})
	}
	RET()

	TEXT("spreadLumaDCFast", attr.NOSPLIT, "func(dc *[16]int32, scale int32, coeffs *int32) (coded uint64)")
	Pragma("noescape")
	Doc("spreadLumaDCFast is spreadLumaDC.")
	c, _, zero := scaledDC()
	coeffs, coded, some, places := Load(Param("coeffs"), GP64()), GP64(), GP64(), GP64()
	XORL(coded.As32(), coded.As32())
	for x := range c {
		for y := range 4 {
			to := Mem{Base: coeffs, Disp: 64 * (y>>1<<3 | x>>1<<2 | y&1<<1 | x&1)}
			if y == 0 {
				VMOVD(c[x], to)
			} else {
				VPEXTRD(Imm(uint64(y)), c[x], to)
			}
		}
		VPCMPEQD(zero, c[x], c[x])
		VMOVMSKPS(c[x], some.As32())
		XORL(Imm(15), some.As32())
		MOVL(U32(0x0505<<(x>>1<<2|x&1)), places.As32()) // the blocks of a column
		PDEPL(places.As32(), some.As32(), some.As32())
		ORL(some.As32(), coded.As32())
	}
	Store(coded, ReturnIndex(0))
	RET()
}

// scaledDC transforms and scales the parameter dc, to columns, and clears it.
func scaledDC() (c [4]VecVirtual, round, zero VecVirtual) {
	dc := Load(Param("dc"), GP64())
	zero = XMM()
	VPXOR(zero, zero, zero)
	for i := range c {
		c[i] = XMM()
		VMOVDQU(Mem{Base: dc, Disp: 16 * i}, c[i])
		VMOVDQU(zero, Mem{Base: dc, Disp: 16 * i})
	}
	hadamard(&c)
	c = transpose4(c)
	hadamard(&c)
	scale := XMM()
	VMOVD(Load(Param("scale"), GP32()), scale)
	VPBROADCASTD(scale, scale)
	round = XMM()
	broadcastRounding(round)
	for i := range c {
		VPMULLD(scale, c[i], c[i])
		VPADDD(round, c[i], c[i])
		VPSRAD(Imm(6), c[i], c[i])
	}
	return c, round, zero
}

// hadamard transforms four rows of four numbers down.
func hadamard(c *[4]VecVirtual) {
	p, q, r, s := XMM(), XMM(), XMM(), XMM()
	VPADDD(c[1], c[0], p)
	VPSUBD(c[1], c[0], q)
	VPADDD(c[3], c[2], r)
	VPSUBD(c[3], c[2], s)
	VPADDD(r, p, c[0])
	VPSUBD(r, p, c[1])
	VPSUBD(s, q, c[2])
	VPADDD(s, q, c[3])
}
