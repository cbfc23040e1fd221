package main

import . "vividstrain/core/media/neon"

// An edge is filtered by way of edgeFilter, whose alpha, beta and tc0 are at these bytes; that of Cr
// is after that of Cb.
const (
	alphaAt  = 0
	betaAt   = 4
	tc0At    = 8
	filterOf = 32
)

// The samples across an edge, each register a sample of all lines, and what decides.
const (
	p3, p2, p1, p0, q0, q1, q2, q3 V = 0, 1, 2, 3, 4, 5, 6, 7

	alpha, beta, tc0, mask, nearP, nearQ V = 16, 17, 18, 19, 20, 21
)

const (
	pix, filter, bs, line, more, planeV, lineV R = 0, 2, 3, 4, 5, 6, 7
)

func edges(a *Asm) {
	for _, e := range []struct {
		name, doc       string
		columns, strong bool
	}{
		{"lumaRow", "the horizontal edge above 16 samples at pix", false, false},
		{"lumaRowStrong", "the horizontal edge above 16 samples at pix with bS 4", false, true},
		{"lumaColumn", "the vertical edge to the left of 16 lines from pix on", true, false},
		{"lumaColumnStrong", "the vertical edge to the left of 16 lines from pix on with bS 4", true, true},
	} {
		a.Func(e.name+"Fast", "filters "+e.doc+"; bs holds the strength of each four.", "pix *byte, stride int, f *byte, bs uint32", "", 0)
		a.Load("pix", pix)
		a.Load("stride", stride)
		a.Load("f", filter)
		a.Load32("bs", bs)
		first, last := p2, q2
		if e.strong || e.columns {
			first, last = p3, q3
		}
		rows := func(move func(bytes int, v V, base R, offset int), first, last V) {
			a.Go("SUB %v<<2, %v, %v", stride, pix, line)
			for v := p3; v <= last; v++ {
				if v >= first {
					move(16, v, line, 0)
				}
				a.Go("ADD %v, %v", stride, line)
			}
		}
		columns := func(move func(t T, v V, i int, base R)) {
			a.Go("SUB $4, %v, %v", pix, line)
			for i := range 16 {
				move(D2, V(i%8), i/8, line)
				a.Go("ADD %v, %v", stride, line)
			}
		}
		if e.columns {
			columns(a.ReadLane)
			transposeBytes(a)
		} else {
			rows(a.Read, first, last)
		}
		for i, at := range []int{alphaAt, betaAt} {
			a.Go("MOVWU %d(%v), %v", at, filter, R(8+i))
			a.Dup(B16, alpha+V(i), R(8+i))
		}
		closeEnough(a)
		if e.strong {
			nothing := whereNothing(a)
			strongLuma(a)
			end(a, e.columns, columns, func() { rows(a.Write, p2, q2) }, nothing)
		} else {
			a.Dup(S4, 22, bs)
			a.Bytes(23, [16]uint8{0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3}, tmp)
			a.Table(22, 22, 23)
			a.Read(8, 24, filter, tc0At)
			limits(a, 24, 22)
			nothing := whereNothing(a)
			normalLuma(a)
			end(a, e.columns, columns, func() { rows(a.Write, p1, q1) }, nothing)
		}
	}
	chroma(a)
}

// end stores what was filtered.
func end(a *Asm, turned bool, columns func(move func(t T, v V, i int, base R)), rows func(), nothing string) {
	if turned {
		transposeBytes(a)
		columns(a.WriteLane)
	} else {
		rows()
	}
	a.Label(nothing)
	a.Return()
}

// closeEnough sets mask where the samples at the edge differ by less than alpha and beta.
func closeEnough(a *Asm) {
	a.Do(UABD, B16, mask, p0, q0)
	a.Do(CMHI, B16, mask, alpha, mask)
	for _, pair := range [][2]V{{p1, p0}, {q1, q0}} {
		a.Do(UABD, B16, 22, pair[0], pair[1])
		a.Do(CMHI, B16, 22, beta, 22)
		a.Do(AND, B16, mask, mask, 22)
	}
}

// limits sets tc0 of each line by its strength, and takes lines without strength out of mask.
func limits(a *Asm, table, strength V) {
	a.Table(tc0, table, strength)
	a.Un(CMGE0, B16, 22, tc0)
	a.Do(AND, B16, mask, mask, 22)
	a.Do(AND, B16, tc0, tc0, mask)
}

// whereNothing jumps to a label if no line is to be filtered.
func whereNothing(a *Asm) (label string) {
	label = a.NewLabel()
	a.Go("VMOV V%d.D[0], R13", mask)
	a.Go("VMOV V%d.D[1], R14", mask)
	a.Go("ORR R13, R14")
	a.Go("CBZ R14, %s", label)
	return label
}

