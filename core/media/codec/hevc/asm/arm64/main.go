// Command arm64 writes the assembly of package hevc for arm64.
package main

import . "vividstrain/core/media/neon"

// predStride is the length of a row of a prediction, in bytes.
const predStride = 2 * 64

func main() {
	Main(func(a *Asm) {
		multiply(a)
		for _, wide := range []bool{false, true} {
			add(a, wide)
			filter(a, wide, true)
			filter(a, wide, false)
			weigh(a, wide, false)
			weigh(a, wide, true)
			deblock(a, wide, true)
			deblock(a, wide, false)
		}
	})
}

func named(name string, wide bool) string {
	if wide {
		name += "Wide"
	}
	return name + "Fast"
}

// minus sets all elements to minus what an argument says, for shifts to the right.
func minus(a *Asm, t T, d V, argument string) {
	a.Load(argument, 12)
	a.Go("NEG R12, R12")
	a.Dup(t, d, 12)
}

// multiply computes four rows at once.
func multiply(a *Asm) {
	a.Func("multiplyFast", "multiplies a matrix with one whose rows are interleaved in pairs; cols is 4 or a multiple of 8, rows one of 4. Strides are in bytes.",
		"dst *int16, stride int, p *int16, step int, v *int16, next int, rows int, pairs int, cols int, shift int", "", 0)
	const dst, stride, p, step, v, next, rows, pairs, cols R = 0, 1, 2, 3, 4, 5, 6, 7, 8
	const out, source, count, row, column R = 9, 10, 11, 20, 19
	a.LoadAll("dst", "stride", "p", "step", "v", "next", "rows", "pairs", "cols")
	a.Load("shift", 12)
	a.Go("MOVD $1, R13")
	a.Go("LSL R12, R13, R13")
	a.Go("LSR $1, R13")
	a.Dup(S4, 30, 13) // what rounds
	minus(a, S4, 31, "shift")
	factors := [4]R{14, 15, 16, 17}
	a.Go("LSR $2, %v", rows)
	a.Loop(rows, func() {
		a.Go("MOVD %v, %v", cols, column)
		a.Go("MOVD %v, %v", v, row)
		a.Go("MOVD %v, %v", dst, out)
		block := func(w int) {
			for i, f := range factors {
				if i == 0 {
					a.Go("MOVD %v, %v", p, f)
				} else {
					a.Go("ADD %v, %v, %v", step, factors[i-1], f)
				}
				a.Move(V(16+2*i), 30)
				a.Move(V(17+2*i), 30)
			}
			a.Go("MOVD %v, %v", row, source)
			a.Go("MOVD %v, %v", pairs, count)
			a.Loop(count, func() {
				if w == 8 {
					a.Go("VLD2 (%v), [V4.H8, V5.H8]", source)
				} else {
					a.Go("VLD2 (%v), [V4.H4, V5.H4]", source)
				}
				a.Go("ADD %v, %v", next, source)
				for i, f := range factors {
					a.Go("FMOVS.P 4(%v), F%d", f, i)
					for k := range uint32(2) {
						a.Lane(SMLALLane, H4, V(16+2*i), V(4+k), V(i), k)
						if w == 8 {
							a.Lane(SMLALLane, H8, V(17+2*i), V(4+k), V(i), k)
						}
					}
				}
			})
			a.Go("MOVD %v, %v", out, source)
			for i := range factors {
				a.Do(SSHL, S4, V(16+2*i), V(16+2*i), 31)
				a.Do(SSHL, S4, V(17+2*i), V(17+2*i), 31)
				a.Un(SQXTN, H4, V(i), V(16+2*i))
				a.Un(SQXTN, H8, V(i), V(17+2*i))
				a.Write(2*w, V(i), source, 0)
				a.Go("ADD %v, %v", stride, source)
			}
		}
		narrow, next := a.NewLabel(), a.NewLabel()
		a.Go("CMP $4, %v", column)
		a.Go("BEQ %s", narrow)
		more := a.NewLabel()
		a.Label(more)
		block(8)
		a.Go("ADD $32, %v", row)
		a.Go("ADD $16, %v", out)
		a.Go("SUBS $8, %v", column)
		a.Go("BNE %s", more)
		a.Go("B %s", next)
		a.Label(narrow)
		block(4)
		a.Label(next)
		a.Go("ADD %v<<2, %v", stride, dst)
		a.Go("ADD %v<<2, %v", step, p)
	})
	a.Return()
}

