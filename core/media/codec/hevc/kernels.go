package hevc

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

//go:generate go run ./asm/arm64 -out kernels_arm64.s -stubs stubs_arm64.go -pkg hevc
//go:generate go run ./asm -out kernels_amd64.s -stubs stubs_amd64.go -pkg hevc

// predStride is the number of samples in a row of a prediction before it is rounded.
const predStride = 64

// kernels are the inner loops of prediction, transforms and offsets. Strides are in samples. Sources and
// destinations of 16 samples and more may be read, and predictions before they are rounded also written,
// up to 16 samples beyond the end of a row.
type kernels[T motion.Sample] struct {
	motion.BlockKernels[T]
	blockKernels
	// difference fills v with the differences between n x n samples, n = 4 to 32. Pairs of rows are
	// interleaved. From n = 8 on, the first half are sums of the rows that are equally far from the upper
	// and the lower edge, and the second one their differences: even basis functions go by the sums, odd
	// ones by the differences.
	difference func(v []int16, src []T, stride int, pred []T, step, n int)
	// forward8 is forward of 8 x 8 samples: columns by shift, then rows by 9.
	forward8 func(out []int16, src []T, stride int, pred []T, step int, shift uint)
	// add adds differences to n x n samples.
	add func(dst []T, stride int, r []int16, n int, most int32)
	// across and down apply a filter of count = 8 or 4 taps to w x h samples in a row or a column: src
	// begins where the first tap is.
	across, down func(dst []int16, src []T, step, w, h int, taps *[8]int16, count int, shift uint)
	// round rounds a prediction to samples, and mean the mean of two: (a + b + 1 << shift >> 1) >> shift.
	round func(dst []T, stride int, a []int16, w, h int, shift uint, most int32)
	mean  func(dst []T, stride int, a, b []int16, w, h int, shift uint, most int32)
	// directions is predictDirections.
	directions func(dst []T, stride int, ref *[32 + 65 + 16]int16, n, angle int)
	// deblock is filterLuma of both sides of two edges in line, of samples of up to 10 bits, with a tc for each.
	// Where it is 0, nothing is changed.
	deblock func(pix []T, at, stride int, vertical bool, beta int32, tc [2]int32, most int32)
	// planar is planar of samples of up to 10 bits.
	planar func(dst []T, stride int, p []int16, n, log2 int)
	// collect adds up the differences to src, clipped to 8 bits, of samples with sign(v-a) + sign(v-b) = -2,
	// -1, 1, 2, where the neighbours a and b are step samples before and after pix[at], and their numbers, in
	// turn. w is a multiple of 16, and w*h at most 64*64.
	collect func(pix []T, at, stride int, src []T, w, h, step int, sums *[8]int32)
	// edges sets w x h samples to v + offsets[2+sign(v-a)+sign(v-b)] of the samples v from old[at] on and their
	// neighbours a and b, step samples after and before. Rows are stride samples long; w is a multiple of 16.
	edges func(dst, old []T, at, stride, step, w, h int, offsets *[8]int16, most int32)
}

// blockKernels are those that know no samples.
type blockKernels struct {
	// multiply computes out[r][c] = (sum of p[r][k] * v[k][c] + 1 << shift >> 1) >> shift, clipped to 16
	// bits, for r < n, k < 2*pairs and c < cols. p and out have rows of n; those of v are interleaved in
	// pairs. cols is n, or a smaller multiple of 16.
	multiply func(out, p, v []int16, n, pairs, cols int, shift uint)
	// multiplyHalf computes every second row of out in the same way, from half as many rows of n/2 factors.
	multiplyHalf func(out, p, v []int16, n int, shift uint)
	// interleave interleaves pairs of rows of n.
	interleave func(v, src []int16, n, pairs int)
	// downAgain is down of what across returned.
	downAgain func(dst, src []int16, w, h int, taps *[8]int16, count int, shift uint)
	// cost is levelCosts, and quantise quantiseLevels.
	cost     func(c []int16, factor int32, shift uint) int
	quantise func(dst, c []int16, factor, bias int32, shift uint) bool
	// worth is levelsWorth, scale scaleLevels, and gather gatherLevels.
	worth  func(c, levels []int16, factor int32, shift uint) (gain, bits int)
	scale  func(dst, levels []int16, factor int32, shift uint)
	gather func(out, levels []int16, n int) uint64
	// nonZero is nonZeroLevels.
	nonZero func(levels *[16]int16) uint
}

func goBlockKernels() blockKernels {
	return blockKernels{multiply, multiplyHalf, interleave, func(dst, src []int16, w, h int, taps *[8]int16, count int, shift uint) {
		filterColumns(dst, src, predStride, w, h, taps, count, shift)
	}, levelCosts, quantiseLevels, levelsWorth, scaleLevels, gatherLevels, nonZeroLevels}
}

