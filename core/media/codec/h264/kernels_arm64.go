package h264

import "vividstrain/core/media/codec/motion"

// fastKernels returns the fastest kernels for 8-bit samples.
func fastKernels() kernels[uint8] { return assemblyKernels() }

// fastWideKernels returns the kernels for two-byte samples.
func fastWideKernels() kernels[uint16] { return goKernels[uint16]() }

// fastEncodeKernels returns the fastest kernels for 8-bit samples.
func fastEncodeKernels() encodeKernels[uint8] {
	k := goEncodeKernels[uint8]()
	k.DistanceKernels = motion.FastDistanceKernels()
	k.satdEach = func(src []uint8, stride int, preds *predictions[uint8], n int, costs *modeCosts) {
		for mode := range 9 {
			costs[mode] = int32(k.SATD(src, stride, preds[mode*n*n:], n, n, n))
		}
	}
	return k
}

// fastWideEncodeKernels returns the kernels for two-byte samples.
func fastWideEncodeKernels() encodeKernels[uint16] { return goEncodeKernels[uint16]() }

// fastQueueFlags returns queueFlags.
func fastQueueFlags() func(queue []uint16, f *significanceFlags, nonZero uint64, end int) {
	return queueFlags
}
