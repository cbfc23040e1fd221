package h264

import (
	"golang.org/x/sys/cpu"

	"vividstrain/core/media/codec/motion"
)

// fastKernels returns the fastest kernels for 8-bit samples that this processor runs.
func fastKernels() kernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goKernels[uint8]()
	}
	k := assemblyKernels()
	k.plane = func(dst []uint8, stride, w, h int, v, across, down, _ int32) {
		planeFast(motion.First(dst, stride, w, h), stride, w, h, int16(v), int16(across), int16(down))
	}
	k.addBlocks = func(dst []uint8, stride, w, h int, c []int32, set uint64, _ int32) {
		_, _ = dst[(h-1)*stride+w-1], c[w*h-1]
		addBlocksFast(&dst[0], stride, &c[0], set&(1<<(w*h/16)-1), placesOf(w))
	}
	k.lumaInner = func(pix []uint8, at, stride int, columns bool, f *edgeFilter[uint8], bs *[4]strengths) {
		first := motion.First(pix[at:], stride, 16, 16)
		if columns {
			lumaInnerColumnsFast(first, stride, f.bytes(), (*uint32)(&bs[0]))
		} else {
			lumaInnerRowsFast(first, stride, f.bytes(), (*uint32)(&bs[0]))
		}
	}
	k.borderSums = func(pix []uint8, at, stride int) (left, above int) {
		_, _ = pix[at-stride], pix[at+15*stride]
		return borderSumsFast(&pix[at], stride)
	}
	k.chromaDC = func(pix []uint8, at, stride int) {
		_, _ = pix[at-stride], pix[at+7*stride+7]
		chromaDCFast(&pix[at], stride)
	}
	k.smooth = func(p *border[uint8], _ int, out *averages[uint8]) { smoothFast(&p[0], &out[0]) }
	return k
}

// fastWideKernels returns the fastest kernels for two-byte samples of up to 10 bits that this
// processor runs.
func fastWideKernels() kernels[uint16] {
	k := goKernels[uint16]()
	if !cpu.X86.HasAVX2 {
		return k
	}
	k.BlockKernels = motion.FastWideBlockKernels()
	k.across = func(dst []uint16, stride int, src []uint16, step, w, h int, most int32) {
		acrossWideFast(motion.FirstWide(dst, stride, w, h), stride, motion.FirstWide(src, step, w+5, h), step, w, h, int(most))
	}
	k.down = func(dst []uint16, stride int, src []uint16, step, w, h int, most int32) {
		downWideFast(motion.FirstWide(dst, stride, w, h), stride, motion.FirstWide(src, step, w, h+5), step, w, h, int(most))
	}
	k.center = func(dst []uint16, stride int, src []uint16, step, w, h int, most int32) {
		centerWideFast(motion.FirstWide(dst, stride, w, h), stride, motion.FirstWide(src, step, w+5, h+5), step, w, h, int(most))
	}
	k.add4 = func(dst []uint16, stride int, c *[16]int32, most int32) {
		add4WideFast(motion.FirstWide(dst, stride, 4, 4), stride, c, int(most))
	}
	k.addBlocks = addBlocks(k.add4)
	k.add8 = func(dst []uint16, stride int, c *[64]int32, most int32) {
		add8WideFast(motion.FirstWide(dst, stride, 8, 8), stride, c, int(most))
	}
	k.addDC = func(dst []uint16, stride, size int, c *int32, most int32) {
		v := (*c + 32) >> 6
		*c = 0
		addDCWideFast(motion.FirstWide(dst, stride, size, size), stride, size, int(max(-most, min(v, most))), int(most))
	}
	k.addDCs = func(dst []uint16, stride, w, h int, dcs *[16]int16, most int32) {
		addDCsWideFast(motion.FirstWide(dst, stride, w, h), stride, w, h, dcs, int(most))
	}
	k.bilinear = func(dst []uint16, stride int, src []uint16, step, w, h, dx, dy int) {
		bilinearWideFast(motion.FirstWide(dst, stride, w, h), stride, motion.FirstWide(src, step, w+1, h+1), step, w, h, dx, dy)
	}
	k.lumaEdge = lumaEdgeWideFast
	k.lumaInner = lumaInner(k.lumaEdge)
	k.chromaEdges = chromaEdgesWideFast
	return k
}

// lumaEdgeWideFast and chromaEdgesWideFast are lumaEdgeFast and chromaEdgesFast for samples of two bytes.
func lumaEdgeWideFast(pix []uint16, at, stride int, columns bool, f *edgeFilter[uint16], bs strengths) {
	first, filter, strong := edgeAt(pix, at, stride, 16, 4, columns), f.bytes(), bs&4 != 0
	switch {
	case columns && strong:
		lumaColumnStrongWideFast(first, stride, filter, uint32(bs))
	case columns:
		lumaColumnWideFast(first, stride, filter, uint32(bs))
	case strong:
		lumaRowStrongWideFast(first, stride, filter, uint32(bs))
	default:
		lumaRowWideFast(first, stride, filter, uint32(bs))
	}
}

func chromaEdgesWideFast(planes *[2][]uint16, at, stride int, columns bool, f *[2]edgeFilter[uint16], bs strengths) {
	u, v := edgeAt(planes[0], at, stride, 8, 2, columns), edgeAt(planes[1], at, stride, 8, 2, columns)
	filter, strong := f[0].bytes(), bs&4 != 0
	switch {
	case columns && strong:
		chromaColumnStrongWideFast(u, v, stride, filter, uint32(bs))
	case columns:
		chromaColumnWideFast(u, v, stride, filter, uint32(bs))
	case strong:
		chromaRowStrongWideFast(u, v, stride, filter, uint32(bs))
	default:
		chromaRowWideFast(u, v, stride, filter, uint32(bs))
	}
}
