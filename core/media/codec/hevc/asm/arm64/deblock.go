package main

import . "vividstrain/core/media/neon"

// The samples across an edge, each register that of four lines, as half words.
const p3, p2, p1, p0, q0, q1, q2, q3 V = 0, 1, 2, 3, 4, 5, 6, 7

const (
	pix, stride, beta, tc, most, line R = 0, 1, 2, 3, 4, 5

	dp0, dp3, dq0, dq3, d0, d3, limit0, tmp R = 6, 7, 8, 9, 10, 11, 12, 13

	next, halves R = 14, 15 // tc of the second half, and how many are left
)

// deblock writes the luma filter of twice four lines (8.7.2.5.3, 8.7.2.5.6, 8.7.2.5.7), with a tc for each half.
func deblock(a *Asm, wide, vertical bool) {
	name, doc := "deblockAcross", "filters eight columns across a horizontal edge."
	if vertical {
		name, doc = "deblockDown", "filters eight rows across a vertical edge."
	}
	a.Func(named(name, wide), doc+" The stride is in bytes.", "pix *byte, stride int, beta int, tc0 int, tc1 int, most int", "", 0)
	a.LoadAll("pix", "stride", "beta", "tc0", "most")
	a.Load("tc1", next)
	a.Go("MOVD $2, %v", halves)
	half, done, end := a.NewLabel(), a.NewLabel(), a.NewLabel()
	a.Label(half)
	a.Go("CBZ %v, %s", tc, done) // nothing is filtered
	if vertical {
		a.Go("SUB $%d, %v, %v", bytes(4, wide), pix, line)
		load(a, 8, 16, 4, wide)
		turn(a)
	} else {
		a.Go("SUB %v<<2, %v, %v", stride, pix, line)
		load(a, 4, p3, 8, wide)
	}
	decide(a, done)
	if vertical {
		turnBack(a)
		a.Go("SUB $%d, %v, %v", bytes(4, wide), pix, line)
		store(a, 8, 16, 4, wide)
	} else {
		a.Go("SUB %v<<1, %v, %v", stride, pix, line)
		a.Go("SUB %v, %v", stride, line)
		store(a, 4, p2, 6, wide)
	}
	a.Label(done)
	a.Go("SUB $1, %v", halves)
	a.Go("CBZ %v, %s", halves, end)
	if vertical {
		a.Go("ADD %v<<2, %v", stride, pix)
	} else {
		a.Go("ADD $%d, %v", bytes(4, wide), pix)
	}
	a.Go("MOVD %v, %v", next, tc)
	a.Go("B %s", half)
	a.Label(end)
	a.Return()
}

// load loads n lines of w samples into registers from first on, as half words.
func load(a *Asm, w int, first, n V, wide bool) {
	for v := first; v < first+n; v++ {
		a.Read(bytes(w, wide), v, line, 0)
		a.Go("ADD %v, %v", stride, line)
		if !wide {
			a.Left(USHLL, B8, v, v, 0)
		}
	}
}

// store stores n lines of w samples from registers from first on.
func store(a *Asm, w int, first, n V, wide bool) {
	for v := first; v < first+n; v++ {
		if !wide {
			a.Un(XTN, B8, v, v)
		}
		a.Write(bytes(w, wide), v, line, 0)
		a.Go("ADD %v, %v", stride, line)
	}
}

// turn turns four rows of eight half words, in V16 to V19, into p3 to q3.
func turn(a *Asm) {
	for i, zip := range []Op{ZIP1, ZIP2} {
		a.Do(zip, H8, 20, 16, 18)
		a.Do(zip, H8, 21, 17, 19)
		for j, again := range []Op{ZIP1, ZIP2} {
			v := V(4*i + 2*j)
			a.Do(again, H8, v, 20, 21)
			a.Extract(v+1, v, v, 8)
		}
	}
}

// turnBack turns p3 to q3 into four rows in V16 to V19.
func turnBack(a *Asm) {
	a.Do(ZIP1, H8, 20, p3, q0)
	a.Do(ZIP1, H8, 21, p1, q2)
	a.Do(ZIP1, H8, 22, p2, q1)
	a.Do(ZIP1, H8, 23, p0, q3)
	for i, zip := range []Op{ZIP1, ZIP2} {
		a.Do(zip, H8, 24, 20, 21)
		a.Do(zip, H8, 25, 22, 23)
		a.Do(ZIP1, H8, V(16+2*i), 24, 25)
		a.Do(ZIP2, H8, V(17+2*i), 24, 25)
	}
}

