package motion

// Sizes of an EdgeBlock: 21 rows of 24 samples, for blocks of up to 16x16 samples with the
// neighbours that interpolation filters of up to six taps need.
const (
	edgeStride = 24
	edgeRows   = 21
)

// RowPadding is the number of samples after the last row of a plane, so that wide loads do not
// leave it.
const RowPadding = 64

// EdgeBlock is room for a block that reaches out of a picture.
type EdgeBlock[T Sample] [edgeStride*edgeRows + RowPadding]T

// Clamped returns the samples of a plane of width x height from x, y on, for a block of w x h.
// Where not all of them are in the picture they are those of edge, in which the picture's
// borders are repeated outwards (Rec. ITU-T H.264, 8.4.2.2.1).
func Clamped[T Sample](edge *EdgeBlock[T], src []T, stride, width, height, x, y, w, h int) ([]T, int) {
	if x >= 0 && y >= 0 && x+w <= width && y+h <= height {
		return src[y*stride+x:], stride
	}
	before, after := max(0, min(-x, w)), max(0, min(x+w-width, w))
	for j := range h {
		row := src[max(0, min(y+j, height-1))*stride:]
		out := (*[edgeStride]T)(edge[j*edgeStride:])
		switch {
		case before+after >= w:
		case before == 0:
			*out = *(*[edgeStride]T)(row[x:]) // more than is needed, which costs less
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
