package main

import . "vividstrain/core/media/neon"

// transpose transposes 4x4 words in place, with the help of V28 to V31.
func transpose(a *Asm, v [4]V) {
	a.Do(TRN1, S4, 28, v[0], v[1])
	a.Do(TRN2, S4, 29, v[0], v[1])
	a.Do(TRN1, S4, 30, v[2], v[3])
	a.Do(TRN2, S4, 31, v[2], v[3])
	a.Do(TRN1, D2, v[0], 28, 30)
	a.Do(TRN2, D2, v[2], 28, 30)
	a.Do(TRN1, D2, v[1], 29, 31)
	a.Do(TRN2, D2, v[3], 29, 31)
}

// transform4 is the one-dimensional inverse transform of 4 coefficients (8.5.12.2), in place, with
// the help of V20 to V25.
func transform4(a *Asm, c [4]V) {
	a.Do(ADD, S4, 20, c[0], c[2])
	a.Do(SUB, S4, 21, c[0], c[2])
	a.Right(SSHR, S4, 24, c[1], 1)
	a.Right(SSHR, S4, 25, c[3], 1)
	a.Do(SUB, S4, 22, 24, c[3])
	a.Do(ADD, S4, 23, c[1], 25)
	a.Do(ADD, S4, c[0], 20, 23)
	a.Do(ADD, S4, c[1], 21, 22)
	a.Do(SUB, S4, c[2], 21, 22)
	a.Do(SUB, S4, c[3], 20, 23)
}

// addRow adds residuals, half words in V16, to eight or four bytes at dst.
func addRow(a *Asm, w int) {
	a.Read(w, 17, dst, 0)
	a.Left(USHLL, B8, 17, 17, 0)
	a.Do(SQADD, H8, 17, 17, 16)
	a.Un(SQXTUN, B8, 17, 17)
	a.Write(w, 17, dst, 0)
	a.Go("ADD %v, %v", stride, dst)
}

func add4(a *Asm) {
	a.Func("add4Fast", "transforms a 4x4 block, adds it to dst and clears it.", "dst *byte, stride int, c *[16]int32", "", 0)
	const c R = 6
	a.Load("dst", dst)
	a.Load("stride", stride)
	a.Load("c", c)
	rows := [4]V{0, 1, 2, 3}
	a.Go("VLD4 (%v), [V0.S4, V1.S4, V2.S4, V3.S4]", c)
	transform4(a, rows)
	transpose(a, rows)
	transform4(a, rows)
	a.Const(S4, 26, 32, tmp)
	a.Zero(27)
	for y, v := range rows {
		a.Write(16, 27, c, 16*y)
		a.Do(ADD, S4, v, v, 26) // sums may wrap, as in Go, so that the shift must not round by itself
		a.Right(SSHR, S4, v, v, 6)
		a.Un(SQXTN, H4, 16, v)
		addRow(a, 4)
	}
	a.Return()
}

func add8(a *Asm) {
	a.Func("add8Fast", "transforms an 8x8 block, adds it to dst and clears it.", "dst *byte, stride int, c *[64]int32", "", 0)
	const c R = 6
	a.Load("dst", dst)
	a.Load("stride", stride)
	a.Load("c", c)
	for half := range V(2) { // four rows, the left and the right half of each
		at := 8 * half
		for y := range V(4) {
			a.Read(16, at+y, c, int(128*half+32*y))
			a.Read(16, at+4+y, c, int(128*half+32*y+16))
		}
		left, right := [4]V{at, at + 1, at + 2, at + 3}, [4]V{at + 4, at + 5, at + 6, at + 7}
		transpose(a, left)
		transpose(a, right)
		transform8(a, [8]V{at, at + 1, at + 2, at + 3, at + 4, at + 5, at + 6, at + 7})
		transpose(a, left)
		transpose(a, right)
	}
	transform8(a, [8]V{0, 1, 2, 3, 8, 9, 10, 11})
	transform8(a, [8]V{4, 5, 6, 7, 12, 13, 14, 15})
	a.Const(S4, 26, 32, tmp)
	a.Zero(27)
	for y := range V(8) {
		left := y>>2<<3 | y&3
		a.Write(16, 27, c, int(32*y))
		a.Write(16, 27, c, int(32*y+16))
		for i := range V(2) {
			v := left + 4*i
			a.Do(ADD, S4, v, v, 26)
			a.Right(SSHR, S4, v, v, 6)
		}
		a.Un(SQXTN, H4, 16, left)
		a.Un(SQXTN, H8, 16, left+4)
		addRow(a, 8)
	}
	a.Return()
}

