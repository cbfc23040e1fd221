//go:build amd64 || arm64

package h264

import (
	"unsafe"

	"vividstrain/core/media/codec/motion"
)

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
