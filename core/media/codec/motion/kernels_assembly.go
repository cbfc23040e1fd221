//go:build amd64 || arm64

package motion

import "unsafe"

// assemblyBlockKernels returns the kernels for 8-bit samples, with those that every processor with assembly has.
func assemblyBlockKernels() BlockKernels[uint8] {
	k := GoBlockKernels[uint8]()
	k.Copy = func(dst []uint8, stride int, src []uint8, step, w, h int) {
		copyFast(First(dst, stride, w, h), stride, First(src, step, w, h), step, w, h)
	}
	k.Average = func(dst []uint8, stride int, src []uint8, step, w, h int) {
		averageFast(First(dst, stride, w, h), stride, First(src, step, w, h), step, w, h)
	}
	return k
}

// copyWide copies samples of two bytes.
func copyWide(dst []uint16, stride int, src []uint16, step, w, h int) {
	copyFast(FirstWide(dst, stride, w, h), 2*stride, FirstWide(src, step, w, h), 2*step, 2*w, h)
}

// Prefetch tells the processor that h rows of a list from at on, a cache line of each, will be used soon, if there
// are so many.
func Prefetch[T any](list []T, at, stride, h int) {
	if at+(h-1)*stride < len(list) {
		prefetchFast((*byte)(unsafe.Pointer(&list[at])), stride*int(unsafe.Sizeof(list[at])), h)
	}
}

// PrefetchValue tells the processor that a value will be used soon.
func PrefetchValue[T any](v *T) {
	prefetchFast((*byte)(unsafe.Pointer(v)), 64, (int(unsafe.Sizeof(*v))+63)/64)
}

// assemblyDistanceKernels is assemblyBlockKernels for distances.
func assemblyDistanceKernels() DistanceKernels[uint8] {
	k := GoDistanceKernels[uint8]()
	k.SAD = func(a []uint8, stride int, b []uint8, step, w, h int) int {
		return sadFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h)
	}
	k.SADFour = func(a []uint8, stride int, b []uint8, step, w, h int, at, sums *[4]int) {
		least, most := min(at[0], at[1], at[2], at[3]), max(at[0], at[1], at[2], at[3])
		_, _ = b[least], b[most+(h-1)*step+w-1]
		sadFourFast(First(a, stride, w, h), stride, &b[0], step, w, h, at, sums)
	}
	k.SATD = func(a []uint8, stride int, b []uint8, step, w, h int) int {
		return satdFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h)
	}
	k.SATDMean = func(a []uint8, stride int, b, c []uint8, step, w, h int) int {
		return satdMeanFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h, First(c, step, w, h))
	}
	return k
}

// First returns the address of a block that s contains completely. Rows are padded after it, so
// that loads may reach further.
func First(s []uint8, stride, w, h int) *uint8 {
	_ = s[(h-1)*stride+w-1]
	return &s[0]
}

// FirstWide returns the address of a block of two-byte samples that s contains completely.
func FirstWide(s []uint16, stride, w, h int) *byte {
	_ = s[(h-1)*stride+w-1]
	return (*byte)(unsafe.Pointer(&s[0]))
}