// transform8 is the one-dimensional inverse transform of 8 coefficients (8.5.13.2), in place, with
// the help of V16 to V31.
func transform8(a *Asm, c [8]V) {
	add := func(d, n, m V) { a.Do(ADD, S4, d, n, m) }
	sub := func(d, n, m V) { a.Do(SUB, S4, d, n, m) }
	half := func(d, n V, by uint32) { a.Right(SSHR, S4, d, n, by) }
	const b0, b2, b4, b6, a1, a3, a5, a7, t, u V = 16, 17, 18, 19, 20, 21, 22, 23, 24, 25
	// The even coefficients.
	add(b0, c[0], c[4])
	sub(b2, c[0], c[4])
	half(t, c[2], 1)
	sub(t, t, c[6]) // a4
	half(u, c[6], 1)
	add(u, u, c[2]) // a6
	sub(b6, b0, u)
	add(b0, b0, u)
	sub(b4, b2, t)
	add(b2, b2, t)
	// The odd ones.
	sub(a1, c[5], c[3])
	sub(a1, a1, c[7])
	half(t, c[7], 1)
	sub(a1, a1, t)
	add(a3, c[1], c[7])
	sub(a3, a3, c[3])
	half(t, c[3], 1)
	sub(a3, a3, t)
	sub(a5, c[7], c[1])
	add(a5, a5, c[5])
	half(t, c[5], 1)
	add(a5, a5, t)
	add(a7, c[3], c[5])
	add(a7, a7, c[1])
	half(t, c[1], 1)
	add(a7, a7, t)
	half(t, a7, 2)
	add(t, t, a1) // b1
	half(u, a1, 2)
	sub(a7, a7, u) // b7
	half(u, a5, 2)
	add(u, u, a3) // b3
	half(a3, a3, 2)
	sub(a5, a3, a5) // b5
	add(c[0], b0, a7)
	sub(c[7], b0, a7)
	add(c[1], b2, a5)
	sub(c[6], b2, a5)
	add(c[2], b4, u)
	sub(c[5], b4, u)
	add(c[3], b6, t)
	sub(c[4], b6, t)
}

func addDC(a *Asm) {
	a.Func("addDCFast", "adds plus to size x size samples and takes minus off them.", "dst *byte, stride int, size int, plus int, minus int", "", 0)
	const size, plus, minus R = 6, 7, 8
	a.Load("dst", dst)
	a.Load("stride", stride)
	a.Load("size", size)
	a.Load("plus", plus)
	a.Load("minus", minus)
	a.Dup(B8, 1, plus)
	a.Dup(B8, 2, minus)
	a.ByWidth(size, []int{8, 4}, func(w int) {
		a.Loop(size, func() {
			a.Read(w, 0, dst, 0)
			a.Do(UQADD, B8, 0, 0, 1)
			a.Do(UQSUB, B8, 0, 0, 2)
			a.Write(w, 0, dst, 0)
			a.Go("ADD %v, %v", stride, dst)
		})
		a.Return()
	})
}

func addDCs(a *Asm) {
	a.Func("addDCsFast", "adds one value to each of the 4x4 blocks of w x h samples, w = 16 or 8.", "dst *byte, stride, w, h int, dcs *[16]int16", "", 0)
	const dcs, rows, width R = 6, 7, 8
	a.Load("dst", dst)
	a.Load("stride", stride)
	a.Load("dcs", dcs)
	a.Load("w", width)
	a.Load("h", rows)
	a.Go("LSR $2, %v", rows)
	loop := func(w int) {
		a.Loop(rows, func() {
			a.Read(8, 0, dcs, 0)
			a.Go("ADD $%d, %v", w/2, dcs)
			a.Do(ZIP1, H8, 0, 0, 0)
			a.Do(ZIP1, S4, 1, 0, 0) // the left eight samples
			a.Do(ZIP2, S4, 2, 0, 0)
			for range 4 {
				a.Read(w, 3, dst, 0)
				a.Left(USHLL, B8, 4, 3, 0)
				a.Do(SQADD, H8, 4, 4, 1)
				if w == 16 {
					a.Left(USHLL, B16, 5, 3, 0)
					a.Do(SQADD, H8, 5, 5, 2)
				}
				a.Un(SQXTUN, B8, 3, 4)
				if w == 16 {
					a.Un(SQXTUN, B16, 3, 5)
				}
				a.Write(w, 3, dst, 0)
				a.Go("ADD %v, %v", stride, dst)
			}
		})
		a.Return()
	}
	a.Go("CMP $8, %v", width)
	a.Go("BEQ eightWide")
	loop(16)
	a.Go("eightWide:")
	loop(8)
}
