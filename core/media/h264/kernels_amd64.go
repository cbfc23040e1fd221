package h264

import (
	"encoding/binary"
	"unsafe"

	"golang.org/x/sys/cpu"
)

// fastKernels are the fastest kernels for 8 bits that this processor runs.
func fastKernels() kernels[uint8] {
	if !cpu.X86.HasAVX2 {
		return goKernels[uint8]()
	}
	return kernels[uint8]{
		copy: func(dst []uint8, stride int, src []uint8, step, w, h int) {
			copyFast(first(dst, stride, w, h), stride, first(src, step, w, h), step, w, h)
		},
		fill: func(dst []uint8, stride, w, h int, v uint8) {
			fillFast(first(dst, stride, w, h), stride, w, h, v)
		},
		extend: func(pix []uint8, at, stride, w, h int) {
			extendFast(first(pix[at-1:], stride, w+1, h), stride, w, h)
		},
		plane: func(dst []uint8, stride, w, h int, v, across, down, _ int32) {
			planeFast(first(dst, stride, w, h), stride, w, h, int16(v), int16(across), int16(down))
		},
		smooth: func(p *border[uint8], _ int, out *averages[uint8]) { smoothFast(&p[0], &out[0]) },
		average: func(dst []uint8, stride int, src []uint8, step, w, h int) {
			averageFast(first(dst, stride, w, h), stride, first(src, step, w, h), step, w, h)
		},
		across: func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
			acrossFast(first(dst, stride, w, h), stride, first(src, step, w+5, h), step, w, h)
		},
		down: func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
			downFast(first(dst, stride, w, h), stride, first(src, step, w, h+5), step, w, h)
		},
		center: func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
			centerFast(first(dst, stride, w, h), stride, first(src, step, w+5, h+5), step, w, h)
		},
		bilinear: func(dst []uint8, stride int, src []uint8, step, w, h, dx, dy int) {
			bilinearFast(first(dst, stride, w, h), stride, first(src, step, w+1, h+1), step, w, h, dx, dy)
		},
		add4: func(dst []uint8, stride int, c *[16]int32, _ int32) { add4Fast(first(dst, stride, 4, 4), stride, c) },
		add8: func(dst []uint8, stride int, c *[64]int32, _ int32) { add8Fast(first(dst, stride, 8, 8), stride, c) },
		addDC: func(dst []uint8, stride, size int, c *int32, _ int32) {
			v := (*c + 32) >> 6
			*c = 0
			addDCFast(first(dst, stride, size, size), stride, size, int(min(max(v, 0), 255)), int(min(max(-v, 0), 255)))
		},
		addDCs: func(dst []uint8, stride int, dcs *[16]int16, _ int32) {
			addDCsFast(first(dst, stride, 16, 16), stride, dcs)
		},
		lumaEdge: func(pix []uint8, at, stride int, columns bool, f *edgeFilter[uint8], bs [4]uint8) {
			filter, strong := lumaRowFast, lumaRowStrongFast
			if columns {
				_, _ = pix[at-4], pix[at+15*stride+3]
				filter, strong = lumaColumnFast, lumaColumnStrongFast
			} else {
				_, _ = pix[at-4*stride], pix[at+3*stride+15]
			}
			if bs[0] == 4 {
				filter = strong
			}
			filter(&pix[at], stride, f.bytes(), strengths(bs))
		},
		chromaEdges: func(planes *[2][]uint8, at, stride int, columns bool, f *[2]edgeFilter[uint8], bs [4]uint8) {
			u, v := planes[0], planes[1]
			filter, strong := chromaRowFast, chromaRowStrongFast
			if columns {
				_, _, _, _ = u[at-2], v[at-2], u[at+7*stride+1], v[at+7*stride+1]
				filter, strong = chromaColumnFast, chromaColumnStrongFast
			} else {
				_, _, _, _ = u[at-2*stride], v[at-2*stride], u[at+stride+7], v[at+stride+7]
			}
			if bs[0] == 4 {
				filter = strong
			}
			filter(&u[at], &v[at], stride, f[0].bytes(), strengths(bs))
		},
	}
}

// fastWideKernels are the fastest kernels for samples of two bytes, of up to 10
// bits, that this processor runs.
func fastWideKernels() kernels[uint16] {
	k := goKernels[uint16]()
	if !cpu.X86.HasAVX2 {
		return k
	}
	k.average = func(dst []uint16, stride int, src []uint16, step, w, h int) {
		averageWideFast(wideAt(dst, stride, w, h), stride, wideAt(src, step, w, h), step, w, h)
	}
	k.across = func(dst []uint16, stride int, src []uint16, step, w, h int, most int32) {
		acrossWideFast(wideAt(dst, stride, w, h), stride, wideAt(src, step, w+5, h), step, w, h, int(most))
	}
	k.down = func(dst []uint16, stride int, src []uint16, step, w, h int, most int32) {
		downWideFast(wideAt(dst, stride, w, h), stride, wideAt(src, step, w, h+5), step, w, h, int(most))
	}
	k.bilinear = func(dst []uint16, stride int, src []uint16, step, w, h, dx, dy int) {
		bilinearWideFast(wideAt(dst, stride, w, h), stride, wideAt(src, step, w+1, h+1), step, w, h, dx, dy)
	}
	k.lumaEdge = lumaEdgeWide
	return k
}

// lumaEdgeWide filters an edge of 16 lines of samples of two bytes; columns are
// turned into rows and back.
func lumaEdgeWide(pix []uint16, at, stride int, columns bool, f *edgeFilter[uint16], bs [4]uint8) {
	var rows [8 * 16]uint16
	q0, step := wideAt(rows[4*16:], 16, 16, 4), 16
	if columns {
		for i := range 16 {
			line := (*[8]uint16)(pix[at-4+i*stride:])
			for k, v := range line {
				rows[16*k+i] = v
			}
		}
	} else {
		_ = pix[at-4*stride]
		q0, step = wideAt(pix[at:], stride, 16, 4), stride
	}
	if bs[0] == 4 {
		lumaRowStrongWideFast(q0, step, f.bytes(), 0)
	} else {
		lumaRowWideFast(q0, step, f.bytes(), strengths(bs))
	}
	if columns {
		for i := range 16 {
			line := (*[8]uint16)(pix[at-4+i*stride:])
			for k := range line {
				line[k] = rows[16*k+i]
			}
		}
	}
}

// bytes is the filter as the assembly reads it.
func (f *edgeFilter[T]) bytes() *byte { return (*byte)(unsafe.Pointer(f)) }

// strengths are four strengths in a double word.
func strengths(bs [4]uint8) uint32 { return binary.LittleEndian.Uint32(bs[:]) }

// first is where a block begins that the slice holds whole. Behind it rows are
// padded, so that loads may reach further.
func first(s []uint8, stride, w, h int) *uint8 {
	_ = s[(h-1)*stride+w-1]
	return &s[0]
}
