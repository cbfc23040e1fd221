package h264

import "vividstrain/core/media/codec/motion"

// encodeKernels are the inner loops of the encoder: distances to predictions, transforms and
// quantisation. Blocks are w x h samples, multiples of 4.
type encodeKernels[T motion.Sample] struct {
	motion.DistanceKernels[T]
	// directions predicts a block of n x n samples, n = 4 or 8, in all intra modes except DC.
	directions func(p *border[T], n int, preds *predictions[T])
	// satdEach computes the SATD of a block of n x n samples with each of its predictions.
	satdEach func(src []T, stride int, preds *predictions[T], n int, costs *modeCosts)
	// forward4 transforms the differences between the 4x4 blocks of w x h samples and their
	// prediction, in raster order.
	forward4 func(src []T, stride int, pred []T, step, w, h int, c []int32)
	// quantise quantises coefficients of 4x4 blocks in place and returns a bit set of the levels
	// that are not 0.
	quantise func(c []int32, factors *[64]int32, bias int32, shift uint, nonZero []uint16)
	// forward8 transforms the difference between an 8x8 block and its prediction.
	forward8 func(src []T, stride int, pred []T, step int, c *[64]int32)
	// quantise8 quantises an 8x8 block in place. If a level is left, it reports that and
	// dequantises the levels into coeffs.
	quantise8 func(c, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (nonZero uint64)
	// bitCost estimates the rate-distortion cost of coefficients.
	bitCost func(c, factors *[64]int32, shift uint) int
}

// predictions holds the predictions of a block of 4x4 or 8x8 samples in all intra modes, in
// turn, and modeCosts their costs. There is room for a tenth, since two are compared at once.
type (
	predictions[T motion.Sample] [10 * 64]T
	modeCosts                    [10]int32
)

// goEncodeKernels returns the kernels in plain Go.
func goEncodeKernels[T motion.Sample]() encodeKernels[T] {
	return encodeKernels[T]{motion.GoDistanceKernels[T](), directions[T], satdEach[T], forwardBlocks[T], quantiseBlocks, forward8[T], quantise8, bitCost}
}

// least returns the mode with the least cost of those that need nothing that lacks, and that cost. All but the
// predicted mode cost more bits. Of equal ones the first is best.
func (c *modeCosts) least(predicted int8, more int32, lacks int) (mode int8, cost int) {
	not := &lacking[lacks&7]
	best := int64(c[predicted]+not[predicted]-more)<<4 | int64(predicted)
	for mode, v := range c[:len(not)] {
		best = min(best, int64(v+not[mode])<<4|int64(mode))
	}
	return int8(best & 15), int(best>>4) + int(more)
}

// lacking is added to the cost of each mode: by what is not there, much where the mode needs it.
var lacking = func() (list [8][9]int32) {
	for lacks := range list {
		for mode, need := range needs {
			list[lacks][mode] = int32(oneIf(need&lacks != 0)) << 29
		}
	}
	return list
}()

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
