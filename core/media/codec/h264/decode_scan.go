package h264

import "slices"

// Scans map the scan order of coefficients to raster order (8.5.6, 8.5.7): first for frame, then
// for field macroblocks.
var (
	scans4 = [2][16]uint8{
		{0, 1, 4, 8, 5, 2, 3, 6, 9, 12, 13, 10, 7, 11, 14, 15},
		{0, 4, 1, 8, 12, 5, 9, 13, 2, 6, 10, 14, 3, 7, 11, 15}}
	scans8 = [2][64]uint8{zigzag8(), {
		0, 8, 16, 1, 9, 24, 32, 17, 2, 25, 40, 48, 56, 33, 10, 3,
		18, 41, 49, 57, 26, 11, 4, 19, 34, 42, 50, 58, 27, 12, 5, 20,
		35, 43, 51, 59, 28, 13, 6, 21, 36, 44, 52, 60, 29, 14, 22, 37,
		45, 53, 61, 30, 7, 15, 38, 46, 54, 62, 23, 31, 39, 47, 55, 63}}
	// scans8Split are the scans of an 8x8 block that is coded as four interleaved 4x4 blocks
	// (7.3.5.3.2).
	scans8Split = [2][4][16]uint8{split8(&scans8[0]), split8(&scans8[1])}
	// scansDC map chroma DC coefficients of 4:2:0 and 4:2:2 to the raster order of the blocks,
	// two to a row (8.5.11.1).
	scansDC = [2][]uint8{{0, 1, 2, 3}, {0, 2, 1, 4, 6, 3, 5, 7}}
)

// orders4 and orders8 are the inverse scans: the scan index of each raster index.
var (
	orders4 = func() (o [2][16]uint8) {
		for f, scan := range scans4 {
			for i, place := range scan {
				o[f][place] = uint8(i)
			}
		}
		return o
	}()
	orders8 = func() (o [2][64]uint8) {
		for f, scan := range scans8 {
			for i, place := range scan {
				o[f][place] = uint8(i)
			}
		}
		return o
	}()
)

// zigzag8 is the zigzag scan of an 8x8 block (figure 6-8 of 6.4).
func zigzag8() (scan [64]uint8) {
	x, y := 0, 0
	for i := range scan {
		scan[i] = uint8(8*y + x)
		switch up := (x+y)&1 == 0; {
		case up && x == 7:
			y++
		case up && y == 0:
			x++
		case up:
			x, y = x+1, y-1
		case y == 7:
			x++
		case x == 0:
			y++
		default:
			x, y = x-1, y+1
		}
	}
	return scan
}

func split8(scan *[64]uint8) (split [4][16]uint8) {
	for i, place := range scan {
		split[i%4][i/4] = place
	}
	return split
}

// norm4 and norm8 are normAdjust4x4 and normAdjust8x8 (8.5.9): the factors v of 4x4 and of 8x8
// blocks.
var (
	norm4 = [6][3]int32{{10, 16, 13}, {11, 18, 14}, {13, 20, 16}, {14, 23, 18}, {16, 25, 20}, {18, 29, 23}}
	norm8 = [6][6]int32{{20, 18, 32, 19, 25, 24}, {22, 19, 35, 21, 28, 26}, {26, 23, 42, 24, 33, 31},
		{28, 25, 45, 26, 35, 33}, {32, 28, 51, 30, 40, 38}, {36, 32, 58, 34, 46, 43}}
)

// maxQP is the largest quantisation parameter: that of 10-bit 4:2:2 chroma DC with the largest
// offset.
const maxQP = 51 + 12 + 3

// levelScale holds LevelScale4x4 and LevelScale8x8 (8.5.9) times 2^(qP/6), by scaling list,
// quantisation parameter and raster index. Scaling is then (c*s + round) >> 4 for 4x4 blocks,
// and >> 6 for 8x8 blocks and for DC. Equal lists share theirs.
type levelScale struct {
	small [6]*[maxQP + 1][16]int32
	large [2][maxQP + 1][64]int32
}

var flatScaling = func() (l scalingLists) {
	for i := range l.small {
		for k := range l.small[i] {
			l.small[i][k] = 16
		}
	}
	for i := range l.large {
		for k := range l.large[i] {
			l.large[i][k] = 16
		}
	}
	return l
}()

// scaleFor returns the scaling factors of a picture parameter set. They are computed when first
// needed.
func (p *pps) scaleFor(s *sps) *levelScale {
	if p.scale != nil && p.scaleOf == s {
		return p.scale
	}
	lists := &flatScaling
	if p.scaling != nil {
		lists = p.scaling
	} else if s.scaling != nil {
		lists = s.scaling
	}
	p.scale, p.scaleOf = newLevelScale(lists), s
	return p.scale
}

func newLevelScale(lists *scalingLists) *levelScale {
	l := new(levelScale)
	for i, list := range lists.small {
		if j := slices.Index(lists.small[:i], list); j >= 0 {
			l.small[i] = l.small[j]
			continue
		}
		l.small[i] = new([maxQP + 1][16]int32)
		for k, place := range scans4[0] {
			class := norm4Class(int(place&3), int(place>>2))
			for qp := range l.small[i] {
				l.small[i][qp][place] = int32(list[k]) * norm4[qp%6][class] << (qp / 6)
			}
		}
	}
	for i, list := range lists.large {
		for k, place := range scans8[0] {
			class := norm8Class(int(place&7), int(place>>3))
			for qp := range l.large[i] {
				l.large[i][qp][place] = int32(list[k]) * norm8[qp%6][class] << (qp / 6)
			}
		}
	}
	return l
}

// norm4Class returns the column of norm4 for the coefficient at x, y (8-315).
func norm4Class(x, y int) int {
	switch {
	case x&1 == 0 && y&1 == 0:
		return 0
	case x&y&1 == 1:
		return 1
	}
	return 2
}

// norm8Class returns the column of norm8 for the coefficient at x, y (8-319).
func norm8Class(x, y int) int {
	switch {
	case x%4 == 0 && y%4 == 0:
		return 0
	case x%2 == 1 && y%2 == 1:
		return 1
	case x%4 == 2 && y%4 == 2:
		return 2
	case x%4 == 0 && y%2 == 1 || x%2 == 1 && y%4 == 0:
		return 3
	case x%4 == 0 && y%4 == 2 || x%4 == 2 && y%4 == 0:
		return 4
	}
	return 5
}
