package scene

import (
	"image"
	"math/bits"

	"vividstrain/core/media/picture"
)

// Mark is what the strips of a picture say.
type Mark struct {
	Frame int // the frame's number modulo 2^20; of older clips modulo 2^24
	Clip  int // the clip's number, 1 to 65535; 0: it has none
}

// Strip is a kind of strip: a row of cells over the whole width of the picture, white for one and black for
// zero. There is one at the top and one at the bottom.
type Strip struct {
	Cells int
	// Height returns the height of a strip in a picture of the given height.
	Height func(height int) int
	// Decode returns the mark of the cells of a strip, the first cell in the high bit; false if they are
	// none. Cells whose bit is set in unsure are between black and white, as where a camera sees a frame and
	// the next one in one picture.
	Decode func(cells, unsure uint64) (Mark, bool)
}

// Strips are the kinds of strips that are read: those that are drawn, and those of older clips. No cells
// are a strip of both kinds.
var Strips = [2]*Strip{&strip, &olderStrip}

// strip is one, zero, one, the frame's number in 20 bits, the clip's in 16 bits, six bits of check, one,
// zero, one; numbers begin with their high bits. The frame's number is in Gray code (F. Gray, US patent
// 2632058), so that a frame and the next one differ in one of its cells, and in the check.
var strip = Strip{Cells: 48, Height: thinHeight, Decode: decodeStrip}

const (
	frameMask   = 1<<20 - 1
	clipBits    = 16
	checkBits   = 6
	guards      = 5<<45 | 5 // the cells at both ends
	guardMask   = 7<<45 | 7
	dataAt      = 3 + checkBits
	dataMask    = (1<<(20+clipBits) - 1) << dataAt
	mostUnsure  = 2 // of the cells of numbers
	leastChecks = 3 // cells of the check that must be sure
)

// thinHeight is about 1/80 of the picture's height: with the corner signs, strips take less than 3 % of
// pictures from 480 rows on.
func thinHeight(height int) int {
	if height < 480 {
		return 8
	}
	return max(6, height/80&^1)
}

// check returns the remainder of 36 bits by x^6 + x + 1 (the CRC-6 of Rec. ITU-T G.704, 2.1.3.1.2).
func check(data uint64) uint64 {
	data <<= checkBits
	for i := 41; i >= checkBits; i-- {
		if data>>i&1 != 0 {
			data ^= 0b1000011 << (i - checkBits)
		}
	}
	return data
}

// stripCells returns the cells of a frame's strip, the first cell in the high bit.
func stripCells(m Mark) uint64 {
	frame := uint64(m.Frame) & frameMask
	data := (frame^frame>>1)<<clipBits | uint64(m.Clip)&(1<<clipBits-1)
	return guards | data<<dataAt | check(data)<<3
}

// decodeStrip tries both values of cells that are unsure.
func decodeStrip(cells, unsure uint64) (m Mark, ok bool) {
	open := unsure & dataMask
	if cells&guardMask != guards || unsure&guardMask != 0 || bits.OnesCount64(open) > mostUnsure {
		return m, false
	}
	sure := ^(unsure >> 3) & (1<<checkBits - 1)
	if bits.OnesCount64(sure) < leastChecks {
		return m, false
	}
	for set := open; ; set = (set - 1) & open { // all subsets
		data := (cells&^open | set) & dataMask >> dataAt
		if (check(data)^cells>>3)&sure == 0 {
			frame := data >> clipBits
			for shift := 1; shift < 20; shift <<= 1 {
				frame ^= frame >> shift
			}
			return Mark{Frame: int(frame), Clip: int(data & (1<<clipBits - 1))}, true
		}
		if set == 0 {
			return m, false
		}
	}
}

// olderStrip is one, zero, 24 bits of frame number, four bits of check (exclusive or of the number's six
// 4-bit digits), zero, one.
var olderStrip = Strip{Cells: 32, Height: func(height int) int { return max(8, height/24) &^ 1 }, Decode: decodeOlder}

