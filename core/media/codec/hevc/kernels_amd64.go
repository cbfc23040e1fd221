package hevc

import (
	"unsafe"

	"golang.org/x/sys/cpu"

	"vividstrain/core/media/codec/motion"
)

// fastBlockKernels are the fastest block kernels that this processor runs.
func fastBlockKernels() blockKernels {
	k := assemblyBlockKernels()
	k.interleave = func(v, src []int16, n, pairs int) {
		_, _ = v[2*n*pairs-1], src[2*n*pairs-1]
		interleaveFast(&v[0], &src[0], n, pairs)
	}
	k.cost = func(c []int16, factor int32, shift uint) int { return costFast(&c[0], len(c), int(factor), int(shift)) }
	k.quantise = func(dst, c []int16, factor, bias int32, shift uint) bool {
		_ = dst[len(c)-1]
		return quantiseFast(&dst[0], &c[0], len(c), int(factor), int(bias), int(shift)) != 0
	}
	k.worth = func(c, levels []int16, factor int32, shift uint) (gain, bits int) {
		_ = c[len(levels)-1]
		return worthFast(&c[0], &levels[0], len(levels), int(factor), int(shift))
	}
	k.scale = func(dst, levels []int16, factor int32, shift uint) {
		_ = dst[len(levels)-1]
		scaleFast(&dst[0], &levels[0], len(levels), int(factor), int(shift))
	}
	k.gather = func(out, levels []int16, n int) uint64 {
		if n == 4 {
			return gatherLevels(out, levels, 4)
		}
		_, _ = out[n*n-1], levels[n*n-1]
		return gatherFast(&out[0], &levels[0], n)
	}
	k.nonZero = nonZeroFast
	return k
}

// fastKernels are the fastest kernels for 8-bit samples that this processor runs.
func fastKernels() kernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goKernels[uint8]()
	}
	k := assemblyKernels()
	k.difference = func(v []int16, src []uint8, stride int, pred []uint8, step, n int) {
		_ = v[n*n-1]
		differenceFast(&v[0], motion.First(src, stride, n, n), stride, motion.First(pred, step, n, n), step, n)
	}
	k.forward8 = func(out []int16, src []uint8, stride int, pred []uint8, step int, shift uint) {
		_ = out[63]
		forward8Fast(&out[0], motion.First(src, stride, 8, 8), stride, motion.First(pred, step, 8, 8), step, int(shift))
	}
	k.directions = func(dst []uint8, stride int, ref *[32 + 65 + 16]int16, n, angle int) {
		directionsFast(motion.First(dst, stride, n, n), stride, ref, n, angle)
	}
	k.planar = func(dst []uint8, stride int, p []int16, n, log2 int) {
		if n < 8 {
			planar(dst, stride, p, n, log2)
			return
		}
		_ = p[4*n]
		planarFast(motion.First(dst, stride, n, n), stride, &p[0], n, log2+1)
	}
	k.collect = func(pix []uint8, at, stride int, src []uint8, w, h, step int, sums *[8]int32) {
		_, _ = pix[at-abs(step)], pix[at+(h-1)*stride+w-1+abs(step)]
		collectFast(&pix[at], stride, motion.First(src, stride, w, h), w, h, step, sums)
	}
	k.edges = func(dst, old []uint8, at, stride, step, w, h int, offsets *[8]int16, _ int32) {
		_, _ = old[at-abs(step)], old[at+(h-1)*stride+w-1+abs(step)]
		edgesFast(motion.First(dst, stride, w, h), &old[at], stride, step, w, h, offsets)
	}
	return k
}

// fastWideKernels are the fastest kernels for two-byte samples of up to 12 bits.
func fastWideKernels() kernels[uint16] {
	if !cpu.X86.HasAVX2 {
		return goKernels[uint16]()
	}
	address := func(s []uint16) *byte { return (*byte)(unsafe.Pointer(&s[0])) }
	k := assemblyWideKernels()
	k.difference = func(v []int16, src []uint16, stride int, pred []uint16, step, n int) {
		_ = v[n*n-1]
		differenceWideFast(&v[0], motion.FirstWide(src, stride, n, n), 2*stride, motion.FirstWide(pred, step, n, n), 2*step, n)
	}
	k.forward8 = func(out []int16, src []uint16, stride int, pred []uint16, step int, shift uint) {
		_ = out[63]
		forward8WideFast(&out[0], motion.FirstWide(src, stride, 8, 8), 2*stride, motion.FirstWide(pred, step, 8, 8), 2*step, int(shift))
	}
	k.directions = func(dst []uint16, stride int, ref *[32 + 65 + 16]int16, n, angle int) {
		directionsWideFast(motion.FirstWide(dst, stride, n, n), 2*stride, ref, n, angle)
	}
	k.planar = func(dst []uint16, stride int, p []int16, n, log2 int) {
		if n < 8 {
			planar(dst, stride, p, n, log2)
			return
		}
		_ = p[4*n]
		planarWideFast(motion.FirstWide(dst, stride, n, n), 2*stride, &p[0], n, log2+1)
	}
	k.collect = func(pix []uint16, at, stride int, src []uint16, w, h, step int, sums *[8]int32) {
		_, _ = pix[at-abs(step)], pix[at+(h-1)*stride+w-1+abs(step)]
		collectWideFast(address(pix[at:]), 2*stride, motion.FirstWide(src, stride, w, h), w, h, 2*step, sums)
	}
	k.edges = func(dst, old []uint16, at, stride, step, w, h int, offsets *[8]int16, most int32) {
		_, _ = old[at-abs(step)], old[at+(h-1)*stride+w-1+abs(step)]
		edgesWideFast(motion.FirstWide(dst, stride, w, h), address(old[at:]), 2*stride, 2*step, w, h, offsets, int(most))
	}
	return k
}
