//go:build !amd64

package h264

// fastKernels are the fastest kernels for 8 bits that this processor runs.
func fastKernels() kernels[uint8] { return goKernels[uint8]() }

func fastSearchKernels() searchKernels[uint8] { return goSearchKernels[uint8]() }

func fastWideSearchKernels() searchKernels[uint16] { return goSearchKernels[uint16]() }

func fastWideKernels() kernels[uint16] { return goKernels[uint16]() }

func fastNoteFlags() func(queue []uint16, f *flags, has uint64, end int) { return noteFlags }
