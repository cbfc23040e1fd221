package eye

import "vividstrain/core/media/scene"

// image is a part of a screen: four bytes a pixel, of which the second one is green.
type image struct {
	pix           []byte
	width, height int
	stride        int // bytes from row to row
}

// green returns the green of a pixel, which is most of what is bright.
func (m *image) green(x, y int) int { return int(m.pix[y*m.stride+4*x+1]) }

// place is where a picture is on the screen.
type place struct{ x, y, width, height int }

// leastWidth is the width of a picture from which its marks can be told from each other.
const leastWidth = 4 * scene.Cells

// find looks for a picture whose strips of marks at the top and at the bottom agree.
func find(m *image) (p place, number int, ok bool) {
	for y := 0; y < m.height; y += 2 {
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
func runs(m *image, y int) func(yield func(c candidate) bool) {
	var starts, ends []int
	white := false
	for x := range m.width {
		now := m.green(x, y) > 128
		if now && !white {
			starts = append(starts, x)
		}
		if !now && white {
			ends = append(ends, x)
		}
		white = now
	}
	if white {
		ends = append(ends, m.width)
	}
	return func(yield func(c candidate) bool) {
		if len(starts) < 3 || len(starts) > maxRuns {
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
func readRow(m *image, x, y, width int) (number int, ok bool) {
	var bits uint32
	low, high := 255, 0
	var cells [scene.Cells]int
	for i := range cells {
		v := m.green(x+(2*i+1)*width/(2*scene.Cells), y)
		cells[i], low, high = v, min(low, v), max(high, v)
	}
	if high-low < 48 {
		return 0, false
	}
	for _, v := range cells {
		bits <<= 1
		if v > (low+high)/2 {
			bits |= 1
		}
	}
	return scene.DecodeStrip(bits)
}

// complete finds the rest of a picture whose upper strip is in a row: the same strip at its bottom. The
// rows of both are those in the middle of the strips.
func complete(m *image, x, y, width, number int) (p place, ok bool) {
	last := y
	for last+1 < m.height {
		if n, ok := readRow(m, x, last+1, width); !ok || n != number {
			break
		}
		last++
	}
	thick := last - y + 1
	for bottom := m.height - 1; bottom > last+4*thick; bottom-- {
		n, ok := readRow(m, x, bottom, width)
		if !ok || n != number {
			continue
		}
		top := bottom
		for top-1 > last {
			if n, ok := readRow(m, x, top-1, width); !ok || n != number {
				break
			}
			top--
		}
		return place{x, y + thick/2, width, (top+bottom)/2 - (y + thick/2)}, true
	}
	return p, false
}
