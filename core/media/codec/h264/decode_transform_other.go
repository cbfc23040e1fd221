//go:build !amd64

package h264

func flatLumaDC(c *[16]int32, scale int32, flat *[16]int16) { flatLumaDCGo(c, scale, flat) }

func spreadLumaDC(c *[16]int32, scale int32, coeffs *[256]int32) (coded uint64) {
	return spreadLumaDCGo(c, scale, coeffs)
}
