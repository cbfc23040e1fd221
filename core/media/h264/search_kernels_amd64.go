package h264

import "golang.org/x/sys/cpu"

// fastSearchKernels are the fastest search kernels for 8 bits that this
// processor runs.
func fastSearchKernels() searchKernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goSearchKernels[uint8]()
	}
	return searchKernels[uint8]{
		sad: func(a []uint8, stride int, b []uint8, step, w, h int) int {
			return sadFast(first(a, stride, w, h), stride, first(b, step, w, h), step, w, h)
		},
		satd: func(a []uint8, stride int, b []uint8, step, w, h int) int {
			return satdFast(first(a, stride, w, h), stride, first(b, step, w, h), step, w, h)
		},
		forward4: func(src []uint8, stride int, pred []uint8, step int, c *[16]int32) {
			forward4Fast(first(src, stride, 4, 4), stride, first(pred, step, 4, 4), step, &c[0])
		},
		forward8: func(src []uint8, stride int, pred []uint8, step int, c *[64]int32) {
			forward8Fast(first(src, stride, 8, 8), stride, first(pred, step, 8, 8), step, &c[0])
		},
		quantise: func(c, factors []int32, bias int32, shift uint) bool {
			factors = factors[:len(c)]
			return quantiseFast(&c[0], &factors[0], len(c), bias, shift) != 0
		},
	}
}
