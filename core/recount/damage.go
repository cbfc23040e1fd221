package recount

import (
	"image"
	"math"

	"vividstrain/core/eye"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/scene"
)

// Damage is how the pictures of a recording differ from what the clip's formulas say they are.
type Damage struct {
	Checked  int     `json:"checked"`   // frames that were compared
	Damaged  int     `json:"damaged"`   // and those of which more than a hundredth differs
	WorstPct float64 `json:"worst_pct"` // of the picture, in the worst one
	WorstS   float64 `json:"worst_s"`   // when that was, from the start of the recording
}

// Blocks of so many samples of the clip are compared by their mean. One differs from a difference of a
// fifth of the range from black to white on: blur, noise and a picture that is found a sample off change
// them by less.
const (
	blockSize  = 16
	differs    = 44
	noticeable = 1. // percent
)

// examiner compares pictures with a clip.
type examiner struct {
	drawer *scene.Drawer
	frame  *picture.Picture
	number int // that was looked at last
}

// newExaminer returns an examiner for a clip, nil for one whose brightness is not that of its samples: HDR.
func newExaminer(e *clip.Entry, f media.Format) (*examiner, error) {
	if f.Depth != 8 || f.Transfer != "" && f.Transfer != media.SDR {
		return nil, nil
	}
	stage, err := scene.New(scene.Order{Scene: e.Scene, Seed: e.Seed, Format: f, Noise: scene.NoiseFor(f), Clip: e.Number})
	if err != nil {
		return nil, err
	}
	return &examiner{drawer: stage.NewDrawer(), frame: picture.New(f.Width, f.Height, 8, f.Chroma), number: -1}, nil
}

// examine compares a picture that shows a frame, unless it shows the one before as well.
func (x *examiner) examine(d *Damage, m *eye.Image, p eye.Place, number int, seconds float64) {
	if x == nil || number == x.number {
		return
	}
	x.number = number
	x.drawer.Draw(x.frame, number)
	black, white := eye.Levels(m, p)
	if white-black < 1 {
		return
	}
	all, bad := 0, 0
	top, height := float64(p.Y)-float64(p.Thick)/2, float64(p.Height+p.Thick)
	scaleX, scaleY := float64(p.Width)/float64(x.frame.Width), height/float64(x.frame.Height)
	for y := 0; y+blockSize <= x.frame.Height; y += blockSize {
		for i := 0; i+blockSize <= x.frame.Width; i += blockSize {
			if scene.IsMark(image.Rect(i, y, i+blockSize, y+blockSize), x.frame.Width, x.frame.Height) {
				continue
			}
			plane := &x.frame.Planes[0]
			want := mean(plane.Pix, plane.Stride, i, y, i+blockSize, y+blockSize)
			got := mean(m.Pix[m.Offset:], m.Stride, at(p.X, float64(i)*scaleX), at(0, top+float64(y)*scaleY), at(p.X, float64(i+blockSize)*scaleX), at(0, top+float64(y+blockSize)*scaleY))
			got = 16 + 219*(got-black)/(white-black)
			if all++; math.Abs(got-want) > differs {
				bad++
			}
		}
	}
	d.Checked++
	if pct := 100 * float64(bad) / float64(max(all, 1)); pct > noticeable {
		if d.Damaged++; pct > d.WorstPct {
			d.WorstPct, d.WorstS = math.Round(10*pct)/10, seconds
		}
	}
}

func at(from int, offset float64) int { return from + int(offset+0.5) }

// mean returns the mean of samples from a corner to another one.
func mean(pix []byte, stride, x0, y0, x1, y1 int) float64 {
	sum, n := 0, 0
	for y := y0; y < max(y1, y0+1); y++ {
		for x := x0; x < max(x1, x0+1); x++ {
			if k := y*stride + x; k >= 0 && k < len(pix) {
				sum, n = sum+int(pix[k]), n+1
			}
		}
	}
	return float64(sum) / float64(max(n, 1))
}
