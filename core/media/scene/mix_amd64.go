package scene

import "golang.org/x/sys/cpu"

//go:generate go run ./asm -out rows_amd64.s -stubs rows_amd64.go -pkg scene

// mixFast computes the first values of mix, a multiple of 16, and returns how many.
func mixFast(dst []int16, base int16, profile []int16, a []int8, gainA int16, b []int8, gainB int16) int {
	n := len(dst) &^ 15
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	mixRows(&dst[0], &profile[0], &a[0], &b[0], n, base, gainA, gainB)
	return n
}

// storeFast computes the first values of store, a multiple of 32, and returns how many.
func storeFast(dst []byte, line []int16, noise []int8, gain int16, least, most uint8) int {
	n := len(dst) &^ 31
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	storeRows(&dst[0], &line[0], &noise[0], n, gain, least, most)
	return n
}

// lightFast lights the first values of a beam, a multiple of 8, and returns how many.
func lightFast(line []int16, first, middle, fall float64) int {
	n := len(line) &^ 7
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	lightRows(&line[0], n, first, middle, fall, brightest)
	return n
}

// shiftFast computes the first values of storeShifted, a multiple of 16, and returns how many.
func shiftFast(dst []uint16, line []int16, shift uint, most int16) int {
	n := len(dst) &^ 15
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	shiftRows(&dst[0], &line[0], n, shift, most)
	return n
}

// overlayFast computes the first values of overlay, a multiple of 16, and returns how many.
func overlayFast(line []int16, town []int8) int {
	n := len(line) &^ 15
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	overlayRows(&line[0], &town[0], n)
	return n
}

// riseFast computes the first values of rise, a multiple of 8, and returns how many.
func riseFast(values, curve []float32, first, rise float32) int {
	n := len(values) &^ 7
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	riseRows(&values[0], &curve[:n][0], n, first, rise)
	return n
}

// keepFast computes the first columns of keep, a multiple of 8, and returns how many.
func keepFast(rows *[phases][]int8, values []float32) int {
	n := len(rows[0]) &^ 7
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	keepRows(&rows[0][0], &rows[1][:n][0], &rows[2][:n][0], &rows[3][:n][0], &values[:phases*n][0], n)
	return n
}
