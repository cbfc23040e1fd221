package h264

import "vividstrain/core/media/codec/motion"

// encodeKernels are the inner loops of the encoder: how far a block is from its
// prediction, and what is to be coded of it. Blocks are w x h samples, multiples of 4.
type encodeKernels[T motion.Sample] struct {
	motion.DistanceKernels[T]
	// directions predicts a block of n x n samples, 4 or 8, in all modes of intra
	// prediction but DC.
	directions func(p *border[T], n int, preds *predictions[T])
	// satdEach is satd of a block of n x n samples with each of its predictions.
	satdEach func(src []T, stride int, preds *predictions[T], n int, costs *modeCosts)
	// forward4 transforms the differences of the 4x4 blocks of w x h samples to
	// their prediction, in raster order.
	forward4 func(src []T, stride int, pred []T, step, w, h int, c []int32)
	// quantise turns coefficients of 4x4 blocks into levels, in place, and tells
	// which are not 0, a bit each.
	quantise func(c []int32, factors *[64]int32, bias int32, shift uint, nonZero []uint16)
	// forward8 does the same with an 8x8 block.
	forward8 func(src []T, stride int, pred []T, step int, c *[64]int32)
	// quantise8 turns coefficients of an 8x8 block into levels, in place; where there
	// are some, of which has tells, it scales them into coeffs.
	quantise8 func(c, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (nonZero uint64)
	// bitCost is about what coefficients cost.
	bitCost func(c, factors *[64]int32, shift uint) int
}

// predictions are those of a block of 4x4 or 8x8 samples in all modes of intra
// prediction, one after another. modeCosts are what they cost. There is room for a tenth,
// since two are compared at once.
type (
	predictions[T motion.Sample] [10 * 64]T
	modeCosts                    [10]int32
)

// goEncodeKernels are the kernels in plain Go.
func goEncodeKernels[T motion.Sample]() encodeKernels[T] {
	return encodeKernels[T]{motion.GoDistanceKernels[T](), directions[T], satdEach[T], forwardBlocks[T], quantiseBlocks, forward8[T], quantise8, bitCost}
}

func directions[T motion.Sample](p *border[T], n int, preds *predictions[T]) {
	var s averages[T]
	smoothBorder(p, n, &s)
	for y := range n {
		copy(preds[y*n:][:n], p[n+2:])
		motion.FillBlock(preds[n*n+y*n:], n, n, 1, p[n-y])
	}
	for mode := 3; mode < 9; mode++ {
		predictSquare(preds[mode*n*n:], n, n, mode-3, &s)
	}
}

func satdEach[T motion.Sample](src []T, stride int, preds *predictions[T], n int, costs *modeCosts) {
	for mode := range 9 {
		costs[mode] = int32(motion.SATDBlock(src, stride, preds[mode*n*n:], n, n, n))
	}
}
