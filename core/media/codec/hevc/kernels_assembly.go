//go:build amd64 || arm64

package hevc

import (
	"unsafe"

	"vividstrain/core/media/codec/motion"
)

// assemblyBlockKernels returns the block kernels, with those that every processor with assembly has.
func assemblyBlockKernels() blockKernels {
	k := goBlockKernels()
	k.multiply = func(out, p, v []int16, n, pairs, cols int, shift uint) {
		_, _, _ = out[n*n-1], p[n*n-1], v[2*n*pairs-1]
		multiplyFast(&out[0], 2*n, &p[0], 2*n, &v[0], 4*n, n, pairs, cols, int(shift))
	}
	k.multiplyHalf = func(out, p, v []int16, n int, shift uint) {
		_, _, _ = out[n*n-n-1], p[n*n/4-1], v[n*n/2-1]
		multiplyFast(&out[0], 4*n, &p[0], n, &v[0], 4*n, n/2, n/4, n, int(shift))
	}
	k.downAgain = func(dst, src []int16, w, h int, taps *[8]int16, count int, shift uint) {
		_, _ = dst[(h-1)*predStride+w-1], src[(h+count-2)*predStride+w-1]
		downWideFast(&dst[0], (*byte)(unsafe.Pointer(&src[0])), 2*predStride, w, h, taps, count, int(shift))
	}
	return k
}

// assemblyKernels is assemblyBlockKernels for 8-bit samples.
func assemblyKernels() kernels[uint8] {
	k := goKernels[uint8]()
	k.BlockKernels, k.blockKernels = motion.FastBlockKernels(), fastBlockKernels()
	k.add = func(dst []uint8, stride int, r []int16, n int, _ int32) {
		_ = r[n*n-1]
		addFast(motion.First(dst, stride, n, n), stride, &r[0], n)
	}
	k.across = func(dst []int16, src []uint8, step, w, h int, taps *[8]int16, count int, shift uint) {
		_ = dst[(h-1)*predStride+w-1]
		acrossFast(&dst[0], motion.First(src, step, w+count-1, h), step, w, h, taps, count, int(shift))
	}
	k.down = func(dst []int16, src []uint8, step, w, h int, taps *[8]int16, count int, shift uint) {
		_ = dst[(h-1)*predStride+w-1]
		downFast(&dst[0], motion.First(src, step, w, h+count-1), step, w, h, taps, count, int(shift))
	}
	k.round = func(dst []uint8, stride int, a []int16, w, h int, shift uint, _ int32) {
		_ = a[(h-1)*predStride+w-1]
		roundFast(motion.First(dst, stride, w, h), stride, &a[0], w, h, int(shift))
	}
	k.mean = func(dst []uint8, stride int, a, b []int16, w, h int, shift uint, _ int32) {
		_, _ = a[(h-1)*predStride+w-1], b[(h-1)*predStride+w-1]
		meanFast(motion.First(dst, stride, w, h), stride, &a[0], &b[0], w, h, int(shift))
	}
	k.deblock = func(pix []uint8, at, stride int, vertical bool, beta int32, tc [2]int32, most int32) {
		if vertical {
			_, _ = pix[at-4], pix[at+7*stride+3]
			deblockDownFast(&pix[at], stride, int(beta), int(tc[0]), int(tc[1]), int(most))
			return
		}
		_, _ = pix[at-4*stride], pix[at+3*stride+7]
		deblockAcrossFast(&pix[at], stride, int(beta), int(tc[0]), int(tc[1]), int(most))
	}
	return k
}

// assemblyWideKernels is assemblyBlockKernels for two-byte samples of up to 12 bits.
func assemblyWideKernels() kernels[uint16] {
	k := goKernels[uint16]()
	k.BlockKernels, k.blockKernels = motion.FastWideBlockKernels(), fastBlockKernels()
	k.add = func(dst []uint16, stride int, r []int16, n int, most int32) {
		_ = r[n*n-1]
		addWideFast(motion.FirstWide(dst, stride, n, n), 2*stride, &r[0], n, int(most))
	}
	k.across = func(dst []int16, src []uint16, step, w, h int, taps *[8]int16, count int, shift uint) {
		_ = dst[(h-1)*predStride+w-1]
		acrossWideFast(&dst[0], motion.FirstWide(src, step, w+count-1, h), 2*step, w, h, taps, count, int(shift))
	}
	k.down = func(dst []int16, src []uint16, step, w, h int, taps *[8]int16, count int, shift uint) {
		_ = dst[(h-1)*predStride+w-1]
		downWideFast(&dst[0], motion.FirstWide(src, step, w, h+count-1), 2*step, w, h, taps, count, int(shift))
	}
	k.round = func(dst []uint16, stride int, a []int16, w, h int, shift uint, most int32) {
		_ = a[(h-1)*predStride+w-1]
		roundWideFast(motion.FirstWide(dst, stride, w, h), 2*stride, &a[0], w, h, int(shift), int(most))
	}
	k.mean = func(dst []uint16, stride int, a, b []int16, w, h int, shift uint, most int32) {
		_, _ = a[(h-1)*predStride+w-1], b[(h-1)*predStride+w-1]
		meanWideFast(motion.FirstWide(dst, stride, w, h), 2*stride, &a[0], &b[0], w, h, int(shift), int(most))
	}
	k.deblock = func(pix []uint16, at, stride int, vertical bool, beta int32, tc [2]int32, most int32) {
		if vertical {
			_, _ = pix[at-4], pix[at+7*stride+3]
			deblockDownWideFast((*byte)(unsafe.Pointer(&pix[at])), 2*stride, int(beta), int(tc[0]), int(tc[1]), int(most))
			return
		}
		_, _ = pix[at-4*stride], pix[at+3*stride+7]
		deblockAcrossWideFast((*byte)(unsafe.Pointer(&pix[at])), 2*stride, int(beta), int(tc[0]), int(tc[1]), int(most))
	}
	return k
}
