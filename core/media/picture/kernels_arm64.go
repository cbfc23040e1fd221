package picture

// The fast kernels handle the first values, a multiple of 8 or 16, and return how many.

func filterDownFast(dst []int16, rows [][]byte, coefficients []int16, n int) int {
	if n &^= 15; n > 0 {
		downBytes(&dst[0], &rows[0], &coefficients[0], len(coefficients), n, 8+coefficientBits-middleBits)
	}
	return n
}

func filterDownWideFast(dst []int16, rows [][]uint16, coefficients []int16, n, shift int) int {
	if n &^= 15; n > 0 {
		downWords(&dst[0], &rows[0], &coefficients[0], len(coefficients), n, shift)
	}
	return n
}

func filterAcrossFast(dst []uint16, src, packed []int16, taps, n, shift int, most int32) int {
	if n &^= 7; n > 0 {
		acrossWords(&dst[0], &src[0], &packed[0], taps, n, shift, most)
	}
	return n
}

func narrowFast(dst []byte, src []uint16) int {
	n := len(dst) &^ 15
	if n > 0 {
		packBytes(&dst[0], &src[0], n)
	}
	return n
}

func (*ToneMapper) mapFast(*blocks, int) int { return 0 }
