package h264

func fastSearchKernels() searchKernels[uint8] { return goSearchKernels[uint8]() }
