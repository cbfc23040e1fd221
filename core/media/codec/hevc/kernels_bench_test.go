package hevc

import (
	"testing"

	"vividstrain/core/media/codec/motion"
)

// BenchmarkKernels runs the kernels of this processor and those in plain Go, for samples of 8 and 10
// bits: interpolation of 16x16 samples, a transform of 16x16, and edges that are filtered.
func BenchmarkKernels(b *testing.B) {
	benchmarkKernels(b, "8 bit ", 8, map[string]kernels[uint8]{"fast": fastKernels(), "plain": goKernels[uint8]()})
	benchmarkKernels(b, "10 bit ", 10, map[string]kernels[uint16]{"fast": fastWideKernels(), "plain": goKernels[uint16]()})
}

func benchmarkKernels[T motion.Sample](b *testing.B, depthName string, depth uint, all map[string]kernels[T]) {
	dst, src := make([]T, 64*64+motion.RowPadding), make([]T, 64*64+motion.RowPadding)
	for i := range src {
		src[i], dst[i] = T(i*i>>3)&(1<<depth-1), 100+T(i&3)
	}
	most := int32(1)<<depth - 1
	var pred, again [90 * predStride]int16
	var matrix, v, out [16 * 16]int16
	for i := range matrix {
		matrix[i], v[i] = int16(i%90), int16(i*i)
	}
	taps := &lumaFilter[2]
	for name, k := range all {
		for _, c := range []struct {
			name string
			run  func()
		}{
			{"eight taps across", func() { k.across(pred[:], src, 64, 16, 16, taps, 8, depth-8) }},
			{"eight taps down", func() { k.down(pred[:], src, 64, 16, 16, taps, 8, depth-8) }},
			{"eight taps down again", func() { k.downAgain(again[:], pred[:], 16, 16, taps, 8, 6) }},
			{"rounding", func() { k.round(dst, 64, pred[:], 16, 16, 14-depth, most) }},
			{"mean of two", func() { k.mean(dst, 64, pred[:], again[:], 16, 16, 15-depth, most) }},
			{"transform 16x16, one way", func() { k.multiply(out[:], matrix[:], v[:], 16, 8, 16, 7) }},
			{"adding 16x16", func() { k.add(dst, 64, out[:], 16, most) }},
			{"luma edge across", func() {
				k.deblock(dst, 8*64+8, 64, false, 40<<(depth-8), [2]int32{4 << (depth - 8), 4 << (depth - 8)}, most)
			}},
			{"luma edge down", func() {
				k.deblock(dst, 8*64+8, 64, true, 40<<(depth-8), [2]int32{4 << (depth - 8), 4 << (depth - 8)}, most)
			}},
		} {
			b.Run(depthName+c.name+"/"+name, func(b *testing.B) {
				for range b.N {
					c.run()
				}
			})
		}
	}
}
