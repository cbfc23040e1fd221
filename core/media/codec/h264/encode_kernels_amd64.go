package h264

import (
	"golang.org/x/sys/cpu"

	"vividstrain/core/media/codec/motion"
)

// fastEncodeKernels returns the fastest kernels for 8-bit samples that this processor runs.
func fastEncodeKernels() encodeKernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goEncodeKernels[uint8]()
	}
	return encodeKernels[uint8]{
		DistanceKernels: motion.FastDistanceKernels(),
		directions: func(p *border[uint8], n int, preds *predictions[uint8]) {
			if n == 4 {
				directions4Fast(&p[0], &shuffles4, &preds[0])
			} else {
				directions8Fast(&p[0], &shuffles8, &preds[0])
			}
		},
		satdEach: func(src []uint8, stride int, preds *predictions[uint8], n int, costs *modeCosts) {
			if n == 4 {
				satdEach4Fast(motion.First(src, stride, 4, 4), stride, &preds[0], (*[10]int32)(costs))
			} else {
				satdEach8Fast(motion.First(src, stride, 8, 8), stride, &preds[0], (*[10]int32)(costs))
			}
		},
		forward4: func(src []uint8, stride int, pred []uint8, step, w, h int, c []int32) {
			forward4Fast(motion.First(src, stride, w, h), stride, motion.First(pred, step, w, h), step, w, h, &c[:w*h][0])
		},
		quantise: func(c []int32, factors *[64]int32, bias int32, shift uint, nonZero []uint16) {
			quantiseBlocksFast(&c[:16*len(nonZero)][0], len(nonZero), (*[16]int32)(factors[:]), bias, shift, &nonZero[0])
		},
		forward8: func(src []uint8, stride int, pred []uint8, step int, c *[64]int32) {
			forward8Fast(motion.First(src, stride, 8, 8), stride, motion.First(pred, step, 8, 8), step, c)
		},
		quantise8: quantise8Fast,
		bitCost:   bitCostFast,
	}
}

// fastWideEncodeKernels returns the fastest kernels for two-byte samples of up to 10 bits.
func fastWideEncodeKernels() encodeKernels[uint16] {
	if !cpu.X86.HasAVX2 {
		return goEncodeKernels[uint16]()
	}
	satd := motion.FastWideDistanceKernels().SATD
	return encodeKernels[uint16]{
		DistanceKernels: motion.FastWideDistanceKernels(),
		directions:      directions[uint16],
		satdEach: func(src []uint16, stride int, preds *predictions[uint16], n int, costs *modeCosts) {
			for mode := range 9 {
				costs[mode] = int32(satd(src, stride, preds[mode*n*n:], n, n, n))
			}
		},
		forward4: func(src []uint16, stride int, pred []uint16, step, w, h int, c []int32) {
			forward4WideFast(motion.FirstWide(src, stride, w, h), stride, motion.FirstWide(pred, step, w, h), step, w, h, &c[:w*h][0])
		},
		quantise: fastEncodeKernels().quantise,
		forward8: func(src []uint16, stride int, pred []uint16, step int, c *[64]int32) {
			forward8WideFast(motion.FirstWide(src, stride, 8, 8), stride, motion.FirstWide(pred, step, 8, 8), step, c)
		},
		quantise8: quantise8Fast,
		bitCost:   bitCostFast,
	}
}

// shuffles4 and shuffles8 are the directional modes as byte shuffles for the assembly: for each
// sample, which of 16 averages or of 16 weighted averages it takes, or 128 for neither.
var (
	shuffles4 = newShuffles(&directions4, [6][2]uint8{{0, 1}, {0, 1}, {0, 1}, {0, 1}, {0, 1}, {0, 1}})
	shuffles8 = newShuffles(&directions8, [6][2]uint8{{0, 10}, {0, 1}, {1, 1}, {1, 1}, {10, 10}, {0, 1}})
)

// newShuffles makes the shuffles of all directional modes; from are the table entries at which
// the loaded averages start.
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

// fastQueueFlags returns the fastest queueFlags that this processor runs.
func fastQueueFlags() func(queue []uint16, f *significanceFlags, nonZero uint64, end int) {
	if !cpu.X86.HasAVX2 {
		return queueFlags
	}
	return func(queue []uint16, f *significanceFlags, nonZero uint64, end int) {
		if end > 0 {
			queueFlagsFast(&queue[:2*64+8][0], &f[0], nonZero, end)
		}
	}
}
