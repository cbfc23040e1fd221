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
type Place struct {
	X, Y, Width, Height, Thick int
	Strip                      *scene.Strip
}

// leastCell is the width of a cell from which it can be told from its neighbours, and LeastWidth that of a
// picture.
const (
	leastCell  = 3
	LeastWidth = leastCell * 48
)

// Find looks for a picture whose strips of marks at the top and at the bottom agree.
func Find(m *Image) (Place, scene.Mark, bool) { return find(m, scene.Strips[:]) }

// FindAnywhere looks for a picture as it is seen, or else at an angle; then it is in the upright image.
func FindAnywhere(m *Image) (p Place, mark scene.Mark, u *Upright, ok bool) {
	if p, mark, ok = find(m, scene.Strips[:1]); ok {
		return p, mark, nil, true
	}
	if p, mark, u = findAngled(m); u != nil {
		return p, mark, u, true
	}
	p, mark, ok = find(m, scene.Strips[1:])
	return p, mark, nil, ok
}

// find looks for a picture with some kinds of strips.
func find(m *Image, kinds []*scene.Strip) (p Place, mark scene.Mark, ok bool) {
	for y := 0; y < m.Height; y += 2 {
		for c := range runs(m, y) {
			for _, w := range c.widths {
				for _, s := range kinds {
					if !c.fits(w, s.Cells) {
						continue
					}
					mark, ok := readRow(m, s, c.from, y, w)
					if !ok || mark == (scene.Mark{}) { // two lights in the dark look like frame 0 of an older clip
						continue
					}
					if p, ok := complete(m, s, c.from, y, w, mark); ok {
						return p, mark, true
					}
				}
			}
		}
	}
	return p, mark, false
}

// candidate is where a strip may begin, how wide its first cell is, and how wide it may be.
type candidate struct {
	from, cell int
	widths     []int
}

// fits reports whether cells as wide as the first one may make up a width. Blur and a bright picture change
// them.
func (c *candidate) fits(width, cells int) bool {
	return 2*width >= c.cell*cells && width <= 2*c.cell*cells
}

// runs yields where strips may be in a row: they begin where a white run begins, and end where one
// ends.
func runs(m *Image, y int) func(yield func(c candidate) bool) {
	var starts, ends []int
	low, high, row := byte(255), byte(0), m.Pix[y*m.Stride+m.Offset:]
	for x := 0; x < m.Width*m.Step; x += m.Step {
		low, high = min(low, row[x]), max(high, row[x])
	}
	middle, white := byte((int(low)+int(high))/2), false
	for x := 0; x < m.Width && high-low >= leastContrast; x++ {
		if now := row[x*m.Step] > middle; now != white {
			if white = now; now {
				starts = append(starts, x)
			} else {
				ends = append(ends, x)
			}
		}
		if len(starts) > maxRuns {
			break
		}
	}
	if white {
		ends = append(ends, m.Width)
	}
	return func(yield func(c candidate) bool) {
		if len(starts) < 2 || len(starts) > maxRuns {
			return
		}
		for i, from := range starts {
			c := candidate{from: from, cell: ends[i] - from}
			for k := len(ends) - 1; k >= 0 && ends[k]-from >= LeastWidth; k-- {
				c.widths = append(c.widths, ends[k]-from)
			}
			if len(c.widths) > 0 && !yield(c) {
				return
			}
		}
	}
}

// maxRuns bounds the white runs in a row: a strip has at most 24, and other pictures may be beside it.
const maxRuns = 200

// readRow reads a strip of a width in a row.
func readRow(m *Image, s *scene.Strip, x, y, width int) (scene.Mark, bool) {
	return readCells(s, func(i int) int { return m.at(x+(2*i+1)*width/(2*s.Cells), y) })
}

// leastContrast is the difference of brightness between cells from which they are told apart.
const leastContrast = 32

// maxCells is the most that a strip has.
const maxCells = 64

// fill fills cells with their brightness, and returns the least and the most.
func fill(cells []int, cell func(i int) int) (low, high int) {
	low = 255
	for i := range cells {
		v := cell(i)
		cells[i], low, high = v, min(low, v), max(high, v)
	}
	return low, high
}

// readCells reads a strip by the brightness of its cells.
func readCells(s *scene.Strip, cell func(i int) int) (m scene.Mark, ok bool) {
	var list [maxCells]int
	cells := list[:s.Cells]
	low, high := fill(cells, cell)
	if high-low < leastContrast {
		return m, false
	}
	var white, unsure uint64
	for _, v := range cells {
		white, unsure = white<<1, unsure<<1
		if v > (low+high)/2 {
			white, v = white|1, high+low-v
		}
		if v-low > (high-low)*3/10 { // neither black nor white
			unsure |= 1
		}
	}
	return s.Decode(white, unsure)
}

// Read reads the strips of a picture at a place: by the mean of the middle half of each cell, so that
// noise and blur do not matter. Where both can be read and differ, the picture is torn.
func Read(m *Image, p Place) (top, bottom scene.Mark, okTop, okBottom bool) {
	top, okTop = readCells(p.Strip, func(i int) int { return p.cell(m, i, p.Y) })
	bottom, okBottom = readCells(p.Strip, func(i int) int { return p.cell(m, i, p.Y+p.Height) })
	return top, bottom, okTop, okBottom
}

// cell returns the brightness of a cell of the strip whose middle row is row.
func (p *Place) cell(m *Image, i, row int) int {
	half, n := max(0, p.Thick/4), 4*p.Strip.Cells
	from, to := p.X+(4*i+1)*p.Width/n, p.X+(4*i+3)*p.Width/n
	sum, count := 0, 0
	for y := max(row-half, 0); y <= min(row+half, m.Height-1); y++ {
		for x := max(from, 0); x <= min(to, m.Width-1); x++ {
			sum, count = sum+m.at(x, y), count+1
		}
	}
	return sum / max(count, 1)
}

// Levels returns the brightness of black and of white in a picture at a place: the means of the darker and
// of the brighter cells of its marks.
func Levels(m *Image, p Place) (black, white float64) {
	var list [maxCells]int
	cells := list[:p.Strip.Cells]
	low, high := fill(cells, func(i int) int { return p.cell(m, i, p.Y) })
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

// thickness returns the least and the most thickness of a strip, in heights of its picture: that of large
// pictures and that of small ones, with room for what scaling and blur do.
func thickness(s *scene.Strip) (least, most float64) {
	return 0.6 * float64(s.Height(2160)) / 2160, 1.4 * float64(s.Height(100)) / 100
}

// The height of a picture in widths.
const (
	flattest = 1. / 4
	tallest  = 2.
)

// complete finds the rest of a picture whose upper strip is in a row: the same strip at its bottom, as
// thick. The rows of the place are those in the middle of the strips.
func complete(m *Image, s *scene.Strip, x, y, width int, mark scene.Mark) (p Place, ok bool) {
	same := func(y int) bool {
		n, ok := readRow(m, s, x, y, width)
		return ok && n == mark
	}
	least, most := thickness(s)
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
		if other := bottom - top + 1; shape < flattest || shape > tallest || thick < 2 || ratio < least || ratio > most || other < thick/2-2 || other > 2*thick+2 {
			return p, false
		}
		return Place{x, y + thick/2, width, (top+bottom)/2 - (y + thick/2), thick, s}, true
	}
	return p, false
}
