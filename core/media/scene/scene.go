// Package scene draws moving content from formulas: a harbour at night. The
// picture is the same at every size and frame rate, since everything is placed
// in units of the picture's height and moved in seconds.
//
// It is made to defeat lazy playback: the town pans slowly, a searchlight and a
// ferry sweep fast (an uneven frame rate shows as judder), the water glitters
// down to single samples (bits are spent on it), windows and masts have hard
// edges. A large frame number and time are for people; a strip of black and
// white cells at the top and at the bottom carries the frame number for
// machines.
package scene

import (
	"math"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Version changes when the same order would give other pictures.
const Version = 1

// Where the parts of the scene lie, in picture heights from the top.
const (
	horizon   = 0.56 // sky above, water below
	fineCells = 2160 // cells of the finest detail in a picture height
)

// Levels of 8-bit luma, narrow range (Rec. ITU-R BT.709, 3.4).
const (
	black = 16
	white = 235
)

// Drawer draws the scene at one size. It is for one goroutine at a time.
type Drawer struct {
	width, height int
	rate          media.Rate

	fineX, fineY []int32  // index of the finest cell under each column, row
	columns      []column // of the frame being drawn
	waveX        []int32  // phase of the waves under each column
}

// column is what a whole column of the picture has in common in one frame.
type column struct {
	roof   int  // first row of the building
	light  int  // brightness the searchlight adds
	window int  // number of the column of windows, -1 between them
	house  int  // number of the building
	mast   bool // a hard vertical edge
}

// New prepares to draw pictures of width x height at rate frames a second.
func New(width, height int, rate media.Rate) *Drawer {
	d := &Drawer{width: width, height: height, rate: rate,
		fineX: make([]int32, width), fineY: make([]int32, height),
		columns: make([]column, width), waveX: make([]int32, width)}
	for x := range d.fineX {
		d.fineX[x] = int32((float64(x) + 0.5) / float64(height) * fineCells)
		d.waveX[x] = int32((float64(x) + 0.5) / float64(height) * 40 * sineLen / (2 * math.Pi))
	}
	for y := range d.fineY {
		d.fineY[y] = int32((float64(y) + 0.5) / float64(height) * fineCells)
	}
	return d
}

// Draw draws frame number frame into p, an 8-bit 4:2:0 picture of the drawer's
// size.
func (d *Drawer) Draw(p *picture.Picture, frame int) {
	t := float64(frame) / d.rate.Hz()
	d.prepare(t)
	for y := range d.height {
		row := p.Planes[0].Pix[y*p.Planes[0].Stride:][:d.width]
		if at := (float64(y) + 0.5) / float64(d.height); at < horizon {
			d.drawTown(row, y, at, t)
		} else {
			d.drawWater(row, y, at, t)
		}
	}
	d.drawChroma(p, t)
	d.drawFerry(p, t)
	d.drawPanel(p, frame, t)
	drawStrips(p, frame)
}

// prepare works out what the columns have in common at time t seconds.
func (d *Drawer) prepare(t float64) {
	const house = 0.11 // width of a building
	searchlight := math.Mod(t*1.3, 2.4) - 0.3
	for x := range d.columns {
		c := &d.columns[x]
		u := (float64(x) + 0.5) / float64(d.height)
		town := u + 0.04*t // the slow pan
		c.house = int(math.Floor(town / house))
		inside := town/house - float64(c.house)
		h := hash(uint32(c.house))
		c.roof = int((horizon - 0.06 - 0.22*float64(h&255)/255) * float64(d.height))
		c.window = -1
		if w := inside * 8; inside > 0.06 && inside < 0.94 && w-math.Floor(w) > 0.45 {
			c.window = (c.house&1023)*8 + int(w)
		}
		c.mast = h>>8&3 == 0 && inside > 0.48 && inside < 0.52
		c.light = int(70 * math.Max(0, 1-math.Abs(u-searchlight)/0.07))
	}
}

// drawTown draws a row of sky and buildings.
func (d *Drawer) drawTown(row []byte, y int, at, t float64) {
	sky := black + 8 + int(60*at)
	clouds := int(t*25+at*300) & sineMask
	storey := int(at * 70)
	lit := at*70-float64(storey) > 0.4
	noise := noiseRow(uint32(d.fineY[y]))
	asked, answer := -1, false // the last window looked at, and whether there is light in it
	for x := range row {
		c := &d.columns[x]
		fine := int(noise[(d.fineX[x])&noiseMask])
		if y >= c.roof && lit && c.window >= 0 && c.window != asked {
			asked = c.window
			answer = hash(uint32(c.window*8+storey*4096))&3 == 0
		}
		var v int
		switch {
		case y >= c.roof && lit && c.window >= 0 && answer:
			v = 190 + fine>>4
		case y >= c.roof:
			v = black + 14 + c.house&3*7 + fine>>4
		case c.mast && y > c.roof-d.height/12:
			v = white - 40
		default:
			v = sky + int(sine[(int(d.waveX[x])>>3+clouds)&sineMask])>>4 + fine>>5
		}
		row[x] = byte(min(v+c.light, white))
	}
}

// drawWater draws a row of water: waves that run at two speeds, and glitter
// that moves by whole cells of the finest detail.
func (d *Drawer) drawWater(row []byte, y int, at, t float64) {
	depth := (at - horizon) / (1 - horizon)
	base := black + 30 + int(25*depth)
	near := int((1.2 - depth) * 256)
	first, second := int(t*310+depth*2600), int(depth*900-t*170)
	noise := noiseRow(uint32(d.fineY[y]) + uint32(t*240))
	drift := int32(t * 420)
	for x := range row {
		phase := int(d.waveX[x]) * near >> 8
		v := base + int(sine[(phase+first)&sineMask])>>3 + int(sine[(phase>>1+second)&sineMask])>>3
		v += int(noise[(d.fineX[x]+drift)&noiseMask]-128) >> 2
		row[x] = byte(max(black, min(v+d.columns[x].light>>1, white)))
	}
}

// drawChroma colours the picture: a bluish sky, greenish water, warm light.
func (d *Drawer) drawChroma(p *picture.Picture, t float64) {
	w, h := p.Chroma.PlaneSize(1, d.width, d.height)
	for y := range h {
		cb := p.Planes[1].Pix[y*p.Planes[1].Stride:][:w]
		cr := p.Planes[2].Pix[y*p.Planes[2].Stride:][:w]
		at := (float64(y) + 0.5) / float64(h)
		blue, red := 150, 116
		if at > horizon {
			blue, red = 138, 112
		}
		shift := int(t*60 + at*700)
		for x := range cb {
			wave := int(sine[(int(d.waveX[2*x])>>2+shift)&sineMask]) >> 4
			warm := d.columns[2*x].light >> 1
			cb[x] = byte(blue + wave - warm)
			cr[x] = byte(red - wave + warm)
		}
	}
}

// drawFerry draws a ferry that crosses the picture in two seconds.
func (d *Drawer) drawFerry(p *picture.Picture, t float64) {
	wide := float64(d.width) / float64(d.height)
	left := math.Mod(t, 2)/2*(wide+0.5) - 0.45
	d.fill(p, left, 0.60, 0.42, 0.05, 60)
	d.fill(p, left+0.05, 0.55, 0.30, 0.05, 200)
	d.fill(p, left+0.12, 0.49, 0.04, 0.06, 120)
	for i := range 9 {
		d.fill(p, left+0.07+0.03*float64(i), 0.565, 0.015, 0.015, black)
	}
}

// drawPanel writes the time and the frame number on a dark ground.
func (d *Drawer) drawPanel(p *picture.Picture, frame int, t float64) {
	const digit, gap = 0.075, 0.03 // width of a digit and the space behind it
	d.fill(p, 0.06, 0.10, 6*(digit+gap)+0.01, 0.20, black+6)
	x := 0.08
	for place := 100_000; place > 0; place /= 10 {
		d.drawDigit(p, x, 0.12, digit, 0.16, frame/place%10)
		x += digit + gap
	}
	ms := int(t * 1000)
	d.fill(p, 0.06, 0.31, 7*0.06+2*0.03+0.02, 0.10, black+6)
	x = 0.08
	for i, place := range []int{600_000, 60_000, 10_000, 1000, 100, 10, 1} {
		value := ms / place % 10
		if i == 0 || i == 2 {
			value = ms / place % 6
		}
		d.drawDigit(p, x, 0.325, 0.04, 0.07, value)
		x += 0.06
		if i == 1 || i == 3 {
			d.fill(p, x, 0.38, 0.012, 0.015, white)
			if i == 1 {
				d.fill(p, x, 0.34, 0.012, 0.015, white)
			}
			x += 0.03
		}
	}
}

// segments of the digits 0 to 9: one bit each for top, upper right, lower
// right, bottom, lower left, upper left, middle.
var segments = [10]byte{0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F}

// drawDigit draws a digit of seven segments.
func (d *Drawer) drawDigit(p *picture.Picture, x, y, w, h float64, value int) {
	bar := w / 4
	for i, s := range [7][4]float64{
		{0, 0, w, bar}, {w - bar, 0, bar, h / 2}, {w - bar, h / 2, bar, h / 2}, {0, h - bar, w, bar},
		{0, h / 2, bar, h / 2}, {0, 0, bar, h / 2}, {0, (h - bar) / 2, w, bar},
	} {
		if segments[value]>>i&1 != 0 {
			d.fill(p, x+s[0], y+s[1], s[2], s[3], white)
		}
	}
}

// fill draws a grey rectangle; its place and size are in picture heights.
func (d *Drawer) fill(p *picture.Picture, x, y, w, h float64, value byte) {
	pixel := func(v float64, limit int) int {
		return max(0, min(int(math.Round(v*float64(d.height))), limit))
	}
	x0, x1 := pixel(x, d.width), pixel(x+w, d.width)
	y0, y1 := pixel(y, d.height), pixel(y+h, d.height)
	fillRect(p, x0, y0, x1, y1, value)
}

// fillRect draws a grey rectangle from sample x0, y0 up to x1, y1.
func fillRect(p *picture.Picture, x0, y0, x1, y1 int, value byte) {
	if x0 >= x1 || y0 >= y1 {
		return
	}
	paint := func(plane *picture.Plane, x0, y0, x1, y1 int, value byte) {
		for y := y0; y < y1; y++ {
			row := plane.Pix[y*plane.Stride:][x0:x1]
			for x := range row {
				row[x] = value
			}
		}
	}
	paint(&p.Planes[0], x0, y0, x1, y1, value)
	for i := 1; i < 3; i++ {
		paint(&p.Planes[i], (x0+1)/2, (y0+1)/2, (x1+1)/2, (y1+1)/2, 128)
	}
}
