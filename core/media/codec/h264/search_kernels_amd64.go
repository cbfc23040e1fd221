package h264

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

// fastSearchKernels are the fastest search kernels for 8 bits that this
// processor runs.
func fastSearchKernels() searchKernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goSearchKernels[uint8]()
	}
	return searchKernels[uint8]{
		sad: func(a []uint8, stride int, b []uint8, step, w, h int) int {
			return sadFast(first(a, stride, w, h), stride, first(b, step, w, h), step, w, h)
		},
		sadQuarters: func(a []uint8, stride int, b []uint8, step int, sums *[4]int) {
			sadQuartersFast(first(a, stride, 16, 16), stride, first(b, step, 16, 16), step, sums)
		},
		sadFour: func(a []uint8, stride int, b []uint8, step, w, h int, at, sums *[4]int) {
			least, most := min(at[0], at[1], at[2], at[3]), max(at[0], at[1], at[2], at[3])
			_, _ = b[least], b[most+(h-1)*step+w-1]
			sadFourFast(first(a, stride, w, h), stride, &b[0], step, w, h, at, sums)
		},
		satd: func(a []uint8, stride int, b []uint8, step, w, h int) int {
			return satdFast(first(a, stride, w, h), stride, first(b, step, w, h), step, w, h)
		},
		satdMean: func(a []uint8, stride int, b, c []uint8, step, w, h int) int {
			return satdMeanFast(first(a, stride, w, h), stride, first(b, step, w, h), step, w, h, first(c, step, w, h))
		},
		directions: func(p *border[uint8], n int, preds *predictions[uint8]) {
			if n == 4 {
				directions4Fast(&p[0], &shuffles4, &preds[0])
			} else {
				directions8Fast(&p[0], &shuffles8, &preds[0])
			}
		},
		satdEach: func(src []uint8, stride int, preds *predictions[uint8], n int, costs *modeCosts) {
			if n == 4 {
				satdEach4Fast(first(src, stride, 4, 4), stride, &preds[0], (*[10]int32)(costs))
			} else {
				satdEach8Fast(first(src, stride, 8, 8), stride, &preds[0], (*[10]int32)(costs))
			}
		},
		forward4: func(src []uint8, stride int, pred []uint8, step, w, h int, c []int32) {
			forward4Fast(first(src, stride, w, h), stride, first(pred, step, w, h), step, w, h, &c[:w*h][0])
		},
		quantise: func(c []int32, factors *[64]int32, bias int32, shift uint, has []uint16) {
			quantiseBlocksFast(&c[:16*len(has)][0], len(has), (*[16]int32)(factors[:]), bias, shift, &has[0])
		},
		forward8: func(src []uint8, stride int, pred []uint8, step int, c *[64]int32) {
			forward8Fast(first(src, stride, 8, 8), stride, first(pred, step, 8, 8), step, c)
		},
		quantise8: quantise8Fast,
		toll:      tollFast,
	}
}

// fastWideSearchKernels are the same for samples of two bytes, of up to 10 bits.
func fastWideSearchKernels() searchKernels[uint16] {
	if !cpu.X86.HasAVX2 {
		return goSearchKernels[uint16]()
	}
	return searchKernels[uint16]{
		sad: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return sadWideFast(wideAt(a, stride, w, h), stride, wideAt(b, step, w, h), step, w, h)
		},
		sadQuarters: func(a []uint16, stride int, b []uint16, step int, sums *[4]int) {
			for i := range sums {
				x, y := i&1*8, i>>1*8
				sums[i] = sadWideFast(wideAt(a[y*stride+x:], stride, 8, 8), stride, wideAt(b[y*step+x:], step, 8, 8), step, 8, 8)
			}
		},
		sadFour: func(a []uint16, stride int, b []uint16, step, w, h int, at, sums *[4]int) {
			least, most := min(at[0], at[1], at[2], at[3]), max(at[0], at[1], at[2], at[3])
			_, _ = b[least], b[most+(h-1)*step+w-1]
			sadFourWideFast(wideAt(a, stride, w, h), stride, wideAt(b, 0, 1, 1), step, w, h, at, sums)
		},
		satd: func(a []uint16, stride int, b []uint16, step, w, h int) int {
			return satdWideFast(wideAt(a, stride, w, h), stride, wideAt(b, step, w, h), step, w, h)
		},
		satdMean: func(a []uint16, stride int, b, c []uint16, step, w, h int) int {
			return satdMeanWideFast(wideAt(a, stride, w, h), stride, wideAt(b, step, w, h), step, w, h, wideAt(c, step, w, h))
		},
		directions: directions[uint16],
		satdEach: func(src []uint16, stride int, preds *predictions[uint16], n int, costs *modeCosts) {
			for mode := range 9 {
				costs[mode] = int32(satdWideFast(wideAt(src, stride, n, n), stride, wideAt(preds[mode*n*n:], n, n, n), n, n, n))
			}
		},
		forward4: func(src []uint16, stride int, pred []uint16, step, w, h int, c []int32) {
			forward4WideFast(wideAt(src, stride, w, h), stride, wideAt(pred, step, w, h), step, w, h, &c[:w*h][0])
		},
		quantise: fastSearchKernels().quantise,
		forward8: func(src []uint16, stride int, pred []uint16, step int, c *[64]int32) {
			forward8WideFast(wideAt(src, stride, 8, 8), stride, wideAt(pred, step, 8, 8), step, c)
		},
		quantise8: quantise8Fast,
		toll:      tollFast,
	}
}

// shuffles4 and shuffles8 are the directions as the assembly takes them: of each, from
// which of 16 averages and of 16 weighted averages a sample is taken, or 128.
var (
	shuffles4 = newShuffles(&directions4, [6][2]uint8{{0, 1}, {0, 1}, {0, 1}, {0, 1}, {0, 1}, {0, 1}})
	shuffles8 = newShuffles(&directions8, [6][2]uint8{{0, 10}, {0, 1}, {1, 1}, {1, 1}, {10, 10}, {0, 1}})
)

// newShuffles takes the places from which on there are averages.
func newShuffles(directions *[6][64]uint8, from [6][2]uint8) (s [6][2][64]uint8) {
	const nothing = 128
	for direction, places := range directions {
		for i, place := range places {
			of, other := place/weighted, 1-place/weighted
			s[direction][of][i] = place%weighted - from[direction][of]
			s[direction][other][i] = nothing
		}
	}
	return s
}

// wideAt is where a block of samples of two bytes begins that the slice holds
// whole.
func wideAt(s []uint16, stride, w, h int) *byte {
	_ = s[(h-1)*stride+w-1]
	return (*byte)(unsafe.Pointer(&s[0]))
}

// fastNoteFlags is the fastest noteFlags that this processor runs.
func fastNoteFlags() func(queue []uint16, f *flags, has uint64, end int) {
	if !cpu.X86.HasAVX2 {
		return noteFlags
	}
	return func(queue []uint16, f *flags, has uint64, end int) {
		if end > 0 {
			noteFlagsFast(&queue[:2*64+8][0], &f[0], has, end)
		}
	}
}
