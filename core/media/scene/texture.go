package scene

import (
	"math"
	"runtime"
	"sync"
	"sync/atomic"
)

const (
	phases    = 4    // positions of a texture between two columns
	noiseLen  = 8192 // samples in a row of noise
	noiseRows = 64
	noiseUnit = 8 // gain that leaves a texture's values as they are
)

// whiteNoise is uniform noise, the same in every run.
var whiteNoise = func() (noise [noiseRows][noiseLen]int8) {
	state := uint32(2463534242)
	for y := range noise {
		for x := range noise[y] {
			state ^= state << 13 // xorshift, G. Marsaglia 2003
			state ^= state >> 17
			state ^= state << 5
			noise[y][x] = int8(state >> 11)
		}
	}
	return noise
}()

// hash maps n to 32 pseudo-random bits.
func hash(n uint32) uint32 {
	n = (n ^ n>>16) * 0x7feb352d
	n = (n ^ n>>15) * 0x846ca68b
	return n ^ n>>16
}

// unit maps n to a pseudo-random number from 0 to 1.
func unit(n uint32) float64 { return float64(hash(n)) / (1 << 32) }

// texture is a pattern, rendered at the size of the picture, that repeats endlessly to both
// sides.
type texture struct {
	period int // columns
	rows   [phases][][]int8
}

// newTexture renders a pattern over a width of span picture heights, so that one picture's width
// can be read starting at any column. render adds the values of a row, four per column, from
// -127 to 127; after span they repeat from the beginning.
func newTexture(s *Stage, rows int, span float64, render func(l line, row int)) *texture {
	t := &texture{period: int(span * float64(s.height))}
	for p := range t.rows {
		t.rows[p] = make([][]int8, rows)
	}
	var wait sync.WaitGroup
	var next atomic.Int32
	for range min(runtime.NumCPU(), rows) {
		wait.Go(func() {
			l := newLine(phases*t.period, span)
			for y := int(next.Add(1)) - 1; y < rows; y = int(next.Add(1)) - 1 {
				clear(l.values)
				render(l, y)
				t.keep(y, l.values, s.width)
			}
		})
	}
	wait.Wait()
	return t
}

// keep stores the values of a row, four per column, and repeats them for one more picture's
// width.
func (t *texture) keep(y int, values []float32, width int) {
	var rows [phases][]int8
	for p := range rows {
		rows[p] = make([]int8, t.period, t.period+width)
	}
	for x := keepFast(&rows, values); x < t.period; x++ {
		for p, v := range values[phases*x:][:phases] {
			rows[p][x] = level(v)
		}
	}
	for p, row := range rows {
		row = row[:cap(row)]
		for n := t.period; n < len(row); {
			n += copy(row[n:], row[:n])
		}
		t.rows[p][y] = row
	}
}

// level converts a value to the stored form.
func level(v float32) int8 { return int8(max(-127, min(int32(v), 127))) }

// line is a row of a texture that is being rendered.
type line struct {
	values []float32
	span   float64 // picture heights
	curves map[int]ways
}

// ways is the cache key of line.curve.
type ways struct {
	curve []float32
	ends  []int
}

func newLine(n int, span float64) line {
	return line{values: make([]float32, n), span: span, curves: map[int]ways{}}
}

// each adds value(u) to every sample, u in picture heights.
func (l line) each(value func(u float64) float64) {
	for i := range l.values {
		l.values[i] += float32(value(float64(i) / float64(len(l.values)) * l.span))
	}
}

// at returns the columns of a row that are visible when the left edge of the view is at u
// picture heights.
func (t *texture) at(s *Stage, row int, u float64) []int8 {
	steps := int(math.Floor(u * float64(s.height) * phases))
	x := steps / phases
	p := steps - x*phases
	if p < 0 {
		p, x = p+phases, x-1
	}
	rows := t.rows[p]
	return rows[wrapped(row, len(rows))][wrapped(x, t.period):]
}

// wrapped is n modulo m, from 0 on.
func wrapped(n, m int) int {
	if uint(n) < uint(m) {
		return n
	}
	if n %= m; n < 0 {
		n += m
	}
	return n
}

// smooth adds value noise of the given amplitude: random numbers at the points of a lattice,
// joined by smooth curves. There are wide cells along the row, whose height is v cells; in both
// directions the noise ends as it began.
func (l line) smooth(amplitude float64, wide int, v float64, high int, seed uint32) {
	y := math.Floor(v)
	b := v - y
	b = b * b * (3 - 2*b)
	j := wrapped(int(y), high)
	points := make([]float32, wide+1)
	for i := range points {
		at := func(j int) float64 { return 2*unit(seed+uint32(i%wide)*7919+uint32(j%high)*104729) - 1 }
		points[i] = float32(amplitude * ((1-b)*at(j) + b*at(j+1)))
	}
	curve, ends := l.curve(wide)
	from := 0
	for cell, end := range ends {
		first, rise := points[cell], points[cell+1]-points[cell]
		for from += riseFast(l.values[from:end], curve[from:end], first, rise); from < end; from++ {
			l.values[from] += first + curve[from]*rise
		}
	}
}

// curve returns a smooth rise from 0 to 1 within each of wide cells, and the sample at which
// each cell ends.
func (l line) curve(wide int) (curve []float32, ends []int) {
	if c, ok := l.curves[wide]; ok {
		return c.curve, c.ends
	}
	curve, ends = make([]float32, len(l.values)), make([]int, wide)
	step := float32(wide) / float32(len(l.values))
	for i := range curve {
		u := float32(i) * step
		cell := min(int(u), wide-1)
		a := u - float32(cell)
		curve[i] = a * a * (3 - 2*a)
		ends[cell] = i + 1
	}
	for cell := 1; cell < wide; cell++ {
		ends[cell] = max(ends[cell], ends[cell-1]) // there may be more cells than samples
	}
	l.curves[wide] = ways{curve, ends}
	return curve, ends
}