// bytes returns the length of n samples.
func bytes(n int, wide bool) int {
	if wide {
		return 2 * n
	}
	return n
}

// clipped stores w samples of half words in v: of two bytes, they are clipped to V29, with V28 zero.
func clipped(a *Asm, w int, v V, wide bool, to R) {
	if wide {
		a.Do(SMAX, H8, v, v, 28)
		a.Do(SMIN, H8, v, v, 29)
	} else {
		a.Un(SQXTUN, B8, v, v)
	}
	a.Write(bytes(w, wide), v, to, 0)
}

// limit loads the largest sample.
func limit(a *Asm, wide bool) {
	if wide {
		a.Load("most", 12)
		a.Dup(H8, 29, 12)
		a.Zero(28)
	}
}

func more(wide bool) string {
	if wide {
		return ", most int"
	}
	return ""
}

func add(a *Asm, wide bool) {
	a.Func(named("add", wide), "adds differences to n x n samples. The stride is in bytes.", "dst *byte, stride int, r *int16, n int"+more(wide), "", 0)
	const dst, stride, r, n, at, x, y R = 0, 1, 2, 3, 4, 5, 6
	a.LoadAll("dst", "stride", "r", "n")
	limit(a, wide)
	sum := func(w int) {
		a.Read(bytes(w, wide), 0, at, 0)
		a.Read(2*w, 1, r, 0)
		if !wide {
			a.Left(USHLL, B8, 0, 0, 0)
		}
		a.Do(SQADD, H8, 0, 0, 1)
		clipped(a, w, 0, wide, at)
		a.Go("ADD $%d, %v", bytes(w, wide), at)
		a.Go("ADD $%d, %v", 2*w, r)
	}
	a.Go("MOVD %v, %v", n, y)
	a.Loop(y, func() {
		a.Go("MOVD %v, %v", dst, at)
		narrow, next := a.NewLabel(), a.NewLabel()
		a.Go("CMP $4, %v", n)
		a.Go("BEQ %s", narrow)
		a.Go("LSR $3, %v, %v", n, x)
		a.Loop(x, func() { sum(8) })
		a.Go("B %s", next)
		a.Label(narrow)
		sum(4)
		a.Label(next)
		a.Go("ADD %v, %v", stride, dst)
	})
	a.Return()
}