// goKernels are the kernels in plain Go.
func goKernels[T motion.Sample]() kernels[T] {
	return kernels[T]{motion.GoBlockKernels[T](), goBlockKernels(), difference[T], forward8[T], addResidual[T], filterRows[T], filterColumns[T], roundBlock[T], meanBlock[T], predictDirections[T], deblockPair[T], planar[T], collectEdges[T], addEdges[T]}
}

func multiply(out, p, v []int16, n, pairs, cols int, shift uint) {
	product(out, n, p, n, v, 2*n, n, pairs, cols, shift)
}

func multiplyHalf(out, p, v []int16, n int, shift uint) {
	product(out, 2*n, p, n/2, v, 2*n, n/2, n/4, n, shift)
}

// product multiplies a matrix with one whose rows are interleaved in pairs; next, step and stride are the
// lengths of rows.
func product(out []int16, stride int, p []int16, step int, v []int16, next, rows, pairs, cols int, shift uint) {
	round := int32(1) << shift >> 1
	var sums [32]int32
	for r := range rows {
		for c := range cols {
			sums[c] = round
		}
		for k := range pairs {
			a, b := int32(p[r*step+2*k]), int32(p[r*step+2*k+1])
			if a|b == 0 {
				continue
			}
			row := v[next*k:][:2*cols]
			for c := range cols {
				sums[c] += a*int32(row[2*c]) + b*int32(row[2*c+1])
			}
		}
		for c, s := range sums[:cols] {
			out[r*stride+c] = int16(max(-32768, min(s>>shift, 32767)))
		}
	}
}

func interleave(v, src []int16, n, pairs int) {
	for k := range pairs {
		a, b, out := src[2*k*n:][:n], src[(2*k+1)*n:][:n], v[2*k*n:][:2*n]
		for i := range a {
			out[2*i], out[2*i+1] = a[i], b[i]
		}
	}
}

func difference[T motion.Sample](v []int16, src []T, stride int, pred []T, step, n int) {
	at := func(x, y int) int16 { return int16(src[y*stride+x]) - int16(pred[y*step+x]) }
	for y := range n {
		for x := range n {
			d := at(x, y)
			switch {
			case n == 4:
			case y < n/2:
				d += at(x, n-1-y)
			default:
				d = at(x, y-n/2) - at(x, n-1-(y-n/2))
			}
			v[(y>>1*n+x)*2+y&1] = d
		}
	}
}

func forward8[T motion.Sample](out []int16, src []T, stride int, pred []T, step int, shift uint) {
	var rows, half [64]int16
	difference(rows[:], src, stride, pred, step, 8)
	forwardDifference(&blockKernels{multiply: multiply, multiplyHalf: multiplyHalf}, out, rows[:], half[:], &cosines[1], 8, shift)
}

// forwardDifference transforms n x n differences, n = 8 to 32: columns by shift, then rows.
func forwardDifference(k *blockKernels, out, rows, half []int16, m *transform, n int, shift uint) {
	k.multiplyHalf(half, m.halves[0], rows, n, shift)
	k.multiplyHalf(half[n:], m.halves[1], rows[n*n/2:], n, shift)
	k.multiply(out, half, m.transposedPairs, n, n/2, n, uint(log2Of(n)+6))
}

func addResidual[T motion.Sample](dst []T, stride int, r []int16, n int, most int32) {
	for y := range n {
		row, add := dst[y*stride:][:n], r[y*n:][:n]
		for x := range row {
			row[x] = T(max(0, min(int32(row[x])+int32(add[x]), most)))
		}
	}
}

func filterRows[T motion.Sample](dst []int16, src []T, step, w, h int, taps *[8]int16, count int, shift uint) {
	for y := range h {
		out, in := dst[y*predStride:][:w], src[y*step:][:w+count-1]
		for x := range out {
			sum := int32(0)
			for k, s := range in[x:][:count] {
				sum += int32(taps[k&7]) * int32(s)
			}
			out[x] = int16(sum >> shift)
		}
	}
}

func filterColumns[T motion.Sample | int16](dst []int16, src []T, step, w, h int, taps *[8]int16, count int, shift uint) {
	for y := range h {
		out, in := dst[y*predStride:][:w], src[y*step:]
		for x := range out {
			sum := int32(0)
			for k := range count {
				sum += int32(taps[k&7]) * int32(in[x+k*step])
			}
			out[x] = int16(sum >> shift)
		}
	}
}

func roundBlock[T motion.Sample](dst []T, stride int, a []int16, w, h int, shift uint, most int32) {
	half := int32(1) << shift >> 1
	for y := range h {
		row, in := dst[y*stride:][:w], a[y*predStride:][:w]
		for x := range row {
			row[x] = T(max(0, min((int32(in[x])+half)>>shift, most)))
		}
	}
}

func meanBlock[T motion.Sample](dst []T, stride int, a, b []int16, w, h int, shift uint, most int32) {
	half := int32(1) << shift >> 1
	for y := range h {
		row, p, q := dst[y*stride:][:w], a[y*predStride:][:w], b[y*predStride:][:w]
		for x := range row {
			row[x] = T(max(0, min((int32(p[x])+int32(q[x])+half)>>shift, most)))
		}
	}
}

