package h264

import (
	"testing"

	"vividstrain/core/media/codec/motion"
)

// BenchmarkKernels runs the kernels of this processor and those in plain Go: motion compensation of
// 16x16 samples, transforms, and edges that are filtered.
func BenchmarkKernels(b *testing.B) {
	dst, src := make([]uint8, 64*64+motion.RowPadding), make([]uint8, 64*64+motion.RowPadding)
	for i := range src {
		src[i], dst[i] = uint8(i*i>>3), 100+uint8(i&3)
	}
	planes := [2][]uint8{dst, dst[20*64:]}
	filter := edgeFilter[uint8]{alpha: 40, beta: 12, most: 255, tc0: [8]int8{-1, 1, 2, 3}}
	filters := [2]edgeFilter[uint8]{filter, filter}
	for name, k := range map[string]kernels[uint8]{"fast": fastKernels(), "plain": goKernels[uint8]()} {
		for _, c := range []struct {
			name string
			run  func()
		}{
			{"six taps across", func() { k.across(dst, 64, src, 64, 16, 16, 255) }},
			{"six taps down", func() { k.down(dst, 64, src, 64, 16, 16, 255) }},
			{"six taps both ways", func() { k.center(dst, 64, src, 64, 16, 16, 255) }},
			{"bilinear 8x8", func() { k.bilinear(dst, 64, src, 64, 8, 8, 3, 5) }},
			{"transform 4x4", func() { c := [16]int32{500, 30, -20, 1, 40}; k.add4(dst, 64, &c, 255) }},
			{"transform 8x8", func() { c := [64]int32{500, 30, -20, 1, 8: 40}; k.add8(dst, 64, &c, 255) }},
			{"luma edge across", func() { k.lumaEdge(dst, 8*64+8, 64, false, &filter, allOf(2)) }},
			{"luma edge down", func() { k.lumaEdge(dst, 8*64+8, 64, true, &filter, allOf(2)) }},
			{"luma edge across, bS 4", func() { k.lumaEdge(dst, 8*64+8, 64, false, &filter, allOf(4)) }},
			{"chroma edges down", func() { k.chromaEdges(&planes, 8*64+8, 64, true, &filters, allOf(2)) }},
		} {
			b.Run(c.name+"/"+name, func(b *testing.B) {
				for range b.N {
					c.run()
				}
			})
		}
	}
}