// near sets nearP and nearQ where p2 and q2 differ from the edge by less than beta.
func near(a *Asm) {
	for _, side := range [][3]V{{nearP, p2, p0}, {nearQ, q2, q0}} {
		a.Do(UABD, B16, 22, side[1], side[2])
		a.Do(CMHI, B16, 22, beta, 22)
		a.Do(AND, B16, side[0], mask, 22)
	}
}

// normalLuma filters with bS under 4 (8.7.2.3).
func normalLuma(a *Asm) {
	near(a)
	a.Do(SUB, B16, 25, tc0, nearP) // a mask is -1
	a.Do(SUB, B16, 25, 25, nearQ)
	delta(a, 25)
	a.Do(URHADD, B16, 26, p0, q0)
	for _, side := range [][3]V{{nearP, p2, p1}, {nearQ, q2, q1}} { // p1 + clip((p2 + avg - 2 p1) >> 1) by tC0
		a.Do(UHADD, B16, 27, side[1], 26)
		a.Do(UQSUB, B16, 28, side[2], tc0)
		a.Do(UMAX, B16, 27, 27, 28)
		a.Do(UQADD, B16, 28, side[2], tc0)
		a.Do(UMIN, B16, 27, 27, 28)
		a.Do(BIT, B16, side[2], 27, side[0])
	}
	move(a)
}

// delta computes by how much p0 and q0 move, at most tc, into V30.
func delta(a *Asm, tc V) {
	for _, half := range []T{B8, B16} {
		a.Do(USUBL, half, 28, q0, p0)
		a.Do(USUBL, half, 29, p1, q1)
		a.Left(SHL, H8, 28, 28, 2)
		a.Do(ADD, H8, 28, 28, 29)
		a.Right(SQRSHRN, half, 30, 28, 3)
	}
	a.Un(NEG, B16, 29, tc)
	a.Do(SMIN, B16, 30, 30, tc)
	a.Do(SMAX, B16, 30, 30, 29)
}

// move moves p0 and q0 towards each other by V30.
func move(a *Asm) {
	a.Un(NEG, B16, 29, 30)
	a.Un(USQADD, B16, p0, 30)
	a.Un(USQADD, B16, q0, 29)
}

// strongLuma filters with bS 4 (8.7.2.4).
func strongLuma(a *Asm) {
	a.Go("LSR $2, R8, R10") // alpha was put there
	a.Go("ADD $2, R10")
	near(a)
	a.Dup(B16, 23, 10)
	a.Do(UABD, B16, 22, p0, q0)
	a.Do(CMHI, B16, 22, 23, 22)
	a.Do(AND, B16, nearP, nearP, 22)
	a.Do(AND, B16, nearQ, nearQ, 22)
	sides := [2][8]V{{p3, p2, p1, p0, q0, q1, nearP, 24}, {q3, q2, q1, q0, p0, p1, nearQ, 28}}
	for _, s := range sides {
		for _, half := range []T{B8, B16} {
			strongHalf(a, half, s)
		}
	}
	for _, s := range sides {
		a.Do(BIT, B16, s[3], s[7]+3, mask)
		for i := range V(3) {
			a.Do(BIT, B16, s[3-i], s[7]+i, s[6])
		}
	}
}

// strongHalf computes the samples on one side of an edge: the three next to it where they are flat,
// and the first where they are not, into four registers from s[7] on.
func strongHalf(a *Asm, half T, s [8]V) {
	p3, p2, p1, p0, q0, q1, to := s[0], s[1], s[2], s[3], s[4], s[5], s[7]
	const sum, more, other V = 8, 9, 10
	a.Do(UADDL, half, sum, p0, q0)
	a.Do(UADDW, half, sum, sum, p1)
	a.Do(UADDW, half, more, sum, p2) // p2 + p1 + p0 + q0
	a.Right(RSHRN, half, to+1, more, 2)
	a.Do(ADD, H8, sum, sum, more)
	a.Do(UADDW, half, sum, sum, q1)
	a.Right(RSHRN, half, to, sum, 3)
	a.Do(UADDL, half, other, p3, p2)
	a.Left(SHL, H8, other, other, 1)
	a.Do(ADD, H8, other, other, more)
	a.Right(RSHRN, half, to+2, other, 3)
	a.Do(UADDL, half, other, p0, q1)
	a.Do(UADDW, half, other, other, p1)
	a.Do(UADDW, half, other, other, p1)
	a.Right(RSHRN, half, to+3, other, 2)
}

