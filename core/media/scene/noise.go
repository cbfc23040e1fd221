package scene

import "math"

const (
	sineLen   = 1024
	sineMask  = sineLen - 1
	noiseLen  = 8192 // cells in a row of noise
	noiseMask = noiseLen - 1
	noiseRows = 512
)

var (
	sine  [sineLen]int8             // one period, amplitude 127
	noise [noiseRows][noiseLen]byte // even noise, the same in every run
)

func init() {
	for i := range sine {
		sine[i] = int8(math.Round(127 * math.Sin(2*math.Pi*float64(i)/sineLen)))
	}
	state := uint32(2463534242)
	for y := range noise {
		for x := range noise[y] {
			state ^= state << 13 // xorshift, G. Marsaglia 2003
			state ^= state >> 17
			state ^= state << 5
			noise[y][x] = byte(state >> 11)
		}
	}
}

// noiseRow is the row of noise for row y of the finest cells.
func noiseRow(y uint32) *[noiseLen]byte { return &noise[hash(y)%noiseRows] }

// hash spreads n over 32 bits.
func hash(n uint32) uint32 {
	n = (n ^ n>>16) * 0x7feb352d
	n = (n ^ n>>15) * 0x846ca68b
	return n ^ n>>16
}
