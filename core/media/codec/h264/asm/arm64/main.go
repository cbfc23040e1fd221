// Command arm64 writes the assembly of package h264 for arm64: for samples of 8 bits.
package main

import . "vividstrain/core/media/neon"

// The registers of arguments.
const (
	dst, stride, src, step, w, h R = 0, 1, 2, 3, 4, 5
	tmp                          R = 12
)

const block = "dst *byte, stride int, src *byte, step int, w int, h int"

func main() {
	Main(func(a *Asm) {
		across(a)
		down(a)
		center(a)
		bilinear(a)
		add4(a)
		add8(a)
		addDC(a)
		addDCs(a)
		edges(a)
	})
}

// constants are the factors of the six taps (8-241) in elements of V15.
func constants(a *Asm) {
	a.Bytes(15, [16]uint8{20, 0, 5, 0}, tmp)
}

// taps filters the low or high eight bytes of six registers: a + f - 5(b + e) + 20(c + d), in half
// words.
func taps(a *Asm, half T, to V, s [6]V) {
	a.Do(UADDL, half, to, s[0], s[5])
	a.Do(UADDL, half, 28, s[2], s[3])
	a.Do(UADDL, half, 29, s[1], s[4])
	a.Lane(MLALane, H8, to, 28, 15, 0)
	a.Lane(MLSLane, H8, to, 29, 15, 1)
}

// rounded filters w bytes of six registers, and rounds: (v + 16) >> 5.
func rounded(a *Asm, w int, to V, s [6]V) {
	taps(a, B8, 26, s)
	a.Right(SQRSHRUN, B8, to, 26, 5)
	if w == 16 {
		taps(a, B16, 27, s)
		a.Right(SQRSHRUN, B16, to, 27, 5)
	}
}

func across(a *Asm) {
	a.Func("acrossFast", "filters w x h samples with six taps in a row.", block, "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	constants(a)
	a.ByWidth(w, []int{16, 8, 4}, func(w int) {
		a.Loop(h, func() {
			for i := range 6 {
				a.Read(w, V(i), src, i)
			}
			rounded(a, w, 6, [6]V{0, 1, 2, 3, 4, 5})
			a.Write(w, 6, dst, 0)
			a.Go("ADD %v, %v", stride, dst)
			a.Go("ADD %v, %v", step, src)
		})
		a.Return()
	})
}

func down(a *Asm) {
	a.Func("downFast", "filters w x h samples with six taps in a column.", block, "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	constants(a)
	a.ByWidth(w, []int{16, 8, 4}, func(w int) {
		row := func(to V) {
			a.Read(w, to, src, 0)
			a.Go("ADD %v, %v", step, src)
		}
		for i := range V(5) {
			row(i)
		}
		a.Loop(h, func() {
			row(5)
			rounded(a, w, 6, [6]V{0, 1, 2, 3, 4, 5})
			a.Write(w, 6, dst, 0)
			a.Go("ADD %v, %v", stride, dst)
			for i := range V(5) {
				a.Move(i, i+1)
			}
		})
		a.Return()
	})
}

// center filters each row downwards into half words on the stack, and from there across: the order
// does not matter, since only the sum is rounded.
func center(a *Asm) {
	a.Func("centerFast", "filters w x h samples with six taps both ways.", block, "", 64)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	constants(a)
	const middle R = 13
	a.Go("MOVD $middle-64(SP), %v", middle)
	rows := [6]R{src, 6, 7, 8, 9, 10}
	for i := 1; i < 6; i++ {
		a.Go("ADD %v, %v, %v", step, rows[i-1], rows[i])
	}
	a.ByWidth(w, []int{16, 8, 4}, func(w int) {
		parts := map[int][]int{16: {0, 8, 13}, 8: {0, 5}, 4: {0, 1}}[w] // eight columns from each on
		a.Loop(h, func() {
			for _, x := range parts {
				for i, r := range rows {
					a.Read(8, V(i), r, x)
				}
				taps(a, B8, 6, [6]V{0, 1, 2, 3, 4, 5})
				a.Write(16, 6, middle, 2*x)
			}
			for x := 0; x < w; x += 8 {
				for i := range V(6) {
					a.Read(16, i, middle, 2*(x+int(i)))
				}
				horizontally(a, H4, 16)
				horizontally(a, H8, 16)
				a.Un(UQXTN, B8, 16, 16)
				a.Write(min(w, 8), 16, dst, x)
			}
			a.Go("ADD %v, %v", stride, dst)
			for _, r := range rows {
				a.Go("ADD %v, %v", step, r)
			}
		})
		a.Return()
	})
}

// horizontally filters the low or high four half words of V0 to V5: (v + 512) >> 10.
func horizontally(a *Asm, half T, to V) {
	a.Do(SADDL, half, 20, 0, 5)
	a.Do(SADDL, half, 21, 1, 4)
	a.Do(SADDL, half, 22, 2, 3)
	a.Left(SHL, S4, 23, 22, 4) // 20 (c + d) - 5 (b + e) = 5 (4 (c + d) - (b + e))
	a.Left(SHL, S4, 22, 22, 2)
	a.Do(ADD, S4, 22, 22, 23)
	a.Do(ADD, S4, 20, 20, 22)
	a.Left(SHL, S4, 23, 21, 2)
	a.Do(ADD, S4, 21, 21, 23)
	a.Do(SUB, S4, 20, 20, 21)
	a.Right(SQRSHRUN, half, to, 20, 10)
}

func bilinear(a *Asm) {
	a.Func("bilinearFast", "interpolates w = 8, 4 or 2 samples a row at dx, dy eighths.", block+", dx int, dy int", "", 0)
	a.LoadAll("dst", "stride", "src", "step", "w", "h")
	const dx, dy, restX, restY R = 6, 7, 8, 9
	a.Load("dx", dx)
	a.Load("dy", dy)
	a.Go("MOVD $8, %v", tmp)
	a.Go("SUB %v, %v, %v", dx, tmp, restX)
	a.Go("SUB %v, %v, %v", dy, tmp, restY)
	for i, f := range [4][2]R{{restX, restY}, {dx, restY}, {restX, dy}, {dx, dy}} {
		a.Go("MUL %v, %v, %v", f[0], f[1], tmp)
		a.Dup(B8, V(16+i), tmp)
	}
	a.ByWidth(w, []int{8, 4, 2}, func(w int) {
		row := func(to V) {
			a.Read(w, to, src, 0)
			a.Read(w, to+1, src, 1)
			a.Go("ADD %v, %v", step, src)
		}
		row(0)
		a.Loop(h, func() {
			row(2)
			a.Do(UMULL, B8, 4, 0, 16)
			for i := range V(3) {
				a.Do(UMLAL, B8, 4, 1+i, 17+i)
			}
			a.Right(RSHRN, B8, 4, 4, 6)
			a.Write(w, 4, dst, 0)
			a.Go("ADD %v, %v", stride, dst)
			a.Move(0, 2)
			a.Move(1, 3)
		})
		a.Return()
	})
}