// transposeBytes turns V0 to V7, each with row i in its low and row i+8 in its high half, into eight
// columns of 16 samples, and back.
func transposeBytes(a *Asm) {
	for _, s := range []struct {
		t    T
		next V
	}{{B16, 1}, {H8, 2}, {S4, 4}} {
		for v := range V(8) {
			if v&s.next != 0 {
				continue
			}
			a.Do(TRN1, s.t, 8, v, v+s.next)
			a.Do(TRN2, s.t, v+s.next, v, v+s.next)
			a.Move(v, 8)
		}
	}
}

// chroma writes the filters of an edge of 8 lines in both chroma planes: Cb is in the low half of
// each register, Cr in the high one.
func chroma(a *Asm) {
	for _, e := range []struct {
		name            string
		columns, strong bool
	}{{"chromaRow", false, false}, {"chromaRowStrong", false, true}, {"chromaColumn", true, false}, {"chromaColumnStrong", true, true}} {
		a.Func(e.name+"Fast", "filters an edge of 8 lines of both planes; bs holds the strength of each two.", "u *byte, v *byte, stride int, f *byte, bs uint32", "", 0)
		a.Load("u", pix)
		a.Load("v", planeV)
		a.Load("stride", stride)
		a.Load("f", filter)
		a.Load32("bs", bs)
		rows := func(move func(t T, v V, i int, base R), first, last V) {
			for i, plane := range []R{pix, planeV} {
				a.Go("SUB %v<<1, %v, %v", stride, plane, line)
				for v := p1; v <= last; v++ {
					if v >= first {
						move(D2, v, i, line)
					}
					a.Go("ADD %v, %v", stride, line)
				}
			}
		}
		columns := func(move func(t T, v V, i int, base R)) {
			for i, plane := range []R{pix, planeV} {
				a.Go("SUB $2, %v, %v", plane, line)
				for y := range 8 {
					move(S4, p1+V(y%4), 2*i+y/4, line)
					a.Go("ADD %v, %v", stride, line)
				}
			}
		}
		if e.columns {
			columns(a.ReadLane)
			transposeFours(a)
		} else {
			rows(a.ReadLane, p1, q1)
		}
		for i, at := range []int{alphaAt, betaAt} {
			for plane := range 2 {
				a.Go("MOVWU %d(%v), %v", at+plane*filterOf, filter, R(8))
				a.Dup(B16, 22+V(plane), R(8))
			}
			a.Do(TRN1, D2, alpha+V(i), 22, 23)
		}
		closeEnough(a)
		var nothing string
		if e.strong {
			nothing = whereNothing(a)
			for _, half := range []T{B8, B16} {
				for i, s := range [][3]V{{p1, p0, q1}, {q1, q0, p1}} {
					a.Do(UADDL, half, 22, s[1], s[2])
					a.Do(UADDW, half, 22, 22, s[0])
					a.Do(UADDW, half, 22, 22, s[0])
					a.Right(RSHRN, half, 24+V(i), 22, 2)
				}
			}
			a.Do(BIT, B16, p0, 24, mask)
			a.Do(BIT, B16, q0, 25, mask)
		} else {
			a.Dup(S4, 22, bs)
			a.Bytes(23, [16]uint8{0, 0, 1, 1, 2, 2, 3, 3, 0, 0, 1, 1, 2, 2, 3, 3}, tmp)
			a.Table(22, 22, 23)
			a.Bytes(23, [16]uint8{8: 8, 9: 8, 10: 8, 11: 8, 12: 8, 13: 8, 14: 8, 15: 8}, tmp)
			a.Do(ADD, B16, 22, 22, 23)
			a.Read(8, 24, filter, tc0At)
			a.Read(8, 25, filter, tc0At+filterOf)
			a.Do(TRN1, D2, 24, 24, 25)
			limits(a, 24, 22)
			nothing = whereNothing(a)
			a.Do(SUB, B16, 25, tc0, mask) // tC0 + 1
			a.Do(AND, B16, 25, 25, mask)
			delta(a, 25)
			move(a)
		}
		end(a, false, columns, func() {
			if e.columns {
				transposeFours(a)
				columns(a.WriteLane)
			} else {
				rows(a.WriteLane, p0, q0)
			}
		}, nothing)
	}
}

// transposeFours transposes each 4x4 bytes of p1, p0, q0 and q1.
func transposeFours(a *Asm) {
	for _, s := range []struct {
		t    T
		next V
	}{{B16, 1}, {H8, 2}} {
		for v := range V(4) {
			if v&s.next != 0 {
				continue
			}
			a.Do(TRN1, s.t, 8, p1+v, p1+v+s.next)
			a.Do(TRN2, s.t, p1+v+s.next, p1+v, p1+v+s.next)
			a.Move(p1+v, 8)
		}
	}
}
