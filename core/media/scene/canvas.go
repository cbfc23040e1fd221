package scene

import (
	"math"

	"vividstrain/core/media/picture"
)

// canvas is the picture being drawn, one row at a time.
type canvas struct {
	s           *Stage
	p           *picture.Picture
	frame       int
	first, step int // the rows that are drawn: those of a field, or all

	line   []int16  // luma values of the current row
	flat   []int16  // a profile of zeros
	colour [2]int16 // Cb and Cr of the row as 8-bit codes times 16
	tint   []int8   // variation of the colours along the row; may be nil
	still  []int8   // zeros
	places []int32  // scratch
}

func newCanvas(s *Stage) canvas {
	return canvas{s: s, line: make([]int16, s.width), flat: make([]int16, s.width), still: make([]int8, s.width), places: make([]int32, s.width)}
}

// begin starts a row.
func (c *canvas) begin(y int) { c.colour, c.tint = [2]int16{128 << 4, 128 << 4}, nil }

// layers sets the row to base + profile + a*gainA + b*gainB, with gains in eighths; profile, a
// and b may be nil.
func (c *canvas) layers(base int, profile []int16, a []int8, gainA int, b []int8, gainB int) {
	if profile == nil {
		profile = c.flat
	}
	if a == nil {
		a = c.still
	}
	if b == nil {
		b = c.still
	}
	mix(c.line, int16(base), profile, a, int16(gainA), b, int16(gainB))
}

// noiseRow returns the noise of a row of the frame.
func (c *canvas) noiseRow(y, plane int) []int8 {
	h := hash(uint32(y)*3 + uint32(plane) + uint32(c.frame)*7001 + c.s.order.Seed*31)
	return c.s.noise[h%noiseRows][h>>8%(noiseLen-4096):]
}

// store writes the row into the picture, and into chroma where it has a row
// there.
func (c *canvas) store(y int) {
	s, p := c.s, c.p
	w := s.width
	noise := c.still
	if s.noiseGain > 0 {
		noise = c.noiseRow(y, 0)
	}
	if plane := &p.Planes[0]; plane.Wide != nil {
		mix(c.line, 0, c.line, noise, s.noiseGain, c.still, 0)
		storeWide(plane.Wide[y*plane.Stride:][:w], c.line, s.codes)
	} else {
		store(plane.Pix[y*plane.Stride:][:w], c.line, noise, s.noiseGain, black>>4, white>>4)
	}
	down := 0
	if !p.Chroma.IsTall() {
		if down = 1; s.order.Format.Interlaced && y>>1&1 != 0 || !s.order.Format.Interlaced && y&1 != 0 {
			return
		}
	}
	c.storeChroma(y, down)
}

// storeChroma writes the row's colours. Chroma rows of a field come from luma rows of the same
// field.
func (c *canvas) storeChroma(y, down int) {
	s, p := c.s, c.p
	row := y >> down
	if down == 1 && s.order.Format.Interlaced {
		row = y>>2<<1 | y&1
	}
	tint := c.tint
	if tint == nil {
		tint = c.still
	}
	w, h := p.Chroma.PlaneSize(1, s.width, s.height)
	if row >= h {
		return
	}
	line := c.line[:w]
	for i := range 2 {
		gain := 4 - 8*i
		noise := c.still
		if s.noiseGain > 0 {
			noise = c.noiseRow(y, 1+i)
		}
		mix(line, c.colour[i], c.flat, tint, int16(gain), noise, s.noiseGain/2)
		if plane := &p.Planes[1+i]; plane.Wide != nil {
			storeShifted(plane.Wide[row*plane.Stride:][:w], line, s.chromaShift)
		} else {
			store(plane.Pix[row*plane.Stride:][:w], line, c.still, 0, 16, 240)
		}
	}
}

// mix computes dst = base + profile + (a*gainA + b*gainB) / 8.
func mix(dst []int16, base int16, profile []int16, a []int8, gainA int16, b []int8, gainB int16) {
	profile, a, b = profile[:len(dst)], a[:len(dst)], b[:len(dst)]
	if n := mixFast(dst, base, profile, a, gainA, b, gainB); n > 0 {
		dst, profile, a, b = dst[n:], profile[n:], a[n:], b[n:]
	}
	for x := range dst {
		dst[x] = base + profile[x] + (int16(a[x])*gainA+int16(b[x])*gainB)>>3
	}
}

