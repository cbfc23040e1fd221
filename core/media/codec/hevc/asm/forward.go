package main

import (
	"vividstrain/core/media/codec/avoblock"

	"github.com/mmcloughlin/avo/attr"
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"
)

// dct8 is the matrix of the transform of 8 points (8.6.4.2).
var dct8 = [8][8]int16{
	{64, 64, 64, 64, 64, 64, 64, 64},
	{89, 75, 50, 18, -18, -50, -75, -89},
	{83, 36, -36, -83, -83, -36, 36, 83},
	{75, -18, -89, -50, 50, 89, 18, -75},
	{64, -64, -64, 64, 64, -64, -64, 64},
	{50, -89, 18, 75, -75, -18, 89, -50},
	{36, -83, 83, -36, -36, 83, -83, 36},
	{18, -50, 75, -89, 89, -75, 50, -18},
}

// pairTable makes a table of vectors of eight pairs of factors.
func pairTable(name string, vectors int, pair func(vector, i int) (a, b int16)) func(vector int) Mem {
	table := GLOBL(name, attr.RODATA|attr.NOPTR)
	for v := range vectors {
		for i := range 8 {
			a, b := pair(v, i)
			DATA(32*v+4*i, U32(uint32(uint16(a))|uint32(uint16(b))<<16))
		}
	}
	return func(vector int) Mem { return table.Offset(32 * vector) }
}

// forward8 transforms the columns with sums and differences of the rows that are equally far from the
// edges: vectors have a pair of these for each column. Then it transforms two rows at a time.
func forward8(name, doc string, wide bool) {
	columns := pairTable(name+"Columns", 16, func(v, _ int) (a, b int16) { return dct8[v/2][v%2*2], dct8[v/2][v%2*2+1] })
	rows := pairTable(name+"Rows", 8, func(v, i int) (a, b int16) {
		k := v / 2 * 2
		return dct8[v%2*4+i%4][k], dct8[v%2*4+i%4][k+1]
	})
	TEXT(name, attr.NOSPLIT, "func(out *int16, src *byte, stride int, pred *byte, step, shift int)")
	Pragma("noescape")
	Doc(doc)
	out, src, stride := Load(Param("out"), GP64()), Load(Param("src"), GP64()), Load(Param("stride"), GP64())
	pred, step := Load(Param("pred"), GP64()), Load(Param("step"), GP64())
	load := avoblock.LoadWords(wide, false)
	var d [8]VecVirtual
	for y := range d {
		p := XMM()
		d[y] = XMM()
		load(Mem{Base: src}, d[y])
		load(Mem{Base: pred}, p)
		VPSUBW(p, d[y], d[y])
		if y < 7 {
			ADDQ(stride, src)
			ADDQ(step, pred)
		}
	}
	for y := range 4 {
		sum := XMM()
		VPADDW(d[7-y], d[y], sum)
		VPSUBW(d[7-y], d[y], d[7-y])
		d[y] = sum
	}
	var pairs [2][2]VecVirtual // of sums and of differences
	for i, from := range [2][4]VecVirtual{{d[0], d[1], d[2], d[3]}, {d[7], d[6], d[5], d[4]}} {
		for k := range 2 {
			low, high := YMM(), XMM()
			VPUNPCKLWD(from[2*k+1], from[2*k], low.AsX())
			VPUNPCKHWD(from[2*k+1], from[2*k], high)
			VINSERTI128(Imm(1), high, low, low)
			pairs[i][k] = low
		}
	}
	round, shift := rounding(), shiftCount("shift")
	var half [4]VecVirtual // two rows in each
	for r := range 8 {
		a, b := YMM(), YMM()
		VPMADDWD(columns(2*r), pairs[r%2][0], a)
		VPMADDWD(columns(2*r+1), pairs[r%2][1], b)
		VPADDD(b, a, a)
		VPADDD(round, a, a)
		VPSRAD(shift, a, a)
		if r%2 == 0 {
			half[r/2] = a
			continue
		}
		VPACKSSDW(a, half[r/2], half[r/2])
		VPERMQ(Imm(0xD8), half[r/2], half[r/2])
	}
	again := doubles(1 << 8)
	for r, v := range half {
		var sums [2]VecVirtual
		for k := range 4 {
			pair := YMM()
			VPSHUFD(Imm(uint64(0x55*k)), v, pair)
			for side := range sums {
				if k == 0 {
					sums[side] = YMM()
					VPMADDWD(rows(side), pair, sums[side])
					VPADDD(again, sums[side], sums[side])
					continue
				}
				product := YMM()
				VPMADDWD(rows(2*k+side), pair, product)
				VPADDD(product, sums[side], sums[side])
			}
		}
		for _, s := range sums {
			VPSRAD(Imm(9), s, s)
		}
		VPACKSSDW(sums[1], sums[0], sums[0])
		VMOVDQU(sums[0], Mem{Base: out, Disp: 32 * r})
	}
	VZEROUPPER()
	RET()
}
