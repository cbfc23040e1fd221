// Package scene draws moving content from formulas: a harbour at night, rain on deck, a kelp
// forest. The picture looks the same at every size and frame rate, because everything is placed
// in units of the picture's height and moves by the second. It is made to defeat lazy playback:
// slow and fast pans, a zoom, particles, hard edges, a cut every few seconds, and as much fine
// noise as the bitrate needs. A large frame number and time are for people; a strip of black and
// white cells at the top and the bottom carries the numbers of the frame and of the clip for machines.
package scene

import (
	"fmt"
	"math"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Version is increased when the same order draws different pictures than before.
const Version = 3

// shot is the time from one cut to the next, in seconds.
const shot = 6

// view draws one of the scenes at the size of a stage.
type view interface {
	// row sets the luma and the colours of row y at time t.
	row(c *canvas, y int, t float64)
	// objects draws the foreground.
	objects(c *canvas, t float64)
}

var views = map[string]func(s *Stage) view{"harbour": newHarbour, "rain": newRain, "kelp": newKelp}

// Names returns the names of the scenes.
func Names() []string { return []string{"harbour", "rain", "kelp"} }

// Order states what to draw.
type Order struct {
	Scene  string // "" is the harbour
	Format media.Format
	Seed   uint32
	// Noise is the amplitude of the noise that changes with every frame, in steps of 8-bit
	// samples. NoiseFor returns the amplitude for a bitrate.
	Noise float64
	Clip  int // its number, 1 to 65535, that its pictures carry; 0: none
}

// NoiseFor returns the amplitude of noise that uses up a format's bitrate at a quantisation that
// is usual for films.
func NoiseFor(f media.Format) float64 {
	if !(f.PixelRate() > 0) {
		return 0
	}
	perPixel := float64(f.Bitrate) / f.PixelRate()
	if f.Chroma == picture.C422 {
		perPixel *= 0.75
	}
	return min(max(6*math.Sqrt(perPixel), 5.5*math.Exp2(perPixel)-5.5), 120)
}

// Stage holds what all drawers of one order share. It is safe for several goroutines.
type Stage struct {
	order         Order
	width, height int
	view          view
	codes         []uint16 // samples by value
	chromaShift   uint     // from values to samples
	rate          float64
	noise         *[noiseRows][noiseLen]int8
	noiseGain     int16
}

// New prepares to draw an order.
func New(o Order) (*Stage, error) {
	if o.Scene == "" {
		o.Scene = "harbour"
	}
	make, ok := views[o.Scene]
	if !ok {
		return nil, fmt.Errorf("there is no scene %q; there are %s", o.Scene, strings.Join(Names(), ", "))
	}
	f := o.Format
	if f.Depth == 0 {
		f.Depth = 8
	}
	s := &Stage{order: o, width: f.Width, height: f.Height, rate: f.Rate.Hz(), noise: &whiteNoise}
	s.noiseGain = int16(min(o.Noise/127*16*noiseUnit+0.5, 127))
	s.codes, s.chromaShift = codesFor(f.Transfer, f.Depth), uint(12-f.Depth)
	s.view = make(s)
	return s, nil
}

// Drawer draws pictures, one at a time.
type Drawer struct {
	stage  *Stage
	canvas canvas
}

// NewDrawer returns a drawer; each goroutine needs its own.
func (s *Stage) NewDrawer() *Drawer {
	return &Drawer{stage: s, canvas: newCanvas(s)}
}

// Draw draws frame number frame into p, which has the order's format. The fields of interlaced
// video are each drawn at their own time.
func (d *Drawer) Draw(p *picture.Picture, frame int) {
	s, c := d.stage, &d.canvas
	c.p, c.frame = p, frame
	t := float64(frame) / s.rate
	if s.order.Format.Interlaced {
		d.field(0, 2, t)
		d.field(1, 2, t+0.5/s.rate)
	} else {
		d.field(0, 1, t)
	}
	c.first, c.step = 0, 1
	drawPanel(c, frame, t)
	drawStrips(c, Mark{Frame: frame, Clip: s.order.Clip})
}

// field draws every step-th row, starting with first.
func (d *Drawer) field(first, step int, t float64) {
	s, c := d.stage, &d.canvas
	c.first, c.step = first, step
	for y := first; y < s.height; y += step {
		c.begin(y)
		s.view.row(c, y, t)
		c.store(y)
	}
	s.view.objects(c, t)
}

// camera returns the number of the shot at time t.
func camera(t float64) int { return int(t / shot) }
