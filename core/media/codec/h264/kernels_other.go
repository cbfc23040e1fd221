//go:build !amd64 && !arm64

package h264

// fastKernels are the fastest kernels for 8 bits that this processor runs.
func fastKernels() kernels[uint8] { return goKernels[uint8]() }

func fastEncodeKernels() encodeKernels[uint8] { return goEncodeKernels[uint8]() }

func fastWideEncodeKernels() encodeKernels[uint16] { return goEncodeKernels[uint16]() }

func fastWideKernels() kernels[uint16] { return goKernels[uint16]() }

func fastQueueFlags() func(queue []uint16, f *significanceFlags, has uint64, end int) {
	return queueFlags
}
