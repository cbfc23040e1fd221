package picture

import "math"

// Shape is the size, depth and chroma sampling that pictures of a stream share.
type Shape struct {
	Width, Height int
	Depth         int // bits per sample
	Chroma        Chroma
}

// Rows selects rows of a picture.
type Rows uint8

// The rows of a frame, or of one of its fields.
const (
	AllRows Rows = iota
	TopField
	BottomField
)

// lobes is half the width of the filter, a sinc windowed by a wider sinc (Lanczos): two zeros on
// each side. Where the picture shrinks, the filter is stretched to remove detail that is too
// fine for the new size.
const lobes = 2

// coefficientBits is the precision of filter coefficients. Between the two passes samples have
// middleBits, and may exceed that range because the filter overshoots at edges.
const (
	coefficientBits = 14
	middleBits      = 14
)

// Scaler converts pictures of one shape to another: size, depth and chroma sampling. Chroma
// samples of 4:2:0 and 4:2:2 are aligned horizontally with the first of their luma samples, and
// vertically between two (chroma_sample_loc_type 0 of Rec. ITU-T H.264). It is for one goroutine
// at a time.
type Scaler struct {
	from, to Shape
	rows     Rows
	planes   [3]planeScaler
}

// planeScaler scales one plane, first vertically, then horizontally.
type planeScaler struct {
	width, height int // of the result
	down          filter
	across        filter
	packed        []int16  // the horizontal filter as the assembly reads it
	middle        []int16  // a row between the passes, with padding after it
	done          []uint16 // a row of the result
	rows          [][]byte // input rows of the vertical filter
	wide          [][]uint16
}

// filter holds the coefficients of each result sample: taps of them, applied to the source from
// sample first[i] on.
type filter struct {
	taps         int
	first        []int
	coefficients []int16
}

// NewScaler returns a scaler between two shapes.
func NewScaler(from, to Shape, rows Rows) *Scaler {
	s := &Scaler{from: from, to: to, rows: rows}
	for i := range s.planes {
		w, h := to.Chroma.PlaneSize(i, to.Width, to.Height)
		sw, sh := from.Chroma.PlaneSize(i, from.Width, from.Height)
		if w == 0 || sw == 0 {
			continue
		}
		p := &s.planes[i]
		p.width, p.height = w, h
		step := func(c Chroma, down bool) float64 {
			if i > 0 && (c == C420 || c == C422 && !down) {
				return 2
			}
			return 1
		}
		p.across = newFilter(w, sw, position{
			ratio: float64(from.Width) / float64(to.Width), to: step(to.Chroma, false), from: step(from.Chroma, false)}, 8)
		down := position{ratio: float64(from.Height) / float64(to.Height), to: step(to.Chroma, true), from: step(from.Chroma, true)}
		down.toShift, down.fromShift = (down.to-1)/2, (down.from-1)/2
		if rows != AllRows {
			down.field = true
			down.second = rows == BottomField
			sh = (sh + 1) / 2
		}
		p.down = newFilter(h, sh, down, 2)
		p.packed = p.across.pack()
		p.middle = make([]int16, (sw+15)&^15+p.across.taps+16)
		p.done = make([]uint16, (w+31)&^31)
		p.rows, p.wide = make([][]byte, p.down.taps), make([][]uint16, p.down.taps)
	}
	return s
}

// position maps positions in the result to positions in the source.
type position struct {
	ratio              float64 // luma samples of the source per luma sample of the result
	to, from           float64 // luma samples per sample of the plane
	toShift, fromShift float64 // position of the plane's first sample, in luma samples
	field, second      bool    // the source is a field: every second row, from the first or the second on
}

// of returns the position of result sample i among those of the source.
func (p position) of(i int) float64 {
	luma := (float64(i)*p.to+p.toShift+0.5)*p.ratio - 0.5
	at := (luma - p.fromShift) / p.from
	if !p.field {
		return at
	}
	if p.second {
		at--
	}
	return at / 2
}

// step returns the number of source samples per result sample.
func (p position) step() float64 {
	step := p.ratio * p.to / p.from
	if p.field {
		step /= 2
	}
	return step
}

// newFilter computes the coefficients for n samples from a source of length
// samples; the number of taps is a multiple of unit.
func newFilter(n, length int, p position, unit int) filter {
	stretch := max(1, p.step())
	reach := lobes * stretch
	f := filter{taps: (min(int(math.Ceil(2*reach)), length) + unit - 1) / unit * unit, first: make([]int, n)}
	f.coefficients = make([]int16, n*f.taps)
	weights := make([]float64, f.taps)
	for i := range n {
		at := p.of(i)
		low := int(math.Ceil(at - reach))
		first := max(0, min(low, length-f.taps))
		clear(weights)
		sum := 0.0
		for k := low; float64(k) < at+reach; k++ {
			w := lanczos((float64(k) - at) / stretch)
			sum += w
			weights[max(0, min(k, length-1, first+f.taps-1)-first)] += w // samples outside repeat the edge
		}
		f.first[i] = first
		round(f.coefficients[i*f.taps:][:f.taps], weights, sum)
	}
	return f
}

// round converts weights to integers with an exact sum, so that grey stays unchanged.
func round(dst []int16, weights []float64, sum float64) {
	left, most := 1<<coefficientBits, 0
	for k, w := range weights {
		dst[k] = int16(math.Round(w / sum * (1 << coefficientBits)))
		left -= int(dst[k])
		if dst[k] > dst[most] {
			most = k
		}
	}
	dst[most] += int16(left)
}

