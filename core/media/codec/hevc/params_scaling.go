package hevc

import "vividstrain/core/media/codec/bits"

// scalingLists are the factors of scaling matrices (7.3.4), in raster order of 4x4 or 8x8 factors, by
// the size of the transform (4 to 32) and by matrix: intra Y, Cb, Cr, inter Y, Cb, Cr.
type scalingLists struct {
	factors [4][6][64]uint8
	dc      [4][6]uint8 // of 16x16 and 32x32
}

// Default factors in up-right diagonal order (table 7-6).
var (
	defaultIntra = [64]uint8{16, 16, 16, 16, 16, 16, 16, 16, 16, 16, 17, 16, 17, 16, 17, 18, 17, 18, 18, 17, 18, 21, 19, 20, 21, 20, 19, 21, 24, 22, 22, 24, 24, 22, 22, 24, 25, 25, 27, 30, 27, 25, 25, 29, 31, 35, 35, 31, 29, 36, 41, 44, 41, 36, 47, 54, 54, 47, 65, 70, 65, 88, 88, 115}
	defaultInter = [64]uint8{16, 16, 16, 16, 16, 16, 16, 16, 16, 16, 17, 17, 17, 17, 17, 18, 18, 18, 18, 18, 18, 20, 20, 20, 20, 20, 20, 20, 24, 24, 24, 24, 24, 24, 24, 24, 25, 25, 25, 25, 25, 25, 25, 28, 28, 28, 28, 28, 28, 33, 33, 33, 33, 33, 41, 41, 41, 41, 54, 54, 54, 71, 71, 91}
)

// defaultScaling returns the default lists.
func defaultScaling() *scalingLists {
	l := &scalingLists{}
	for size := range l.factors {
		for m := range l.factors[size] {
			l.setDefault(size, m)
		}
	}
	return l
}

func (l *scalingLists) setDefault(size, m int) {
	l.dc[size][m] = 16
	for i := range 64 {
		switch {
		case size == 0:
			l.factors[size][m][i] = 16
		case m < 3:
			l.factors[size][m][diagonal8[i]] = defaultIntra[i]
		default:
			l.factors[size][m][diagonal8[i]] = defaultInter[i]
		}
	}
}

// parse reads scaling_list_data.
func (l *scalingLists) parse(r *bits.Reader) error {
	for size := range 4 {
		step := 1
		if size == 3 {
			step = 3
		}
		for m := 0; m < 6; m += step {
			if !r.Flag() {
				d := int(min(r.UE(), 6)) * step // 6 is beyond any list
				switch {
				case d > m:
					return damaged("a scaling list refers to one that does not exist")
				case d == 0:
					l.setDefault(size, m)
				default:
					l.factors[size][m], l.dc[size][m] = l.factors[size][m-d], l.dc[size][m-d]
				}
				continue
			}
			n, next := 64, int32(8)
			if size == 0 {
				n = 16
			}
			if size > 1 {
				next = r.SE() + 8
				l.dc[size][m] = uint8(next)
			}
			for i := range n {
				next = (next + r.SE() + 256) & 255
				if size == 0 {
					l.factors[size][m][diagonal4[i]] = uint8(next)
				} else {
					l.factors[size][m][diagonal8[i]] = uint8(next)
				}
			}
		}
	}
	for m := range 6 { // 4:2:2 chroma has no 32x32 transforms, but the lists are complete
		if m%3 != 0 {
			l.factors[3][m], l.dc[3][m] = l.factors[2][m], l.dc[2][m]
		}
	}
	return nil
}

// diagonal4 and diagonal8 are the up-right diagonal scans (6.5.3): positions in raster order.
var (
	diagonal4 = diagonal(4)
	diagonal8 = diagonal(8)
)

func diagonal(size int) (scan []uint8) {
	for sum := range 2*size - 1 {
		for x := range sum + 1 {
			if y := sum - x; x < size && y < size {
				scan = append(scan, uint8(y*size+x))
			}
		}
	}
	return scan
}
