// Package motion is what encoders and decoders of block-based video share for motion: kernels
// that copy, average and compare blocks of samples, in Go and in assembly, and motion search.
package motion

import "unsafe"

// Sample is the type of samples: 8 bits, or more.
type Sample interface{ uint8 | uint16 }

// BlockKernels copy and average blocks of samples. Strides are in samples.
type BlockKernels[T Sample] struct {
	// Copy copies w x h samples, w a power of two from 2 to LineOf.
	Copy func(dst []T, stride int, src []T, step, w, h int)
	// Fill sets every sample to v; Extend repeats the sample to the left of each row, from at
	// on. Blocks are 4, 8 or 16 samples wide.
	Fill   func(dst []T, stride, w, h int, v T)
	Extend func(pix []T, at, stride, w, h int)
	// Average computes (dst + src + 1) >> 1, w = 2, 4, 8 or 16.
	Average func(dst []T, stride int, src []T, step, w, h int)
}

// DistanceKernels measure the difference between a block and its prediction. Blocks are w x h
// samples, w = 4 (for SATD only), 8 or 16, h a multiple of 4. Strides are in samples.
type DistanceKernels[T Sample] struct {
	// SAD is the sum of absolute differences.
	SAD func(a []T, stride int, b []T, step, w, h int) int
	// SADQuarters is the SAD of each quarter of 16x16 samples, in raster order.
	SADQuarters func(a []T, stride int, b []T, step int, sums *[4]int)
	// SADFour is the SAD with each of the blocks that begin at four offsets in b.
	SADFour func(a []T, stride int, b []T, step, w, h int, at, sums *[4]int)
	// SATD is the sum of absolute values of the differences' Hadamard
	// transforms in blocks of 4x4, halved.
	SATD func(a []T, stride int, b []T, step, w, h int) int
	// SATDMean is the SATD with the average of two blocks.
	SATDMean func(a []T, stride int, b, c []T, step, w, h int) int
}

//go:generate go run ./asm/arm64 -out kernels_arm64.s -stubs stubs_arm64.go -pkg motion

// GoBlockKernels returns the kernels in plain Go.
func GoBlockKernels[T Sample]() BlockKernels[T] {
	return BlockKernels[T]{copyBlock[T], FillBlock[T], ExtendBlock[T], averageBlock[T]}
}

// GoDistanceKernels returns the kernels in plain Go.
func GoDistanceKernels[T Sample]() DistanceKernels[T] {
	return DistanceKernels[T]{sadBlock[T], sadQuarters[T], sadFour[T], SATDBlock[T], satdMean[T]}
}

// LineOf is how many samples a cache line of 64 bytes holds.
func LineOf[T Sample]() int {
	var v T
	return 64 / int(unsafe.Sizeof(v))
}

func copyBlock[T Sample](dst []T, stride int, src []T, step, w, h int) {
	for y := range h {
		copy(dst[y*stride:][:w], src[y*step:][:w])
	}
}

func FillBlock[T Sample](dst []T, stride, w, h int, v T) {
	for y := range h {
		row := dst[y*stride:][:w]
		for x := range row {
			row[x] = v
		}
	}
}

func ExtendBlock[T Sample](pix []T, at, stride, w, h int) {
	for y := range h {
		FillBlock(pix[at+y*stride:], stride, w, 1, pix[at+y*stride-1])
	}
}

func averageBlock[T Sample](dst []T, stride int, src []T, step, w, h int) {
	for y := range h {
		row, add := dst[y*stride:][:w], src[y*step:][:w]
		for x := range row {
			row[x] = T((int32(row[x]) + int32(add[x]) + 1) >> 1)
		}
	}
}

func sadBlock[T Sample](a []T, stride int, b []T, step, w, h int) (sum int) {
	for y := range h {
		p, q := a[y*stride:][:w], b[y*step:][:w]
		for x := range p {
			sum += int(Abs32(int32(p[x]) - int32(q[x])))
		}
	}
	return sum
}

func sadQuarters[T Sample](a []T, stride int, b []T, step int, sums *[4]int) {
	for i := range sums {
		x, y := i&1*8, i>>1*8
		sums[i] = sadBlock(a[y*stride+x:], stride, b[y*step+x:], step, 8, 8)
	}
}

func sadFour[T Sample](a []T, stride int, b []T, step, w, h int, at, sums *[4]int) {
	for i, from := range at {
		sums[i] = sadBlock(a, stride, b[from:], step, w, h)
	}
}

func SATDBlock[T Sample](a []T, stride int, b []T, step, w, h int) (sum int) {
	var c [16]int32
	for y := 0; y < h; y += 4 {
		for x := 0; x < w; x += 4 {
			for j := range 4 {
				p, q := a[(y+j)*stride+x:][:4], b[(y+j)*step+x:][:4]
				for i := range 4 {
					c[4*j+i] = int32(p[i]) - int32(q[i])
				}
				Hadamard(&c[4*j], &c[4*j+1], &c[4*j+2], &c[4*j+3])
			}
			block := int32(0)
			for i := range 4 {
				Hadamard(&c[i], &c[4+i], &c[8+i], &c[12+i])
				block += Abs32(c[i]) + Abs32(c[4+i]) + Abs32(c[8+i]) + Abs32(c[12+i])
			}
			sum += int(block)
		}
	}
	return sum >> 1
}

func satdMean[T Sample](a []T, stride int, b, c []T, step, w, h int) int {
	var mean [16 * 16]T
	copyBlock(mean[:], 16, b, step, w, h)
	averageBlock(mean[:], 16, c, step, w, h)
	return SATDBlock(a, stride, mean[:], 16, w, h)
}

// Hadamard is one row of the transform in equations 8-320 and 8-328 of Rec. ITU-T H.264.
func Hadamard(a, b, c, d *int32) {
	p, q, r, s := *a+*b, *a-*b, *c+*d, *c-*d
	*a, *b, *c, *d = p+r, p-r, q-s, q+s
}

func Abs32(v int32) int32 { return max(v, -v) }
