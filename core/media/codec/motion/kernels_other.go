//go:build !amd64

package motion

func fastBlockKernels() BlockKernels[uint8] { return GoBlockKernels[uint8]() }

func fastWideBlockKernels() BlockKernels[uint16] { return GoBlockKernels[uint16]() }

func fastDistanceKernels() DistanceKernels[uint8] { return GoDistanceKernels[uint8]() }

func fastWideDistanceKernels() DistanceKernels[uint16] { return GoDistanceKernels[uint16]() }