// filter writes acrossFast and downFast, eight columns at a time: what is written after w is in the
// same row of the prediction, or in the room after the last one. Bytes are filtered in half words,
// which any result fits into; shift is 0 for them.
func filter(a *Asm, wide, across bool) {
	name, doc, arguments := "down", "filters samples with 8 or 4 taps in a column.", "dst *int16, src *byte, step int, w int, h int, taps *[8]int16, count int, shift int"
	if across {
		name, doc = "across", "filters samples with 8 or 4 taps in a row."
	}
	a.Func(named(name, wide), doc+" The step is in bytes.", arguments, "", 0)
	const dst, src, step, w, h, taps, count, out, in, y R = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9
	a.LoadAll("dst", "src", "step", "w", "h", "taps", "count")
	a.Read(16, 15, taps, 0)
	if wide {
		minus(a, S4, 31, "shift")
	}
	a.ByWidth(count, []int{8, 4}, func(count int) {
		again := a.NewLabel()
		a.Label(again)
		a.Go("MOVD %v, %v", dst, out)
		a.Go("MOVD %v, %v", src, in)
		read := func(v V) {
			a.Read(bytes(8, wide), v, in, 0)
			a.Go("ADD %v, %v", step, in)
			if !wide {
				a.Left(USHLL, B8, v, v, 0)
			}
		}
		if !across {
			for k := range count - 1 {
				read(V(k))
			}
		}
		a.Go("MOVD %v, %v", h, y)
		a.Loop(y, func() {
			if across {
				a.Read(16, 16, in, 0)
				if wide {
					a.Read(16, 17, in, 16)
				} else {
					a.Left(USHLL, B16, 17, 16, 0)
					a.Left(USHLL, B8, 16, 16, 0)
				}
				a.Go("ADD %v, %v", step, in)
				for k := range V(count) {
					if k > 0 {
						a.Extract(k, 16, 17, 2*uint32(k))
					} else {
						a.Move(0, 16)
					}
				}
			} else {
				read(V(count - 1))
			}
			for k := range count {
				first := MULLane
				low, high := SMULLLane, SMULLLane
				if k > 0 {
					first, low, high = MLALane, SMLALLane, SMLALLane
				}
				if wide {
					a.Lane(low, H4, 18, V(k), 15, uint32(k))
					a.Lane(high, H8, 19, V(k), 15, uint32(k))
				} else {
					a.Lane(first, H8, 18, V(k), 15, uint32(k))
				}
			}
			if wide {
				a.Do(SSHL, S4, 18, 18, 31)
				a.Do(SSHL, S4, 19, 19, 31)
				a.Do(UZP1, H8, 18, 18, 19)
			}
			a.Write(16, 18, out, 0)
			a.Go("ADD $%d, %v", predStride, out)
			if !across {
				for k := range V(count - 1) {
					a.Move(k, k+1)
				}
			}
		})
		a.Go("ADD $16, %v", dst)
		a.Go("ADD $%d, %v", bytes(8, wide), src)
		a.Go("SUBS $8, %v", w)
		a.Go("BGT %s", again)
		a.Return()
	})
}

// weigh writes roundFast and meanFast.
func weigh(a *Asm, wide, mean bool) {
	name, doc, predictions := "round", "rounds a prediction to samples.", "a *int16"
	if mean {
		name, doc, predictions = "mean", "rounds the mean of two predictions to samples.", "a *int16, b *int16"
	}
	arguments := "dst *byte, stride int, " + predictions + ", w int, h int, shift int"
	a.Func(named(name, wide), doc+" The stride is in bytes.", arguments+more(wide), "", 0)
	const dst, stride, first, w, h, second, at, x, p, q R = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9
	a.LoadAll("dst", "stride", "a", "w", "h")
	if mean {
		a.Load("b", second)
	}
	minus(a, H8, 31, "shift")
	limit(a, wide)
	columns := func(w int) {
		a.Read(2*w, 0, p, 0)
		if mean { // a sum that does not fit is beyond all samples after the shift, too
			a.Read(2*w, 1, q, 0)
			a.Do(SQADD, H8, 0, 0, 1)
			a.Go("ADD $%d, %v", 2*w, q)
		}
		a.Do(SRSHL, H8, 0, 0, 31)
		clipped(a, w, 0, wide, at)
		a.Go("ADD $%d, %v", 2*w, p)
		a.Go("ADD $%d, %v", bytes(w, wide), at)
	}
	a.Loop(h, func() {
		a.Go("MOVD %v, %v", dst, at)
		a.Go("MOVD %v, %v", first, p)
		if mean {
			a.Go("MOVD %v, %v", second, q)
		}
		rest := a.NewLabel()
		a.Go("LSR $3, %v, %v", w, x)
		a.Go("CBZ %v, %s", x, rest)
		a.Loop(x, func() { columns(8) })
		a.Label(rest)
		for _, n := range []int{4, 2} {
			skip := a.NewLabel()
			a.Go("TBZ $%d, %v, %s", n/2, w, skip)
			columns(n)
			a.Label(skip)
		}
		a.Go("ADD %v, %v", stride, dst)
		a.Go("ADD $%d, %v", predStride, first)
		if mean {
			a.Go("ADD $%d, %v", predStride, second)
		}
	})
	a.Return()
}
