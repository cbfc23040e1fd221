package motion

// FastBlockKernels returns the fastest kernels for 8-bit samples.
func FastBlockKernels() BlockKernels[uint8] {
	k := GoBlockKernels[uint8]()
	k.Copy = func(dst []uint8, stride int, src []uint8, step, w, h int) {
		copyFast(First(dst, stride, w, h), stride, First(src, step, w, h), step, w, h)
	}
	k.Average = func(dst []uint8, stride int, src []uint8, step, w, h int) {
		averageFast(First(dst, stride, w, h), stride, First(src, step, w, h), step, w, h)
	}
	return k
}

// FastWideBlockKernels returns the kernels for two-byte samples.
func FastWideBlockKernels() BlockKernels[uint16] { return GoBlockKernels[uint16]() }

// FastDistanceKernels returns the fastest kernels for 8-bit samples.
func FastDistanceKernels() DistanceKernels[uint8] {
	sad := func(a []uint8, stride int, b []uint8, step, w, h int) int {
		return sadFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h)
	}
	return DistanceKernels[uint8]{
		SAD: sad,
		SADQuarters: func(a []uint8, stride int, b []uint8, step int, sums *[4]int) {
			for i := range sums {
				x, y := i&1*8, i>>1*8
				sums[i] = sad(a[y*stride+x:], stride, b[y*step+x:], step, 8, 8)
			}
		},
		SADFour: func(a []uint8, stride int, b []uint8, step, w, h int, at, sums *[4]int) {
			least, most := min(at[0], at[1], at[2], at[3]), max(at[0], at[1], at[2], at[3])
			_, _ = b[least], b[most+(h-1)*step+w-1]
			sadFourFast(First(a, stride, w, h), stride, &b[0], step, w, h, &at[0], &sums[0])
		},
		SATD: func(a []uint8, stride int, b []uint8, step, w, h int) int {
			return satdFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h)
		},
		SATDMean: func(a []uint8, stride int, b, c []uint8, step, w, h int) int {
			return satdMeanFast(First(a, stride, w, h), stride, First(b, step, w, h), step, w, h, First(c, step, w, h))
		},
	}
}

// FastWideDistanceKernels returns the kernels for two-byte samples.
func FastWideDistanceKernels() DistanceKernels[uint16] { return GoDistanceKernels[uint16]() }
