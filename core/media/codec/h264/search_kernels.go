package h264

// searchKernels are the inner loops of the encoder: how far a block is from its
// prediction, and what is to be coded of it. Blocks are w x h samples, multiples of 4.
type searchKernels[T sample] struct {
	// sad is the sum of absolute differences.
	sad func(a []T, stride int, b []T, step, w, h int) int
	// sadQuarters is sad of each quarter of 16x16 samples, in coding order.
	sadQuarters func(a []T, stride int, b []T, step int, sums *[4]int)
	// sadFour is sad with the blocks that begin at four places of b.
	sadFour func(a []T, stride int, b []T, step, w, h int, at, sums *[4]int)
	// satd is the sum of absolute values of the differences' Hadamard
	// transforms in blocks of 4x4, halved.
	satd func(a []T, stride int, b []T, step, w, h int) int
	// satdMean is satd with the average of two blocks.
	satdMean func(a []T, stride int, b, c []T, step, w, h int) int
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
	quantise func(c []int32, factors *[64]int32, bias int32, shift uint, has []uint16)
	// forward8 does so with an 8x8 block.
	forward8 func(src []T, stride int, pred []T, step int, c *[64]int32)
	// quantise8 turns coefficients of an 8x8 block into levels, in place; where there
	// are some, of which has tells, it scales them into coeffs.
	quantise8 func(c, factors, scale *[64]int32, bias int32, shift uint, coeffs *[64]int32) (has uint64)
	// toll is about what coefficients cost.
	toll func(c, factors *[64]int32, shift uint) int
}

// predictions are those of a block of 4x4 or 8x8 samples in all modes of intra
// prediction, one behind another. modeCosts are what they cost. There is room for a tenth,
// since two are compared at once.
type (
	predictions[T sample] [10 * 64]T
	modeCosts             [10]int32
)

// goSearchKernels are the kernels in plain Go.
func goSearchKernels[T sample]() searchKernels[T] {
	return searchKernels[T]{sadBlock[T], sadQuarters[T], sadFour[T], satdBlock[T], satdMean[T], directions[T], satdEach[T], forwardBlocks[T], quantiseBlocks, forward8[T], quantise8, toll}
}

func sadBlock[T sample](a []T, stride int, b []T, step, w, h int) (sum int) {
	for y := range h {
		p, q := a[y*stride:][:w], b[y*step:][:w]
		for x := range p {
			sum += int(abs32(int32(p[x]) - int32(q[x])))
		}
	}
	return sum
}

func sadQuarters[T sample](a []T, stride int, b []T, step int, sums *[4]int) {
	for i := range sums {
		x, y := i&1*8, i>>1*8
		sums[i] = sadBlock(a[y*stride+x:], stride, b[y*step+x:], step, 8, 8)
	}
}

func sadFour[T sample](a []T, stride int, b []T, step, w, h int, at, sums *[4]int) {
	for i, from := range at {
		sums[i] = sadBlock(a, stride, b[from:], step, w, h)
	}
}

func satdBlock[T sample](a []T, stride int, b []T, step, w, h int) (sum int) {
	var c [16]int32
	for y := 0; y < h; y += 4 {
		for x := 0; x < w; x += 4 {
			for j := range 4 {
				p, q := a[(y+j)*stride+x:][:4], b[(y+j)*step+x:][:4]
				for i := range 4 {
					c[4*j+i] = int32(p[i]) - int32(q[i])
				}
				hadamard(&c[4*j], &c[4*j+1], &c[4*j+2], &c[4*j+3])
			}
			block := int32(0)
			for i := range 4 {
				hadamard(&c[i], &c[4+i], &c[8+i], &c[12+i])
				block += abs32(c[i]) + abs32(c[4+i]) + abs32(c[8+i]) + abs32(c[12+i])
			}
			sum += int(block)
		}
	}
	return sum >> 1
}

func directions[T sample](p *border[T], n int, preds *predictions[T]) {
	var s averages[T]
	smoothBorder(p, n, &s)
	for y := range n {
		copy(preds[y*n:][:n], p[n+2:])
		fillBlock(preds[n*n+y*n:], n, n, 1, p[n-y])
	}
	for mode := 3; mode < 9; mode++ {
		predictSquare(preds[mode*n*n:], n, n, mode-3, &s)
	}
}

func satdEach[T sample](src []T, stride int, preds *predictions[T], n int, costs *modeCosts) {
	for mode := range 9 {
		costs[mode] = int32(satdBlock(src, stride, preds[mode*n*n:], n, n, n))
	}
}

func satdMean[T sample](a []T, stride int, b, c []T, step, w, h int) int {
	var mean [16 * 16]T
	copyBlock(mean[:], 16, b, step, w, h)
	averageBlock(mean[:], 16, c, step, w, h)
	return satdBlock(a, stride, mean[:], 16, w, h)
}