// lanczos returns the filter's value at x.
func lanczos(x float64) float64 {
	if x == 0 {
		return 1
	}
	if math.Abs(x) >= lobes {
		return 0
	}
	x *= math.Pi
	return lobes * math.Sin(x) * math.Sin(x/lobes) / (x * x)
}

// Scale converts src to dst; both have the shapes for which the scaler was made. If either has
// no chroma, the chroma of dst is left unchanged.
func (s *Scaler) Scale(dst, src *Picture) {
	for i := range s.planes {
		if p := &s.planes[i]; p.width > 0 {
			p.scale(&dst.Planes[i], &src.Planes[i], src.PlaneDepth(i), dst.Depth, s.rows)
		}
	}
}

func (p *planeScaler) scale(dst, src *Plane, depth, target int, rows Rows) {
	stride, offset := src.Stride, 0
	if rows == BottomField {
		offset = stride
	}
	if rows != AllRows {
		stride *= 2
	}
	width := len(p.middle) - p.across.taps - 16 // whole units; samples beyond the row are never used
	for y := range p.height {
		first := p.down.first[y]
		coefficients := p.down.coefficients[y*p.down.taps:][:p.down.taps]
		if src.Wide != nil {
			for k := range p.wide {
				p.wide[k] = upTo(src.Wide, offset+p.rowOf(first+k, len(src.Wide), stride, offset)*stride, width)
			}
			filterDownWide(p.middle, p.wide, coefficients, depth)
		} else {
			for k := range p.rows {
				p.rows[k] = upTo(src.Pix, offset+p.rowOf(first+k, len(src.Pix), stride, offset)*stride, width)
			}
			filterDown(p.middle, p.rows, coefficients)
		}
		p.filterAcross(target)
		if dst.Wide != nil {
			copy(dst.Wide[y*dst.Stride:][:p.width], p.done)
		} else {
			narrow(dst.Pix[y*dst.Stride:][:p.width], p.done)
		}
	}
}

// rowOf clamps a row index to the existing rows: where the number of taps was rounded up, the
// last row may be outside, with a coefficient of 0.
func (p *planeScaler) rowOf(row, length, stride, offset int) int {
	return min(row, max(0, (length-1-offset)/stride))
}

// upTo returns n samples from at on, or as many as there are.
func upTo[T any](s []T, at, n int) []T { return s[at:min(len(s), at+n)] }

//go:generate go run ./asm/arm64 -out scale_arm64.s -stubs scale_arm64.go -pkg picture

// filterDown filters rows of 8-bit samples vertically into a row of the middle.
func filterDown(dst []int16, rows [][]byte, coefficients []int16) {
	n := len(rows[0])
	for _, r := range rows {
		n = min(n, len(r))
	}
	for x := filterDownFast(dst, rows, coefficients, n); x < n; x++ {
		sum := int32(1) << (8 + coefficientBits - middleBits - 1)
		for k, c := range coefficients {
			sum += int32(c) * int32(rows[k][x])
		}
		dst[x] = int16(sum >> (8 + coefficientBits - middleBits))
	}
}

// filterDownWide is filterDown for samples of more bits.
func filterDownWide(dst []int16, rows [][]uint16, coefficients []int16, depth int) {
	n := len(rows[0])
	for _, r := range rows {
		n = min(n, len(r))
	}
	shift := depth + coefficientBits - middleBits
	for x := filterDownWideFast(dst, rows, coefficients, n, shift); x < n; x++ {
		sum := int32(1) << (shift - 1)
		for k, c := range coefficients {
			sum += int32(c) * int32(rows[k][x])
		}
		dst[x] = int16(sum >> shift)
	}
}

// filterAcross filters a row of the middle horizontally into a row of the result.
func (p *planeScaler) filterAcross(depth int) {
	shift := coefficientBits + middleBits - depth
	most := int32(1)<<depth - 1
	f := &p.across
	for x := filterAcrossFast(p.done, p.middle, p.packed, f.taps, p.width, shift, most); x < p.width; x++ {
		sum := int32(1) << (shift - 1)
		row := p.middle[f.first[x]:][:f.taps]
		for k, c := range f.coefficients[x*f.taps:][:f.taps] {
			sum += int32(c) * int32(row[k])
		}
		p.done[x] = uint16(max(0, min(sum>>shift, most)))
	}
}

// pack arranges the coefficients for groups of eight results: their positions in the source,
// then for every eight taps the coefficients of results 0 and 4, 1 and 5, 2 and 6, 3 and 7.
func (f *filter) pack() (packed []int16) {
	for x := 0; x+8 <= len(f.first); x += 8 {
		for _, at := range f.first[x:][:8] {
			packed = append(packed, int16(2*at), int16(2*at>>16)) // in bytes
		}
		for k := 0; k < f.taps; k += 8 {
			for j := range 4 {
				packed = append(packed, f.coefficients[(x+j)*f.taps+k:][:8]...)
				packed = append(packed, f.coefficients[(x+j+4)*f.taps+k:][:8]...)
			}
		}
	}
	return packed
}

// narrow converts samples to bytes.
func narrow(dst []byte, src []uint16) {
	for x := narrowFast(dst, src); x < len(dst); x++ {
		dst[x] = byte(src[x])
	}
}
