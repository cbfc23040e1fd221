package picture

import "golang.org/x/sys/cpu"

//go:generate go run ./asm -out scale_amd64.s -stubs scale_amd64.go -pkg picture

// The fast kernels handle the first values, a multiple of 8 or 16, and return how many.

func filterDownFast(dst []int16, rows [][]byte, coefficients []int16, n int) int {
	if n &^= 15; n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	downBytes(&dst[0], &rows[0], &coefficients[0], len(coefficients), n, 8+coefficientBits-middleBits)
	return n
}

func filterDownWideFast(dst []int16, rows [][]uint16, coefficients []int16, n, shift int) int {
	if n &^= 15; n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	downWords(&dst[0], &rows[0], &coefficients[0], len(coefficients), n, shift)
	return n
}

func filterAcrossFast(dst []uint16, src, packed []int16, taps, n, shift int, most int32) int {
	if n &^= 7; n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	acrossWords(&dst[0], &src[0], &packed[0], taps, n, shift, most)
	return n
}

func narrowFast(dst []byte, src []uint16) int {
	n := len(dst) &^ 15
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	packBytes(&dst[0], &src[0], n)
	return n
}

func (m *ToneMapper) mapFast(b *blocks, n int) int {
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	mapBlocks(&b.toLuma[0][0], &b.toLuma[1][0], &b.toCb[0], &b.toCr[0], &b.luma[0][0], &b.luma[1][0], &b.cb[0], &b.cr[0],
		&m.planes[0][0], &m.weights[0], n)
	return n
}
