//go:build amd64 || arm64

package h264

import (
	"unsafe"

	"vividstrain/core/media/codec/motion"
)

// assemblyKernels returns the kernels for 8-bit samples, with those that every processor with assembly has.
func assemblyKernels() kernels[uint8] {
	k := goKernels[uint8]()
	k.BlockKernels = motion.FastBlockKernels()
	k.across = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		acrossFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+5, h), step, w, h)
	}
	k.down = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		downFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w, h+5), step, w, h)
	}
	k.center = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		centerFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+5, h+5), step, w, h)
	}
	k.bilinear = func(dst []uint8, stride int, src []uint8, step, w, h, dx, dy int) {
		bilinearFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+1, h+1), step, w, h, dx, dy)
	}
	k.add4 = func(dst []uint8, stride int, c *[16]int32, _ int32) {
		add4Fast(motion.First(dst, stride, 4, 4), stride, c)
	}
	k.addBlocks = addBlocks(k.add4)
	k.add8 = func(dst []uint8, stride int, c *[64]int32, _ int32) {
		add8Fast(motion.First(dst, stride, 8, 8), stride, c)
	}
	k.addDC = func(dst []uint8, stride, size int, c *int32, _ int32) {
		v := (*c + 32) >> 6
		*c = 0
		addDCFast(motion.First(dst, stride, size, size), stride, size, int(min(max(v, 0), 255)), int(min(max(-v, 0), 255)))
	}
	k.addDCs = func(dst []uint8, stride, w, h int, dcs *[16]int16, _ int32) {
		addDCsFast(motion.First(dst, stride, w, h), stride, w, h, dcs)
	}
	k.lumaEdge = lumaEdgeFast
	k.lumaInner = lumaInner(k.lumaEdge)
	k.chromaEdges = chromaEdgesFast
	return k
}

// edgeAt returns the address of sample q0 of the first line of an edge, which has reach samples on either side.
func edgeAt[T motion.Sample](pix []T, at, stride, lines, reach int, columns bool) *byte {
	if columns {
		_, _ = pix[at-reach], pix[at+(lines-1)*stride+reach-1]
	} else {
		_, _ = pix[at-reach*stride], pix[at+(reach-1)*stride+lines-1]
	}
	return (*byte)(unsafe.Pointer(&pix[at]))
}

// bytes is the address of the filter, for the assembly.
func (f *edgeFilter[T]) bytes() *byte { return (*byte)(unsafe.Pointer(f)) }

// lumaEdgeFast is lumaEdge. It names the functions it calls, since a function that is a value is called more slowly.
func lumaEdgeFast(pix []uint8, at, stride int, columns bool, f *edgeFilter[uint8], bs strengths) {
	first, filter, strong := edgeAt(pix, at, stride, 16, 4, columns), f.bytes(), bs&4 != 0
	switch {
	case columns && strong:
		lumaColumnStrongFast(first, stride, filter, uint32(bs))
	case columns:
		lumaColumnFast(first, stride, filter, uint32(bs))
	case strong:
		lumaRowStrongFast(first, stride, filter, uint32(bs))
	default:
		lumaRowFast(first, stride, filter, uint32(bs))
	}
}

// chromaEdgesFast is chromaEdges.
func chromaEdgesFast(planes *[2][]uint8, at, stride int, columns bool, f *[2]edgeFilter[uint8], bs strengths) {
	u, v := edgeAt(planes[0], at, stride, 8, 2, columns), edgeAt(planes[1], at, stride, 8, 2, columns)
	filter, strong := f[0].bytes(), bs&4 != 0
	switch {
	case columns && strong:
		chromaColumnStrongFast(u, v, stride, filter, uint32(bs))
	case columns:
		chromaColumnFast(u, v, stride, filter, uint32(bs))
	case strong:
		chromaRowStrongFast(u, v, stride, filter, uint32(bs))
	default:
		chromaRowFast(u, v, stride, filter, uint32(bs))
	}
}
