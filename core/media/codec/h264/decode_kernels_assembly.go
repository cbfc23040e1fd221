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
	k.lumaEdge = lumaEdges[uint8]([2][2]lumaFilter{{lumaRowFast, lumaRowStrongFast}, {lumaColumnFast, lumaColumnStrongFast}})
	k.lumaInner = lumaInner(k.lumaEdge)
	k.chromaEdges = bothChromaEdges[uint8]([2][2]chromaFilter{{chromaRowFast, chromaRowStrongFast}, {chromaColumnFast, chromaColumnStrongFast}})
	return k
}

// lumaFilter and chromaFilter are assembly functions that filter an edge.
type (
	lumaFilter   func(pix *byte, stride int, f *byte, bs uint32)
	chromaFilter func(u, v *byte, stride int, f *byte, bs uint32)
)

// lumaEdges makes a lumaEdge kernel of assembly functions, by horizontal or vertical edge and by
// bS under 4 or equal to 4.
func lumaEdges[T motion.Sample](filters [2][2]lumaFilter) func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs strengths) {
	return func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs strengths) {
		if columns {
			_, _ = pix[at-4], pix[at+15*stride+3]
		} else {
			_, _ = pix[at-4*stride], pix[at+3*stride+15]
		}
		filters[oneIf(columns)][bs>>2&1]((*byte)(unsafe.Pointer(&pix[at])), stride, f.bytes(), uint32(bs))
	}
}

// bothChromaEdges makes a chromaEdges kernel of assembly functions.
func bothChromaEdges[T motion.Sample](filters [2][2]chromaFilter) func(planes *[2][]T, at, stride int, columns bool, f *[2]edgeFilter[T], bs strengths) {
	return func(planes *[2][]T, at, stride int, columns bool, f *[2]edgeFilter[T], bs strengths) {
		u, v := planes[0], planes[1]
		if columns {
			_, _, _, _ = u[at-2], v[at-2], u[at+7*stride+1], v[at+7*stride+1]
		} else {
			_, _, _, _ = u[at-2*stride], v[at-2*stride], u[at+stride+7], v[at+stride+7]
		}
		filters[oneIf(columns)][bs>>2&1]((*byte)(unsafe.Pointer(&u[at])), (*byte)(unsafe.Pointer(&v[at])), stride, f[0].bytes(), uint32(bs))
	}
}

// bytes is the address of the filter, for the assembly.
func (f *edgeFilter[T]) bytes() *byte { return (*byte)(unsafe.Pointer(f)) }
