package scene

import "vividstrain/core/media/picture"

// A strip is a row of cells over the whole width of the picture, white for one and black for
// zero: one, zero, 24 bits of frame number (high bit first), four bits of checksum (exclusive or
// of the number's six 4-bit digits), zero, one. There is one strip at the top and one at the
// bottom.
const (
	// Cells is the number of cells of a strip.
	Cells      = 32
	numberBits = 24
	frameMask  = 1<<numberBits - 1
	edges      = 1<<31 | 1 // the cells that are always white
	edgeMask   = 3<<30 | 3
)

// stripHeight returns the height of a strip in a picture of the given height.
func stripHeight(height int) int { return max(8, height/24) &^ 1 }

// stripBits returns the cells of a frame's strip, the first cell in the high bit.
func stripBits(frame int) uint32 {
	number := uint32(frame) & frameMask
	return edges | number<<6 | checkBits(number)<<2
}

func checkBits(number uint32) (check uint32) {
	for ; number > 0; number >>= 4 {
		check ^= number & 15
	}
	return check
}

// drawStrips draws both strips.
func drawStrips(c *canvas, frame int) {
	p := c.p
	bits, h := stripBits(frame), stripHeight(p.Height)
	for i := range Cells {
		value := black
		if bits>>(Cells-1-i)&1 != 0 {
			value = white
		}
		x0, x1 := i*p.Width/Cells, (i+1)*p.Width/Cells
		c.fill(x0, 0, x1, h, value)
		c.fill(x0, p.Height-h, x1, p.Height, value)
	}
}

// ReadNumber reads the frame number (modulo 2^24) from the strips of a picture. It returns false
// if neither strip can be read or the two disagree.
func ReadNumber(p *picture.Picture) (frame int, ok bool) {
	h := stripHeight(p.Height)
	if p.Width < Cells || p.Height < 2*h {
		return 0, false
	}
	top, okTop := readStrip(p, h/2)
	bottom, okBottom := readStrip(p, p.Height-h+h/2)
	switch {
	case okTop && okBottom:
		return top, top == bottom
	case okTop:
		return top, true
	}
	return bottom, okBottom
}

// readStrip reads the strip whose middle row is y.
func readStrip(p *picture.Picture, y int) (frame int, ok bool) {
	middle := 1 << (p.Depth - 1)
	var bits uint32
	for i := range Cells {
		bits <<= 1
		if sample(p, (2*i+1)*p.Width/(2*Cells), y) > middle {
			bits |= 1
		}
	}
	return DecodeStrip(bits)
}

// DecodeStrip returns the frame number (modulo 2^24) of the cells of a strip, the first cell in the high
// bit; false if they are none.
func DecodeStrip(bits uint32) (frame int, ok bool) {
	number := bits >> 6 & frameMask
	return int(number), bits&edgeMask == edges && bits>>2&15 == checkBits(number)
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
