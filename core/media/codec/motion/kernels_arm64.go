package motion

// FastBlockKernels returns the fastest kernels for 8-bit samples.
func FastBlockKernels() BlockKernels[uint8] { return assemblyBlockKernels() }

// FastWideBlockKernels returns the kernels for two-byte samples.
func FastWideBlockKernels() BlockKernels[uint16] {
	k := GoBlockKernels[uint16]()
	k.Copy = copyWide
	return k
}

// FastDistanceKernels returns the fastest kernels for 8-bit samples.
func FastDistanceKernels() DistanceKernels[uint8] {
	k := assemblyDistanceKernels()
	k.SADQuarters = func(a []uint8, stride int, b []uint8, step int, sums *[4]int) {
		for i := range sums {
			x, y := i&1*8, i>>1*8
			sums[i] = k.SAD(a[y*stride+x:], stride, b[y*step+x:], step, 8, 8)
		}
	}
	return k
}

// FastWideDistanceKernels returns the kernels for two-byte samples.
func FastWideDistanceKernels() DistanceKernels[uint16] { return GoDistanceKernels[uint16]() }
