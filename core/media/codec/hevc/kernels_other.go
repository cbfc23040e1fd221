//go:build !amd64 && !arm64

package hevc

func fastKernels() kernels[uint8] { return goKernels[uint8]() }

func fastWideKernels() kernels[uint16] { return goKernels[uint16]() }
