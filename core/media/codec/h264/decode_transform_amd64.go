package h264

import "golang.org/x/sys/cpu"

// flatLumaDC is flatLumaDCGo, or its twin in assembly.
func flatLumaDC(c *[16]int32, scale int32, flat *[16]int16) {
	if cpu.X86.HasAVX2 {
		flatLumaDCFast(c, scale, flat)
	} else {
		flatLumaDCGo(c, scale, flat)
	}
}

// spreadLumaDC is spreadLumaDCGo, or its twin in assembly.
func spreadLumaDC(c *[16]int32, scale int32, coeffs *[256]int32) (coded uint64) {
	if cpu.X86.HasAVX2 && cpu.X86.HasBMI2 {
		return spreadLumaDCFast(c, scale, &coeffs[0])
	}
	return spreadLumaDCGo(c, scale, coeffs)
}
