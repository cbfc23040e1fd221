package motion

// Sizes of an EdgeBlock: 21 rows of 24 samples, for blocks of up to 16x16 samples with the
// neighbours that interpolation filters of up to six taps need.
const (
	edgeStride = 24
	edgeRows   = 21
)

// RowPadding is the number of samples after the last row of a plane, so that wide loads stay
// inside it.
const RowPadding = 64

// EdgeBlock is a buffer for a block that extends beyond a picture.
type EdgeBlock[T Sample] [edgeStride*edgeRows + RowPadding]T

// Inside reports whether a block of w x h at x, y is inside a plane of width x height. Callers for whom most are need not
// call Clamped then, which is no small part of fetching a block.
func Inside(width, height, x, y, w, h int) bool {
	return x >= 0 && y >= 0 && x+w <= width && y+h <= height
}

// Clamped returns the samples of a block of w x h at x, y in a plane of width x height. If the
// block extends beyond the picture, they are copied to edge, where the picture's borders are
// repeated outwards (Rec. ITU-T H.264, 8.4.2.2.1).
func Clamped[T Sample](edge *EdgeBlock[T], src []T, stride, width, height, x, y, w, h int) ([]T, int) {
	if Inside(width, height, x, y, w, h) {
		return src[y*stride+x:], stride
	}
	before, after := max(0, min(-x, w)), max(0, min(x+w-width, w))
	for j := range h {
		row := src[max(0, min(y+j, height-1))*stride:]
		out := (*[edgeStride]T)(edge[j*edgeStride:])
		switch {
		case before+after >= w:
		case before == 0:
			*out = *(*[edgeStride]T)(row[x:]) // copying more than needed is faster
		default:
			copy(out[before:], row[:w-before])
		}
		for i := range before {
			out[i] = row[0]
		}
		for i := w - after; i < w; i++ {
			out[i] = row[width-1]
		}
	}
	return edge[:], edgeStride
}
