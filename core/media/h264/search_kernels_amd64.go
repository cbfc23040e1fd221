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
	}
}
