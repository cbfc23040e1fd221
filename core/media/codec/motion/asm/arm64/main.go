// Command arm64 writes the assembly of package motion for arm64.
package main

import . "vividstrain/core/media/neon"

// The registers of arguments.
const (
	dst, stride, src, step, w, h R = 0, 1, 2, 3, 4, 5
	third                        R = 6
	tmp                          R = 12
)

const block = "dst *byte, stride int, src *byte, step int, w int, h int"

func main() {
	Main(func(a *Asm) {
		copyBlock(a)
		prefetch(a)
		average(a)
		sad(a)
		sadFour(a)
		satd(a, "satdFast", "returns the SATD of w x h samples.", false)
		satd(a, "satdMeanFast", "returns the SATD with the average of two blocks.", true)
	})
}

func next(a *Asm) {
	a.Go("ADD %v, %v", stride, dst)
	a.Go("ADD %v, %v", step, src)
}

func copyBlock(a *Asm) {
	a.Func("copyFast", "copies w x h bytes.", block, "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	a.ByWidth(w, []int{16, 8, 4, 32, 64, 2}, func(w int) {
		a.Loop(h, func() {
			for at := 0; at < w; at += 16 {
				a.Read(min(w, 16), 0, src, at)
				a.Write(min(w, 16), 0, dst, at)
			}
			next(a)
		})
		a.Return()
	})
}

func prefetch(a *Asm) {
	a.Func("prefetchFast", "fetches a cache line of each of h rows.", "pix *byte, stride, h int", "", 0)
	a.Load("pix", dst)
	a.Load("stride", stride)
	a.Load("h", h)
	a.Loop(h, func() {
		a.Go("PRFM (%v), PSTL1KEEP", dst)
		a.Go("ADD %v, %v", stride, dst)
	})
	a.Return()
}

func average(a *Asm) {
	a.Func("averageFast", "computes (dst + src + 1) >> 1 for w x h samples.", block, "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	a.ByWidth(w, []int{16, 8, 4, 2}, func(w int) {
		a.Loop(h, func() {
			a.Read(w, 0, src, 0)
			a.Read(w, 1, dst, 0)
			a.Do(URHADD, B16, 0, 0, 1)
			a.Write(w, 0, dst, 0)
			next(a)
		})
		a.Return()
	})
}

// differ adds absolute differences of a row of w samples to half words.
func differ(a *Asm, w int, sum, x, y V) {
	a.Do(UABAL, B8, sum, x, y)
	if w == 16 {
		a.Do(UABAL, B16, sum, x, y)
	}
}

// total moves the sum of half words to a general register.
func total(a *Asm, sum V, to R) {
	a.Un(UADDLV, H8, sum, sum)
	a.Go("FMOVS F%d, %v", sum, to)
}

func sad(a *Asm) {
	a.Func("sadFast", "returns the SAD of w x h samples, w = 8 or 16.", block, "int", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	a.Zero(2)
	a.ByWidth(w, []int{16, 8}, func(w int) {
		a.Loop(h, func() {
			a.Read(w, 0, dst, 0)
			a.Read(w, 1, src, 0)
			differ(a, w, 2, 0, 1)
			next(a)
		})
		total(a, 2, tmp)
		a.Return(tmp)
	})
}

func sadFour(a *Asm) {
	a.Func("sadFourFast", "computes the SAD with each of the blocks that begin at four offsets.", block+", at *[4]int, sums *[4]int", "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	const at, sums R = 7, 8
	a.Load("at", at)
	a.Load("sums", sums)
	from := [4]R{9, 10, 11, 13}
	for i, r := range from {
		a.Go("MOVD %d(%v), %v", 8*i, at, r)
		a.Go("ADD %v, %v", src, r)
		a.Zero(V(4 + i))
	}
	a.ByWidth(w, []int{16, 8}, func(w int) {
		a.Loop(h, func() {
			a.Read(w, 0, dst, 0)
			a.Go("ADD %v, %v", stride, dst)
			for i, r := range from {
				a.Read(w, 1, r, 0)
				a.Go("ADD %v, %v", step, r)
				differ(a, w, V(4+i), 0, 1)
			}
		})
		for i := range from {
			total(a, V(4+i), tmp)
			a.Go("MOVD %v, %d(%v)", tmp, 8*i, sums)
		}
		a.Return()
	})
}

// satd sums the larger one of each two sums of the last step of the Hadamard transform: |x + y| +
// |x - y| is twice that, and the SATD is halved.
func satd(a *Asm, name, doc string, mean bool) {
	arguments := block
	if mean {
		arguments += ", other *byte"
	}
	a.Func(name, doc, arguments, "int", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	if mean {
		a.Load("other", third)
	}
	a.Zero(30)
	a.ByWidth(w, []int{16, 8, 4}, func(w int) {
		a.Go("LSR $2, %v", h)
		a.Loop(h, func() {
			for y := range V(4) {
				a.Read(w, y, dst, 0)
				a.Read(w, 4+y, src, 0)
				if mean {
					a.Read(w, 8, third, 0)
					a.Go("ADD %v, %v", step, third)
					a.Do(URHADD, B16, 4+y, 4+y, 8)
				}
				next(a)
			}
			transformed(a, B8)
			if w == 16 {
				transformed(a, B16)
			}
		})
		a.Un(ADDV, S4, 30, 30)
		a.Go("FMOVS F30, %v", tmp)
		a.Return(tmp)
	})
}

// transformed adds the SATD of the low or high eight columns of four rows, in V0 to V3 and V4 to
// V7.
func transformed(a *Asm, half T) {
	for y := range V(4) {
		a.Do(USUBL, half, 16+y, y, 4+y)
	}
	butterfly := func(t T, sum, difference, x, y V) {
		a.Do(ADD, t, sum, x, y)
		a.Do(SUB, t, difference, x, y)
	}
	butterfly(H8, 20, 21, 16, 17)
	butterfly(H8, 22, 23, 18, 19)
	butterfly(H8, 16, 17, 20, 22)
	butterfly(H8, 18, 19, 21, 23)
	for _, pair := range [][2]V{{16, 17}, {18, 19}} { // neighbours in a row
		x, y := pair[0], pair[1]
		a.Do(TRN1, H8, 20, x, y)
		a.Do(TRN2, H8, 21, x, y)
		butterfly(H8, x, y, 20, 21)
		a.Do(TRN1, S4, 20, x, y)
		a.Do(TRN2, S4, 21, x, y)
		a.Un(ABS, H8, 20, 20)
		a.Un(ABS, H8, 21, 21)
		a.Do(UMAX, H8, 20, 20, 21)
		a.Un(UADALP, H8, 30, 20)
	}
}
