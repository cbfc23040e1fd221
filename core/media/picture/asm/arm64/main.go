// Command arm64 writes the assembly of package picture for arm64.
package main

import . "vividstrain/core/media/neon"

func main() {
	Main(func(a *Asm) {
		down(a, "downBytes", "makes n values, a multiple of 16, of rows of bytes.", "rows *[]byte", false)
		down(a, "downWords", "makes n values, a multiple of 16, of rows of half words.", "rows *[]uint16", true)
		across(a)
		pack(a)
	})
}

// rounding prepares shifts to the right by an argument: V30 is a half, and V31 the shift.
func rounding(a *Asm) {
	a.Load("shift", 12)
	a.Go("SUB $1, R12, R13")
	a.Go("MOVD $1, R14")
	a.Go("LSL R13, R14, R14")
	a.Dup(S4, 30, 14)
	a.Go("NEG R12, R12")
	a.Dup(S4, 31, 12)
}

// sliceHeader is the length of a slice in memory, whose address is first.
const sliceHeader = 24

func down(a *Asm, name, doc, rows string, wide bool) {
	a.Func(name, doc, "dst *int16, "+rows+", coefficients *int16, taps int, n int, shift int", "", 0)
	const dst, list, coefficients, taps, n, offset, row, factor, count, at R = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9
	a.LoadAll("dst", "rows", "coefficients", "taps", "n")
	rounding(a)
	a.Go("MOVD $0, %v", offset)
	again := a.NewLabel()
	a.Label(again)
	for i := range V(4) {
		a.Move(16+i, 30)
	}
	a.Go("MOVD %v, %v", list, row)
	a.Go("MOVD %v, %v", coefficients, factor)
	a.Go("MOVD %v, %v", taps, count)
	a.Loop(count, func() {
		a.Go("MOVD (%v), %v", row, at)
		a.Go("ADD $%d, %v", sliceHeader, row)
		a.Go("ADD %v, %v", offset, at)
		a.Go("MOVH.P 2(%v), R10", factor)
		a.Dup(H8, 0, 10)
		a.Read(16, 1, at, 0)
		if wide {
			a.Read(16, 2, at, 16)
		} else {
			a.Left(USHLL, B16, 2, 1, 0)
			a.Left(USHLL, B8, 1, 1, 0)
		}
		for i := range V(2) {
			a.Do(SMLAL, H4, 16+2*i, 1+i, 0)
			a.Do(SMLAL, H8, 17+2*i, 1+i, 0)
		}
	})
	for i := range V(4) {
		a.Do(SSHL, S4, 16+i, 16+i, 31)
	}
	for i := range V(2) {
		a.Do(UZP1, H8, i, 16+2*i, 17+2*i)
		a.Write(16, i, dst, int(16*i))
	}
	a.Go("ADD $32, %v", dst)
	if wide {
		a.Go("ADD $32, %v", offset)
	} else {
		a.Go("ADD $16, %v", offset)
	}
	a.Go("SUBS $16, %v", n)
	a.Go("BNE %s", again)
	a.Return()
}

// across makes eight values at a time; filter.pack says how their coefficients are arranged.
func across(a *Asm) {
	a.Func("acrossWords", "makes n values, a multiple of 8, with a number of taps that is one, too.",
		"dst *uint16, src *int16, packed *int16, taps int, n int, shift int, most int32", "", 0)
	const dst, src, packed, taps, n, count, offset R = 0, 1, 2, 3, 4, 5, 6
	a.LoadAll("dst", "src", "packed", "taps", "n")
	rounding(a)
	a.Load32("most", 12)
	a.Dup(S4, 29, 12)
	a.Zero(28)
	a.Go("LSR $3, %v", taps)
	again := a.NewLabel()
	a.Label(again)
	at := func(i int) R { return R(7 + i - i/4*4 + i/4*12) } // R7 to R10, R19 to R22
	for i := range 8 {
		a.Go("MOVW %d(%v), %v", 4*i, packed, offset)
		a.Go("ADD %v, %v, %v", offset, src, at(i))
		a.Zero(V(16 + i))
	}
	a.Go("ADD $32, %v", packed)
	a.Go("MOVD %v, %v", taps, count)
	a.Loop(count, func() {
		for j := range 4 {
			for _, i := range []int{j, j + 4} {
				a.Go("FMOVQ.P 16(%v), F0", packed)
				a.Go("FMOVQ.P 16(%v), F1", at(i))
				a.Do(SMLAL, H4, V(16+i), 0, 1)
				a.Do(SMLAL, H8, V(16+i), 0, 1)
			}
		}
	})
	for i := range V(4) {
		a.Do(ADDP, S4, 16+i, 16+2*i, 17+2*i)
	}
	for i := range V(2) {
		v := 16 + i
		a.Do(ADDP, S4, v, 16+2*i, 17+2*i)
		a.Do(ADD, S4, v, v, 30)
		a.Do(SSHL, S4, v, v, 31)
		a.Do(SMAX, S4, v, v, 28)
		a.Do(SMIN, S4, v, v, 29)
	}
	a.Do(UZP1, H8, 0, 16, 17)
	a.Go("FMOVQ.P F0, 16(%v)", dst)
	a.Go("SUBS $8, %v", n)
	a.Go("BNE %s", again)
	a.Return()
}

func pack(a *Asm) {
	a.Func("packBytes", "makes bytes of n values, a multiple of 16.", "dst *byte, src *uint16, n int", "", 0)
	const dst, src, n R = 0, 1, 2
	a.LoadAll("dst", "src", "n")
	again := a.NewLabel()
	a.Label(again)
	a.Read(16, 0, src, 0)
	a.Read(16, 1, src, 16)
	a.Do(UZP1, B16, 0, 0, 1)
	a.Go("FMOVQ.P F0, 16(%v)", dst)
	a.Go("ADD $32, %v", src)
	a.Go("SUBS $16, %v", n)
	a.Go("BNE %s", again)
	a.Return()
}
