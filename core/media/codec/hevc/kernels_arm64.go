package hevc

// fastBlockKernels are the fastest block kernels.
func fastBlockKernels() blockKernels { return assemblyBlockKernels() }

// fastKernels are the fastest kernels for 8-bit samples.
func fastKernels() kernels[uint8] { return assemblyKernels() }

// fastWideKernels are the fastest kernels for two-byte samples of up to 12 bits.
func fastWideKernels() kernels[uint16] { return assemblyWideKernels() }