// Costs are in 1/4096 of the squared quantiser step. bitCost is that of one bit, as in h264; codedCost is
// that of a level of 1: the error that stays, 1/12 of a squared step, and four bits.
const (
	bitCost   = 340
	codedCost = 4096/12 + 4*bitCost
)

// levelCosts estimates the rate-distortion cost of coefficients; |c|*factor >> shift are 1/64 of a
// quantiser step. Each counts the lesser of two costs: its square if it is dropped, or that of its level,
// which rises by about two bits for each doubling. The logarithm is taken from the leading bits of a
// float, so that every processor rounds alike.
func levelCosts(c []int16, factor int32, shift uint) (sum int) {
	for _, v := range c {
		x := min(uint32(motion.Abs32(int32(v))*factor)>>shift, 1<<14-1)
		log := max(0, int(math.Float32bits(float32(x))>>16)-(127+6)<<7)
		sum += min(int(x*x), codedCost+5*log)
	}
	return sum
}

// quantiseLevels turns coefficients into levels, (|c|*factor + bias) >> shift with their signs. It reports
// whether one is not 0.
func quantiseLevels(dst, c []int16, factor, bias int32, shift uint) bool {
	any := int16(0)
	for i, v := range c {
		level := int32(uint32(motion.Abs32(int32(v))*factor+bias) >> shift)
		if v < 0 {
			level = -level
		}
		dst[i] = int16(max(-32768, min(level, 32767)))
		any |= dst[i]
	}
	return any != 0
}

// levelsWorth returns by how much levels lower the squared error, in 1/4096 of the squared quantiser step,
// and about how many bits they take: four for a level, two more for each doubling. Coefficients count up to
// 16 steps, levels up to 16.
func levelsWorth(c, levels []int16, factor int32, shift uint) (gain, bits int) {
	for i, level := range levels {
		if level == 0 {
			continue
		}
		s := min(int(uint32(motion.Abs32(int32(c[i]))*factor)>>shift), 1<<10-1)
		magnitude := min(int(motion.Abs32(int32(level))), 1<<4)
		rest := s - magnitude<<6
		gain += s*s - rest*rest
		bits += 4 + 2*(mathbits.Len(uint(magnitude))-1)
	}
	return gain, bits
}

// scaleLevels turns levels into coefficients, (level*factor + 1 << shift >> 1) >> shift, clipped to 16 bits.
func scaleLevels(dst, levels []int16, factor int32, shift uint) {
	round := int32(1) << shift >> 1
	for i, v := range levels {
		dst[i] = int16(max(-32768, min((int32(v)*factor+round)>>shift, 32767)))
	}
}

// gatherLevels puts n rows of n levels into the order of their sub-blocks of 4x4, and returns which of
// these have levels that are not 0: bit 8*row + column.
func gatherLevels(out, levels []int16, n int) (mask uint64) {
	for y := 0; y < n; y += 4 {
		for x := 0; x < n; x += 4 {
			to, any := out[y*n+4*x:][:16], int16(0)
			for i := range to {
				to[i] = levels[(y+i>>2)*n+x+i&3]
				any |= to[i]
			}
			if any != 0 {
				mask |= 1 << (2*y + x>>2)
			}
		}
	}
	return mask
}

// nonZeroLevels returns a set of the levels that are not 0: bit i is that of levels[i].
func nonZeroLevels(levels *[16]int16) (mask uint) {
	for i, v := range levels {
		if v != 0 {
			mask |= 1 << i
		}
	}
	return mask
}

func collectEdges[T motion.Sample](pix []T, at, stride int, src []T, w, h, step int, sums *[8]int32) {
	*sums = [8]int32{}
	for y := range h {
		row, a, b, in := pix[at+y*stride:][:w], pix[at+y*stride-step:][:w], pix[at+y*stride+step:][:w], src[y*stride:][:w]
		for x, v := range row {
			edge := sign(int32(v)-int32(a[x])) + sign(int32(v)-int32(b[x]))
			if edge == 0 {
				continue
			}
			k := [5]int{0, 2, 0, 4, 6}[edge+2]
			sums[k] += max(-128, min(int32(in[x])-int32(v), 127))
			sums[k+1]++
		}
	}
}

func addEdges[T motion.Sample](dst, old []T, at, stride, step, w, h int, offsets *[8]int16, most int32) {
	for y := range h {
		row, from := dst[y*stride:][:w], at+y*stride
		v, a, b := old[from:][:w], old[from+step:][:w], old[from-step:][:w]
		for x := range row {
			v := int32(v[x])
			row[x] = T(max(0, min(v+int32(offsets[(2+sign(v-int32(a[x]))+sign(v-int32(b[x])))&7]), most)))
		}
	}
}
