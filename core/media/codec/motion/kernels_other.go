//go:build !amd64 && !arm64

package motion

// FastBlockKernels returns the kernels for 8-bit samples.
func FastBlockKernels() BlockKernels[uint8] { return GoBlockKernels[uint8]() }

// FastWideBlockKernels returns the kernels for two-byte samples.
func FastWideBlockKernels() BlockKernels[uint16] { return GoBlockKernels[uint16]() }

// FastDistanceKernels returns the kernels for 8-bit samples.
func FastDistanceKernels() DistanceKernels[uint8] { return GoDistanceKernels[uint8]() }

// FastWideDistanceKernels returns the kernels for two-byte samples.
func FastWideDistanceKernels() DistanceKernels[uint16] { return GoDistanceKernels[uint16]() }

// Prefetch leaves fetching to the processor.
func Prefetch[T any]([]T, int, int, int) {}

// PrefetchValue leaves fetching to the processor.
func PrefetchValue[T any](*T) {}
