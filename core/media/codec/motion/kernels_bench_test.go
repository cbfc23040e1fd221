package motion

import "testing"

// BenchmarkKernels runs the kernels of this processor and those in plain Go on 16x16 samples.
func BenchmarkKernels(b *testing.B) {
	dst, src := make([]uint8, 64*32+RowPadding), make([]uint8, 64*32+RowPadding)
	for i := range src {
		src[i], dst[i] = uint8(i*i>>3), uint8(i*7)
	}
	at := [4]int{0, 1, 64, 65}
	var sums [4]int
	for _, c := range []struct {
		name     string
		blocks   BlockKernels[uint8]
		distance DistanceKernels[uint8]
	}{{"fast", FastBlockKernels(), FastDistanceKernels()}, {"plain", GoBlockKernels[uint8](), GoDistanceKernels[uint8]()}} {
		for _, k := range []struct {
			name string
			run  func()
		}{
			{"copy", func() { c.blocks.Copy(dst, 64, src, 64, 16, 16) }},
			{"average", func() { c.blocks.Average(dst, 64, src, 64, 16, 16) }},
			{"SAD", func() { c.distance.SAD(dst, 64, src, 64, 16, 16) }},
			{"four SADs", func() { c.distance.SADFour(dst, 64, src, 64, 16, 16, &at, &sums) }},
			{"SATD", func() { c.distance.SATD(dst, 64, src, 64, 16, 16) }},
		} {
			b.Run(k.name+"/"+c.name, func(b *testing.B) {
				for range b.N {
					k.run()
				}
			})
		}
	}
}
