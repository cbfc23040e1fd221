package motion

import "golang.org/x/sys/cpu"

//go:generate go run ./asm -out kernels_amd64.s -stubs stubs_amd64.go -pkg motion

// FastBlockKernels returns the fastest kernels for 8-bit samples that this processor runs.
func FastBlockKernels() BlockKernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return GoBlockKernels[uint8]()
	}
	k := assemblyBlockKernels()
	k.Fill = func(dst []uint8, stride, w, h int, v uint8) {
		fillFast(First(dst, stride, w, h), stride, w, h, v)
	}
	k.Extend = func(pix []uint8, at, stride, w, h int) {
		extendFast(First(pix[at-1:], stride, w+1, h), stride, w, h)
	}
	return k
}

// FastWideBlockKernels returns the fastest kernels for two-byte samples of up to 10 bits.
func FastWideBlockKernels() BlockKernels[uint16] {
	k := GoBlockKernels[uint16]()
	if !cpu.X86.HasAVX2 {
		return k
	}
	k.Copy = copyWide
	k.Average = func(dst []uint16, stride int, src []uint16, step, w, h int) {
		averageWideFast(FirstWide(dst, stride, w, h), stride, FirstWide(src, step, w, h), step, w, h)
	}
	return k
}

// FastDistanceKernels returns the fastest kernels for 8-bit samples that this processor runs.
func FastDistanceKernels() DistanceKernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return GoDistanceKernels[uint8]()
	}
	k := assemblyDistanceKernels()
	k.SADQuarters = func(a []uint8, stride int, b []uint8, step int, sums *[4]int) {
		sadQuartersFast(First(a, stride, 16, 16), stride, First(b, step, 16, 16), step, sums)
	}
	return k
}

// FastWideDistanceKernels returns the fastest kernels for two-byte samples of up to 10 bits.
func FastWideDistanceKernels() DistanceKernels[uint16] {
	if !cpu.X86.HasAVX2 {
		return GoDistanceKernels[uint16]()
	}
	return DistanceKernels[uint16]{
		SAD: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return sadWideFast(FirstWide(a, stride, w, h), stride, FirstWide(b, step, w, h), step, w, h)
		},
		SADQuarters: func(a []uint16, stride int, b []uint16, step int, sums *[4]int) {
			for i := range sums {
				x, y := i&1*8, i>>1*8
				sums[i] = sadWideFast(FirstWide(a[y*stride+x:], stride, 8, 8), stride, FirstWide(b[y*step+x:], step, 8, 8), step, 8, 8)
			}
		},
		SADFour: func(a []uint16, stride int, b []uint16, step, w, h int, at, sums *[4]int) {
			least, most := min(at[0], at[1], at[2], at[3]), max(at[0], at[1], at[2], at[3])
			_, _ = b[least], b[most+(h-1)*step+w-1]
			sadFourWideFast(FirstWide(a, stride, w, h), stride, FirstWide(b, 0, 1, 1), step, w, h, at, sums)
		},
		SATD: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return satdWideFast(FirstWide(a, stride, w, h), stride, FirstWide(b, step, w, h), step, w, h)
		},
		SATDMean: func(a []uint16, stride int, b, c []uint16, step, w, h int) int {
			return satdMeanWideFast(FirstWide(a, stride, w, h), stride, FirstWide(b, step, w, h), step, w, h, FirstWide(c, step, w, h))
		},
	}
}