func decodeOlder(cells, unsure uint64) (Mark, bool) {
	const edges, edgeMask = 1<<31 | 1, 3<<30 | 3
	number := cells >> 6 & (1<<24 - 1)
	sum := uint64(0)
	for rest := number; rest > 0; rest >>= 4 {
		sum ^= rest & 15
	}
	return Mark{Frame: int(number)}, unsure == 0 && cells&edgeMask == edges && cells>>2&15 == sum
}

// IsMark reports whether an area of a picture of a size has a part of its marks.
func IsMark(area image.Rectangle, width, height int) bool {
	h, side := strip.Height(height), signSide(width, height)
	if area.Min.Y < h || area.Max.Y > height-h {
		return true
	}
	return (area.Min.X < side || area.Max.X > width-side) && (area.Min.Y < h+side || area.Max.Y > height-h-side)
}

// signSide returns the side of the corner signs: squares of black, white, black, each in the middle of the
// one before, below the upper strip and above the lower one, so that a picture is found at an angle as well.
// It is 0 where there is no room for them.
func signSide(width, height int) int {
	if height < 320 {
		return 0
	}
	return min(3*strip.Height(height), width/24)
}

// drawStrips draws both strips and the corner signs.
func drawStrips(c *canvas, m Mark) {
	p := c.p
	cells, h := stripCells(m), strip.Height(p.Height)
	for i := range strip.Cells {
		value := black
		if cells>>(strip.Cells-1-i)&1 != 0 {
			value = white
		}
		x0, x1 := i*p.Width/strip.Cells, (i+1)*p.Width/strip.Cells
		c.fill(x0, 0, x1, h, value)
		c.fill(x0, p.Height-h, x1, p.Height, value)
	}
	side := signSide(p.Width, p.Height)
	for _, x := range [2]int{0, p.Width - side} {
		for _, y := range [2]int{h, p.Height - h - side} {
			for ring, value := range [3]int{black, white, black} {
				from, to := (ring*side+2)/5, side-(ring*side+2)/5
				c.fill(x+from, y+from, x+to, y+to, value)
			}
		}
	}
}

// ReadNumber reads the frame number from the strips of a picture. It returns false if neither strip can be
// read or the two disagree.
func ReadNumber(p *picture.Picture) (frame int, ok bool) {
	m, ok := Read(p)
	return m.Frame, ok
}

// Read reads the strips of a picture. It returns false if neither can be read or the two disagree.
func Read(p *picture.Picture) (m Mark, ok bool) {
	row := p.Height / 180 // in the middle of strips that were scaled down with their picture
	for _, s := range Strips {
		if p.Width < s.Cells || p.Height < 2*s.Height(p.Height) {
			continue
		}
		top, okTop := s.read(p, row)
		bottom, okBottom := s.read(p, p.Height-1-row)
		switch {
		case okTop && okBottom:
			return top, top == bottom
		case okTop:
			return top, true
		case okBottom:
			return bottom, true
		}
	}
	return m, false
}

// read reads the strip in which row y is.
func (s *Strip) read(p *picture.Picture, y int) (Mark, bool) {
	middle := 1 << (p.Depth - 1)
	var cells uint64
	for i := range s.Cells {
		cells <<= 1
		if sample(p, (2*i+1)*p.Width/(2*s.Cells), y) > middle {
			cells |= 1
		}
	}
	return s.Decode(cells, 0)
}

// sample returns the mean of the luma samples around x, y.
func sample(p *picture.Picture, x, y int) int {
	sum, n := 0, 0
	plane := &p.Planes[0]
	for j := max(y-1, 0); j <= min(y+1, p.Height-1); j++ {
		for i := max(x-1, 0); i <= min(x+1, p.Width-1); i++ {
			if p.Depth > 8 {
				sum += int(plane.Wide[j*plane.Stride+i])
			} else {
				sum += int(plane.Pix[j*plane.Stride+i])
			}
			n++
		}
	}
	return sum / n
}
