package h264

import (
	"vividstrain/core/media/codec/motion"
)

// kernels are the inner loops of prediction, reconstruction and deblocking. Blocks are w = 2 to
// 16 samples wide; strides are in samples.
type kernels[T motion.Sample] struct {
	motion.BlockKernels[T]
	// plane fills a block with v + across*x + down*y, in 32nds and clipped.
	plane func(dst []T, stride, w, h int, v, across, down, most int32)
	// smooth computes the averages of neighbours along the border of an n x n block, n = 4 or 8,
	// for directional intra prediction.
	smooth func(p *border[T], n int, out *averages[T])
	// across, down and center apply the six-tap filter of 8.4.2.2.1: src starts two samples to
	// the left, above, or both.
	across func(dst []T, stride int, src []T, step, w, h int, most int32)
	down   func(dst []T, stride int, src []T, step, w, h int, most int32)
	center func(dst []T, stride int, src []T, step, w, h int, most int32)
	// bilinear interpolates chroma (8.4.2.2.2); dx and dy are in eighths of a sample.
	bilinear func(dst []T, stride int, src []T, step, w, h, dx, dy int)
	// add4 and add8 transform a block, add it to dst and clear it.
	add4 func(dst []T, stride int, c *[16]int32, most int32)
	add8 func(dst []T, stride int, c *[64]int32, most int32)
	// addBlocks is add4 for a set of the blocks of w x h samples, in coding order: w = 16 or 8.
	addBlocks func(dst []T, stride, w, h int, c []int32, set uint64, most int32)
	// addDC adds the residual of a block of 4x4 or 8x8 samples that has only a DC coefficient,
	// and clears the coefficient.
	addDC func(dst []T, stride, size int, c *int32, most int32)
	// addDCs adds one value to each of the 4x4 blocks of w x h samples, in raster order: w = 16 or 8, h a multiple of 4.
	addDCs func(dst []T, stride, w, h int, dcs *[16]int16, most int32)
	// borderSums are those of the 16 samples to the left of pix[at] and below, and above it and to the right.
	borderSums func(pix []T, at, stride int) (left, above int)
	// chromaDC predicts the block of 8x8 samples that begins at pix[at], all of whose neighbours are there, each
	// block of 4x4 with the mean of those beside it.
	chromaDC func(pix []T, at, stride int)
	// lumaEdge filters an edge of 16 lines; pix[at] is sample q0 of the first line, and columns
	// means that the edge is vertical. Each strength bS is for four lines; if one is 4, all are.
	lumaEdge func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs strengths)
	// lumaInner filters the edges within a macroblock of luma whose first sample is pix[at]: edge k is 4k samples
	// from its border, with strengths bs[k] under 4; those of edge 0 are not used.
	lumaInner func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs *[4]strengths)
	// chromaEdges filters an edge of 8 lines in both chroma planes; each strength is for two
	// lines.
	chromaEdges func(planes *[2][]T, at, stride int, columns bool, f *[2]edgeFilter[T], bs strengths)
}

//go:generate go run ./asm/arm64 -out kernels_arm64.s -stubs stubs_arm64.go -pkg h264
//go:generate go run ./asm -out kernels_amd64.s -stubs stubs_amd64.go -pkg h264

// goKernels are the kernels in plain Go.
func goKernels[T motion.Sample]() kernels[T] {
	return kernels[T]{motion.GoBlockKernels[T](), planeBlock[T], smoothBorder[T], acrossBlock[T], downBlock[T], centerBlock[T], bilinearBlock[T],
		add4[T], add8[T], addBlocks(add4[T]), addDC[T], addDCs[T], borderSums[T], chromaDC[T], lumaEdge[T], lumaInner[T](lumaEdge[T]), chromaEdges[T]}
}

func planeBlock[T motion.Sample](dst []T, stride, w, h int, v, across, down, most int32) {
	for y := range h {
		row, v := dst[y*stride:][:w], v+int32(y)*down
		for x := range row {
			row[x] = clip[T](v>>5, most)
			v += across
		}
	}
}

// fillPair fills four rows of eight samples, the left half with a and the right one with b.
func fillPair[T motion.Sample](dst []T, stride int, a, b T) {
	row := [8]T{a, a, a, a, b, b, b, b} // what is stored as a whole is fetched as a whole sooner
	for y := range 4 {
		*(*[8]T)(dst[y*stride:]) = row
	}
}

func borderSums[T motion.Sample](pix []T, at, stride int) (left, above int) {
	for y := range 16 {
		left += int(pix[at+y*stride-1])
	}
	for _, v := range pix[at-stride:][:16] {
		above += int(v)
	}
	return left, above
}

