package hevc

import "vividstrain/core/media/codec/motion"

// forward transforms the difference between n x n samples and their prediction into coefficients in
// raster order, scaled as the inverse of 8.6.4.2 expects them: rows, then columns.
func forward[T motion.Sample](src []T, stride int, pred []T, step int, c []int32, log2 int, sine bool, depth int) {
	n := 1 << log2
	var in, out [32]int32
	var rows [32 * 32]int32
	shift := uint(log2 + depth - 9)
	for y := range n {
		s, p := src[y*stride:][:n], pred[y*step:][:n]
		for x := range s {
			in[x] = int32(s[x]) - int32(p[x])
		}
		analyse(&in, &out, n, shift, sine)
		copy(rows[y*n:][:n], out[:n])
	}
	for x := range n {
		for y := range n {
			in[y] = rows[y*n+x]
		}
		analyse(&in, &out, n, uint(log2+6), sine)
		for y := range n {
			c[y*n+x] = out[y]
		}
	}
}

// analyse is the one-dimensional forward transform of n samples. The even basis functions are those of
// the transform of half the length on the sums of mirrored samples, the odd ones act on the differences.
func analyse(in, out *[32]int32, n int, shift uint, sine bool) {
	round := int32(1) << shift >> 1
	if sine {
		for k := range 4 {
			b := &dst4[k]
			out[k] = (b[0]*in[0] + b[1]*in[1] + b[2]*in[2] + b[3]*in[3] + round) >> shift
		}
		return
	}
	step, every := 32/n, 1
	for half := n / 2; half >= 2; half /= 2 {
		var odd [16]int32
		for i := range half {
			a, b := in[i], in[2*half-1-i]
			in[i], odd[i] = a+b, a-b
		}
		for k := range half {
			basis, sum := dct32[step*(2*k+1)][:half], round
			for i, b := range basis {
				sum += b * odd[i]
			}
			out[every*(2*k+1)] = sum >> shift
		}
		step, every = 2*step, 2*every
	}
	a, b := 64*in[0], 64*in[1]
	out[0], out[every] = (a+b+round)>>shift, (a-b+round)>>shift
}
