package scene

import (
	"math"

	"vividstrain/core/media"
)

// Values are luma codes of 12 bits in narrow range, as of Rec. ITU-R BT.1886
// displays. Values above white are highlights: where the format has no room for
// them they are white.
const (
	black   = 16 << 4
	white   = 235 << 4
	highest = 8191
)

// codesFor returns the sample for each value, by transfer characteristics and depth.
func codesFor(t media.Transfer, depth int) []uint16 {
	codes := make([]uint16, highest+1)
	scale := float64(int(1) << (depth - 8))
	for v := range codes {
		signal := max(0, float64(v-black)/(white-black))
		switch t {
		case media.PQ:
			signal = pq(203 * math.Pow(signal, 2.4)) // Rec. ITU-R BT.2408: SDR white at 203 cd/m2
		case media.HLG:
			signal = hlg(203 * math.Pow(signal, 2.4))
		}
		codes[v] = uint16(math.Round((16 + 219*min(signal, 1)) * scale))
	}
	return codes
}

// pq returns the PQ signal of light in cd/m2: the inverse EOTF of Rec. ITU-R BT.2100, table 4.
func pq(light float64) float64 {
	const m1, m2, c1, c2, c3 = 2610.0 / 16384, 2523.0 / 4096 * 128, 3424.0 / 4096, 2413.0 / 4096 * 32, 2392.0 / 4096 * 32
	y := math.Pow(min(light, 10000)/10000, m1)
	return math.Pow((c1+c2*y)/(1+c3*y), m2)
}

// hlg returns the HLG signal of grey light on a display of 1000 cd/m2: the inverse of the EOTF
// of Rec. ITU-R BT.2100, table 5.
func hlg(light float64) float64 {
	const a, b, c = 0.17883277, 0.28466892, 0.55991073
	e := math.Pow(min(light, 1000)/1000, 1/1.2)
	if e <= 1.0/12 {
		return math.Sqrt(3 * e)
	}
	return a*math.Log(12*e-b) + c
}