// chromaDC is chroma DC prediction from all neighbours (8.3.4.1 to 8.3.4.3).
func chromaDC[T motion.Sample](pix []T, at, stride int) {
	var above, beside [2]int32
	for i, v := range pix[at-stride:][:8] {
		above[i>>2] += int32(v)
	}
	for y := range 8 {
		beside[y>>2] += int32(pix[at+y*stride-1])
	}
	fillPair(pix[at:], stride, T((beside[0]+above[0]+4)>>3), T((above[1]+2)>>2))
	fillPair(pix[at+4*stride:], stride, T((beside[1]+2)>>2), T((beside[1]+above[1]+4)>>3))
}

// taps is the six-tap filter (8-241).
func taps(a, b, c, d, e, f int32) int32 { return a + f - 5*(b+e) + 20*(c+d) }

func acrossBlock[T motion.Sample](dst []T, stride int, src []T, step, w, h int, most int32) {
	for y := range h {
		row, s := dst[y*stride:][:w], src[y*step:][:w+5]
		for x := range row {
			t := s[x:][:6]
			v := taps(int32(t[0]), int32(t[1]), int32(t[2]), int32(t[3]), int32(t[4]), int32(t[5]))
			row[x] = clip[T]((v+16)>>5, most)
		}
	}
}

func downBlock[T motion.Sample](dst []T, stride int, src []T, step, w, h int, most int32) {
	for y := range h {
		row := dst[y*stride:][:w]
		a, b, c := src[y*step:][:w], src[(y+1)*step:][:w], src[(y+2)*step:][:w]
		d, e, f := src[(y+3)*step:][:w], src[(y+4)*step:][:w], src[(y+5)*step:][:w]
		for x := range row {
			v := taps(int32(a[x]), int32(b[x]), int32(c[x]), int32(d[x]), int32(e[x]), int32(f[x]))
			row[x] = clip[T]((v+16)>>5, most)
		}
	}
}

func centerBlock[T motion.Sample](dst []T, stride int, src []T, step, w, h int, most int32) {
	var mid [21 * 16]int32
	for y := range h + 5 {
		row, s := mid[y*16:][:w], src[y*step:][:w+5]
		for x := range row {
			t := s[x:][:6]
			row[x] = taps(int32(t[0]), int32(t[1]), int32(t[2]), int32(t[3]), int32(t[4]), int32(t[5]))
		}
	}
	for y := range h {
		row := dst[y*stride:][:w]
		m := mid[y*16:][:5*16+w]
		for x := range row {
			v := taps(m[x], m[x+16], m[x+32], m[x+48], m[x+64], m[x+80])
			row[x] = clip[T]((v+512)>>10, most)
		}
	}
}

func bilinearBlock[T motion.Sample](dst []T, stride int, src []T, step, w, h, dx, dy int) {
	a, b := int32((8-dx)*(8-dy)), int32(dx*(8-dy))
	c, d := int32((8-dx)*dy), int32(dx*dy)
	for y := range h {
		row, s, t := dst[y*stride:][:w], src[y*step:][:w+1], src[(y+1)*step:][:w+1]
		for x := range row {
			row[x] = T((a*int32(s[x]) + b*int32(s[x+1]) + c*int32(t[x]) + d*int32(t[x+1]) + 32) >> 6)
		}
	}
}

// steps returns the distance between samples across an edge and along it.
func steps(stride int, columns bool) (across, along int) {
	if columns {
		return 1, stride
	}
	return stride, 1
}

func lumaEdge[T motion.Sample](pix []T, at, stride int, columns bool, f *edgeFilter[T], bs strengths) {
	across, along := steps(stride, columns)
	for i := range 16 {
		if b := bs.at(i >> 2); b == 4 {
			f.strong(pix, at, across)
		} else if tc := f.limit(b); tc >= 0 {
			f.normal(pix, at, across, tc)
		}
		at += along
	}
}

// lumaInner makes a lumaInner kernel of one that filters one edge.
func lumaInner[T motion.Sample](edge func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs strengths)) func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs *[4]strengths) {
	return func(pix []T, at, stride int, columns bool, f *edgeFilter[T], bs *[4]strengths) {
		across, _ := steps(stride, columns)
		for k, b := range bs[1:] {
			if b != 0 {
				edge(pix, at+4*(k+1)*across, stride, columns, f, b)
			}
		}
	}
}

func chromaEdges[T motion.Sample](planes *[2][]T, at, stride int, columns bool, f *[2]edgeFilter[T], bs strengths) {
	across, along := steps(stride, columns)
	for i := range 8 {
		for plane, pix := range planes {
			if b, f := bs.at(i>>1), &f[plane]; b > 0 {
				f.chromaLine(pix, at, across, b)
			}
		}
		at += along
	}
}