// decide chooses a filter and applies it; where none is, it jumps to done.
func decide(a *Asm, done string) {
	for _, side := range [][4]V{{p2, p1, p0, 16}, {q2, q1, q0, 17}} { // |p2 - 2 p1 + p0|
		a.Do(ADD, H8, side[3], side[0], side[2])
		a.Do(SUB, H8, side[3], side[3], side[1])
		a.Do(SUB, H8, side[3], side[3], side[1])
		a.Un(ABS, H8, side[3], side[3])
	}
	a.Do(UABD, H8, 18, p3, p0)
	a.Do(UABD, H8, 19, q0, q3)
	a.Do(ADD, H8, 18, 18, 19)
	a.Do(UABD, H8, 19, p0, q0)
	for _, m := range []struct {
		v    V
		lane int
		to   R
	}{{16, 0, dp0}, {16, 3, dp3}, {17, 0, dq0}, {17, 3, dq3}} {
		a.Go("VMOV V%d.H[%d], %v", m.v, m.lane, m.to)
	}
	a.Go("ADD %v, %v, %v", dp0, dq0, d0)
	a.Go("ADD %v, %v, %v", dp3, dq3, d3)
	a.Go("ADD %v, %v, %v", d0, d3, tmp)
	a.Go("CMP %v, %v", beta, tmp)
	a.Go("BGE %s", done)
	a.Dup(H8, 31, tc)
	weak, end := a.NewLabel(), a.NewLabel()
	for _, m := range []struct {
		lane int
		d    R
	}{{0, d0}, {3, d3}} {
		a.Go("LSL $1, %v, %v", m.d, tmp)
		a.Go("LSR $2, %v, %v", beta, limit0)
		a.Go("CMP %v, %v", limit0, tmp)
		a.Go("BGE %s", weak)
		a.Go("VMOV V18.H[%d], %v", m.lane, tmp)
		a.Go("LSR $3, %v, %v", beta, limit0)
		a.Go("CMP %v, %v", limit0, tmp)
		a.Go("BGE %s", weak)
		a.Go("VMOV V19.H[%d], %v", m.lane, tmp)
		a.Go("ADD %v<<2, %v, %v", tc, tc, limit0)
		a.Go("ADD $1, %v", limit0)
		a.Go("LSR $1, %v", limit0)
		a.Go("CMP %v, %v", limit0, tmp)
		a.Go("BGE %s", weak)
	}
	strong(a)
	a.Go("B %s", end)
	a.Label(weak)
	normal(a)
	a.Label(end)
}

// strong filters three samples on both sides, each by at most 2 tc.
func strong(a *Asm) {
	a.Left(SHL, H8, 30, 31, 1)
	a.Do(ADD, H8, 24, p0, q0)
	for i, s := range [][6]V{{p3, p2, p1, p0, q0, q1}, {q3, q2, q1, q0, p0, p1}} {
		to := V(16 + 3*i)
		a.Do(ADD, H8, 25, 24, s[2]) // p1 + p0 + q0
		a.Do(ADD, H8, 26, 25, s[1])
		a.Right(URSHR, H8, to+1, 26, 2)
		a.Do(ADD, H8, 27, s[0], s[1])
		a.Left(SHL, H8, 27, 27, 1)
		a.Do(ADD, H8, 27, 27, 26)
		a.Right(URSHR, H8, to, 27, 3)
		a.Do(ADD, H8, 25, 25, 26)
		a.Do(ADD, H8, 25, 25, s[5])
		a.Right(URSHR, H8, to+2, 25, 3)
	}
	for i, old := range []V{p2, p1, p0, q2, q1, q0} {
		v := V(16 + i)
		a.Do(SUB, H8, 25, old, 30)
		a.Do(ADD, H8, 26, old, 30)
		a.Do(SMAX, H8, v, v, 25)
		a.Do(SMIN, H8, old, v, 26)
	}
}

// between keeps v between minus and plus a limit.
func between(a *Asm, v, limit, minus V) {
	a.Do(SMIN, H8, v, v, limit)
	a.Do(SMAX, H8, v, v, minus)
}

// normal filters one or two samples on both sides, in lines whose step is small enough.
func normal(a *Asm) {
	a.Dup(H8, 29, most)
	a.Zero(28)
	sample := func(v V) {
		a.Do(SMIN, H8, v, v, 29)
		a.Do(SMAX, H8, v, v, 28)
	}
	a.Do(SUB, H8, 16, q0, p0)
	a.Left(SHL, H8, 17, 16, 3)
	a.Do(ADD, H8, 16, 16, 17)
	a.Do(SUB, H8, 17, q1, p1)
	a.Left(SHL, H8, 18, 17, 1)
	a.Do(ADD, H8, 17, 17, 18)
	a.Do(SUB, H8, 16, 16, 17)
	a.Right(SRSHR, H8, 16, 16, 4) // (9 (q0 - p0) - 3 (q1 - p1) + 8) >> 4
	a.Un(ABS, H8, 17, 16)
	a.Left(SHL, H8, 18, 31, 3)
	a.Left(SHL, H8, 19, 31, 1)
	a.Do(ADD, H8, 18, 18, 19)
	a.Do(CMGT, H8, 18, 18, 17) // |d| < 10 tc
	a.Un(NEG, H8, 19, 31)
	between(a, 16, 31, 19)
	a.Right(SSHR, H8, 30, 31, 1)
	a.Un(NEG, H8, 19, 30)
	a.Go("ADD %v>>1, %v, %v", beta, beta, limit0)
	a.Go("LSR $3, %v", limit0)
	a.Un(NEG, H8, 20, 16)
	for _, s := range []struct {
		far, near, edge, by V
		d0, d3              R
	}{{p2, p1, p0, 16, dp0, dp3}, {q2, q1, q0, 20, dq0, dq3}} {
		skip := a.NewLabel()
		a.Go("ADD %v, %v, %v", s.d0, s.d3, tmp)
		a.Go("CMP %v, %v", limit0, tmp)
		a.Go("BGE %s", skip)
		a.Do(URHADD, H8, 21, s.far, s.edge)
		a.Do(SUB, H8, 21, 21, s.near)
		a.Do(ADD, H8, 21, 21, s.by)
		a.Right(SSHR, H8, 21, 21, 1)
		between(a, 21, 30, 19)
		a.Do(ADD, H8, 21, 21, s.near)
		sample(21)
		a.Do(BIT, B16, s.near, 21, 18)
		a.Label(skip)
		a.Do(ADD, H8, 21, s.edge, s.by)
		sample(21)
		a.Do(BIT, B16, s.edge, 21, 18)
	}
}
