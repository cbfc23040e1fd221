package h264

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

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

// fastWideSearchKernels are the same for samples of two bytes, of up to 10 bits.
func fastWideSearchKernels() searchKernels[uint16] {
	if !cpu.X86.HasAVX2 {
		return goSearchKernels[uint16]()
	}
	at := func(s []uint16, stride, w, h int) *byte {
		_ = s[(h-1)*stride+w-1]
		return (*byte)(unsafe.Pointer(&s[0]))
	}
	return searchKernels[uint16]{
		sad: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return sadWideFast(at(a, stride, w, h), stride, at(b, step, w, h), step, w, h)
		},
		satd: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return satdWideFast(at(a, stride, w, h), stride, at(b, step, w, h), step, w, h)
		},
		forward4: func(src []uint16, stride int, pred []uint16, step int, c *[16]int32) {
			forward4WideFast(at(src, stride, 4, 4), stride, at(pred, step, 4, 4), step, &c[0])
		},
		forward8: func(src []uint16, stride int, pred []uint16, step int, c *[64]int32) {
			forward8WideFast(at(src, stride, 8, 8), stride, at(pred, step, 8, 8), step, &c[0])
		},
		quantise: fastSearchKernels().quantise,
	}
}
