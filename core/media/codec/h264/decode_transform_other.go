//go:build !amd64

package h264

func flatLumaDC(c *[16]int32, scale int32, flat *[16]int16) { flatLumaDCGo(c, scale, flat) }