// store converts values plus noise, whose gain is in eighths, to 8-bit samples, clipped to the
// given range.
func store(dst []byte, line []int16, noise []int8, gain int16, least, most uint8) {
	line, noise = line[:len(dst)], noise[:len(dst)]
	if n := storeFast(dst, line, noise, gain, least, most); n > 0 {
		dst, line, noise = dst[n:], line[n:], noise[n:]
	}
	for x, v := range line {
		v += int16(noise[x]) * gain >> 3
		dst[x] = uint8(max(int16(least), min((v+8)>>4, int16(most))))
	}
}

func storeWide(dst []uint16, line []int16, codes []uint16) {
	for x, v := range line[:len(dst)] {
		dst[x] = codes[max(0, v)&highest]
	}
}

// storeShifted converts values to samples with fewer bits by a right shift.
func storeShifted(dst []uint16, line []int16, shift uint) {
	most := int16(4095 >> shift)
	line = line[:len(dst)]
	if n := shiftFast(dst, line, shift, most); n > 0 {
		dst, line = dst[n:], line[n:]
	}
	for x, v := range line {
		dst[x] = uint16(max(1, min(v>>shift, most)))
	}
}

// column returns the sample nearest to u picture heights from the left, clamped to the picture.
func (c *canvas) column(u float64) int {
	return max(0, min(int(math.Round(u*float64(c.s.height))), c.s.width))
}

func (c *canvas) row(v float64) int {
	return max(0, min(int(math.Round(v*float64(c.s.height))), c.s.height))
}

// rect draws a grey rectangle; its position and size are in picture heights.
func (c *canvas) rect(u, v, w, h float64, value int) {
	c.fill(c.column(u), c.row(v), c.column(u+w), c.row(v+h), value)
}

// fill draws a grey rectangle from sample x0, y0 up to x1, y1, exclusive.
func (c *canvas) fill(x0, y0, x1, y1, value int) {
	for y := y0; y < y1; y++ {
		if (y-c.first)%c.step == 0 {
			c.span(x0, x1, y, value)
		}
	}
}

// span fills samples x0 to x1 of row y with grey.
func (c *canvas) span(x0, x1, y, value int) {
	if x0 >= x1 {
		return
	}
	p := c.p
	code := c.s.codes[max(0, min(value, highest))]
	set(&p.Planes[0], y, x0, x1, code)
	down := 0
	if !p.Chroma.IsTall() {
		if y&1 != 0 && c.step == 1 {
			return
		}
		down = 1
	}
	row := y >> down
	if c.step == 2 && down == 1 {
		row = y>>2<<1 | y&1
	}
	if _, h := p.Chroma.PlaneSize(1, p.Width, p.Height); row < h {
		grey := uint16(128 << (p.Depth - 8))
		set(&p.Planes[1], row, (x0+1)/2, (x1+1)/2, grey)
		set(&p.Planes[2], row, (x0+1)/2, (x1+1)/2, grey)
	}
}

func set(plane *picture.Plane, y, x0, x1 int, code uint16) {
	if plane.Wide != nil {
		repeat(plane.Wide[y*plane.Stride:][x0:x1], code)
	} else {
		repeat(plane.Pix[y*plane.Stride:][x0:x1], byte(code))
	}
}

// repeat fills a row.
func repeat[T byte | uint16](row []T, v T) {
	n := min(8, len(row))
	for x := range n {
		row[x] = v
	}
	for ; n < len(row); n *= 2 {
		copy(row[n:], row[:n])
	}
}

// disc draws a filled circle around u, v.
func (c *canvas) disc(u, v, radius float64, value int) {
	for y := c.row(v - radius); y < c.row(v+radius); y++ {
		if (y-c.first)%c.step != 0 {
			continue
		}
		d := (float64(y)+0.5)/float64(c.s.height) - v
		if half := radius*radius - d*d; half > 0 {
			half = math.Sqrt(half)
			c.span(c.column(u-half), c.column(u+half), y, value)
		}
	}
}

// ring draws a circle.
func (c *canvas) ring(u, v, radius float64, value int) {
	n := max(8, int(radius*float64(c.s.height)*4))
	for i := range n {
		angle := 2 * math.Pi * float64(i) / float64(n)
		c.rect(u+radius*math.Cos(angle), v+radius*0.6*math.Sin(angle), 0.0022, 0.0022, value)
	}
}

// copy stores values into a row of luma, from sample x on.
func (c *canvas) copy(x, y int, line []int16) {
	if plane := &c.p.Planes[0]; plane.Wide != nil {
		storeWide(plane.Wide[y*plane.Stride+x:][:len(line)], line, c.s.codes)
	} else {
		store(plane.Pix[y*plane.Stride+x:][:len(line)], line, c.still, 0, black>>4, white>>4)
	}
}
