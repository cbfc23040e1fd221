//go:build !amd64

package motion

// FastBlockKernels are the fastest kernels for 8 bits that this processor runs.
func FastBlockKernels() BlockKernels[uint8] { return GoBlockKernels[uint8]() }

// FastWideBlockKernels are those for more than 8 bits.
func FastWideBlockKernels() BlockKernels[uint16] { return GoBlockKernels[uint16]() }

// FastDistanceKernels are the fastest kernels for 8 bits that this processor runs.
func FastDistanceKernels() DistanceKernels[uint8] { return GoDistanceKernels[uint8]() }

// FastWideDistanceKernels are those for more than 8 bits.
func FastWideDistanceKernels() DistanceKernels[uint16] { return GoDistanceKernels[uint16]() }
