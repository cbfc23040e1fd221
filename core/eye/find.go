package eye

import "vividstrain/core/media/scene"

// Image is a part of a screen, of which the brightness is known.
type Image struct {
	Pix           []byte
	Width, Height int
	Stride        int // bytes from row to row
	Step          int // bytes from pixel to pixel
	Offset        int // of the byte of a pixel that is its brightness, as green is
}

// at returns the brightness of a pixel.
func (m *Image) at(x, y int) int { return int(m.Pix[y*m.Stride+x*m.Step+m.Offset]) }

// Columns returns a part of an image, from a column to another one.
func (m *Image) Columns(from, to int) *Image {
	part := *m
	part.Offset, part.Width = m.Offset+from*m.Step, max(0, to-from)
	return &part
}

// Place is where a picture is in an image, by its marks: Y is the row in the middle of the upper strip, and
// Height the distance to that of the lower one; Thick is the thickness of the upper one.
type Place struct{ X, Y, Width, Height, Thick int }

// leastWidth is the width of a picture from which its marks can be told from each other.
const leastWidth = 4 * scene.Cells

// Find looks for a picture whose strips of marks at the top and at the bottom agree.
func Find(m *Image) (p Place, number int, ok bool) {
	for y := 0; y < m.Height; y += 2 {
		for x := range runs(m, y) {
			for _, w := range x.widths {
				n, ok := readRow(m, x.from, y, w)
				if !ok {
					continue
				}
				if p, ok := complete(m, x.from, y, w, n); ok {
					return p, n, true
				}
			}
		}
	}
	return p, 0, false
}

// candidate is where a strip may begin, and how wide it may be.
type candidate struct {
	from   int
	widths []int
}

// runs yields where strips may be in a row: they begin where a white run begins, and end where one
// ends.
func runs(m *Image, y int) func(yield func(c candidate) bool) {
	var starts, ends []int
	low, high := 255, 0
	for x := range m.Width {
		v := m.at(x, y)
		low, high = min(low, v), max(high, v)
	}
	middle, white := (low+high)/2, false
	for x := range m.Width {
		now := m.at(x, y) > middle
		if now && !white {
			starts = append(starts, x)
		}
		if !now && white {
			ends = append(ends, x)
		}
		white = now
	}
	if white {
		ends = append(ends, m.Width)
	}
	return func(yield func(c candidate) bool) {
		if len(starts) < 2 || len(starts) > maxRuns {
			return
		}
		for _, from := range starts {
			c := candidate{from: from}
			for k := len(ends) - 1; k >= 0 && ends[k]-from >= leastWidth; k-- {
				c.widths = append(c.widths, ends[k]-from)
			}
			if len(c.widths) > 0 && !yield(c) {
				return
			}
		}
	}
}

// maxRuns bounds the white runs in a row: a strip has at most 16, and other pictures may be beside it.
const maxRuns = 200

// readRow reads a strip of a width in a row.
func readRow(m *Image, x, y, width int) (number int, ok bool) {
	return readCells(func(i int) int { return m.at(x+(2*i+1)*width/(2*scene.Cells), y) })
}

// leastContrast is the difference of brightness between cells from which they are told apart.
const leastContrast = 32

// readCells reads a strip by the brightness of its cells.
func readCells(cell func(i int) int) (number int, ok bool) {
	var bits uint32
	low, high := 255, 0
	var cells [scene.Cells]int
	for i := range cells {
		v := cell(i)
		cells[i], low, high = v, min(low, v), max(high, v)
	}
	if high-low < leastContrast {
		return 0, false
	}
	for _, v := range cells {
		bits <<= 1
		if v > (low+high)/2 {
			bits, v = bits|1, high+low-v
		}
		if v-low > (high-low)*3/10 { // neither black nor white
			return 0, false
		}
	}
	return scene.DecodeStrip(bits)
}

// Read reads the strips of a picture at a place: by the mean of the middle half of each cell, so that
// noise and blur do not matter. Where both can be read and differ, the picture is torn.
func Read(m *Image, p Place) (top, bottom int, okTop, okBottom bool) {
	half := max(0, p.Thick/4)
	strip := func(row int) (int, bool) {
		return readCells(func(i int) int {
			from, to := p.X+(4*i+1)*p.Width/(4*scene.Cells), p.X+(4*i+3)*p.Width/(4*scene.Cells)
			sum, n := 0, 0
			for y := max(row-half, 0); y <= min(row+half, m.Height-1); y++ {
				for x := max(from, 0); x <= min(to, m.Width-1); x++ {
					sum, n = sum+m.at(x, y), n+1
				}
			}
			if n == 0 {
				return 0
			}
			return sum / n
		})
	}
	top, okTop = strip(p.Y)
	bottom, okBottom = strip(p.Y + p.Height)
	return top, bottom, okTop, okBottom
}

// Levels returns the brightness of black and of white in a picture at a place: the means of the darker and
// of the brighter cells of its marks.
func Levels(m *Image, p Place) (black, white float64) {
	var cells [scene.Cells]int
	low, high := 255, 0
	for i := range cells {
		x := min(max(p.X+(2*i+1)*p.Width/(2*scene.Cells), 0), m.Width-1)
		v := m.at(x, min(max(p.Y, 0), m.Height-1))
		cells[i], low, high = v, min(low, v), max(high, v)
	}
	dark, bright := 0, 0
	for _, v := range cells {
		if v > (low+high)/2 {
			white, bright = white+float64(v), bright+1
		} else {
			black, dark = black+float64(v), dark+1
		}
	}
	return black / float64(max(dark, 1)), white / float64(max(bright, 1))
}

// The thickness of a strip in heights of its picture: 1/24, and more of small pictures.
const (
	thinnest = 1. / 40
	thickest = 1. / 9
)

// The height of a picture in widths.
const (
	flattest = 1. / 4
	tallest  = 2.
)

// complete finds the rest of a picture whose upper strip is in a row: the same strip at its bottom, as
// thick. The rows of the place are those in the middle of the strips.
func complete(m *Image, x, y, width, number int) (p Place, ok bool) {
	same := func(y int) bool {
		n, ok := readRow(m, x, y, width)
		return ok && n == number
	}
	last := y
	for last+1 < m.Height && same(last+1) {
		last++
	}
	thick := last - y + 1
	for bottom := m.Height - 1; bottom > last+4*thick; bottom-- {
		if !same(bottom) {
			continue
		}
		top := bottom
		for top-1 > last && same(top-1) {
			top--
		}
		ratio := float64(thick) / float64(bottom-y+1)
		shape := float64(bottom-y+1) / float64(width)
		if other := bottom - top + 1; shape < flattest || shape > tallest || ratio < thinnest || ratio > thickest || other < thick/2-2 || other > 2*thick+2 {
			return p, false
		}
		return Place{x, y + thick/2, width, (top+bottom)/2 - (y + thick/2), thick}, true
	}
	return p, false
}
