package h264

import "golang.org/x/sys/cpu"

// flatLumaDC is flatLumaDCGo, or its twin in assembly.
func flatLumaDC(c *[16]int32, scale int32, flat *[16]int16) {
	if cpu.X86.HasAVX2 {
		lumaDCFast(c, scale, flat)
	} else {
		flatLumaDCGo(c, scale, flat)
	}
}
