//go:build !amd64

package scene

func mixFast(dst []int16, base int16, profile []int16, a []int8, gainA int16, b []int8, gainB int16) int {
	return 0
}

func storeFast(dst []byte, line []int16, noise []int8, gain int16, least, most uint8) int { return 0 }

func lightFast(line []int16, first, middle, fall float64) int { return 0 }

func shiftFast(dst []uint16, line []int16, shift uint, most int16) int { return 0 }

func overlayFast(line []int16, town []int8) int { return 0 }

func riseFast(values, curve []float32, first, rise float32) int { return 0 }

func keepFast(rows *[phases][]int8, values []float32) int { return 0 }
