// Package chart draws the charts of the model: as SVG for a page and as PNG for an article.
package chart

import (
	"bytes"
	"fmt"
	"io"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"vividstrain/report/model"
)

// Drawn is a chart as SVG, with the edges of its data area as shares of its width and height from
// the left and the top.
type Drawn struct {
	SVG                      []byte
	Left, Right, Top, Bottom float64
}

// Size is the size of a drawing in points of 1/72 inch.
type Size struct{ Width, Height vg.Length }

// SVG draws charts of one size, to stand under each other without their titles and legends: their
// data areas begin and end at the same places. bare leaves out the numbers of the time axis.
func SVG(charts []model.Chart, size Size, bare bool) ([]Drawn, error) {
	plots := make([]*plot.Plot, len(charts))
	empty := draw.New(vgsvg.New(size.Width, size.Height))
	left := vg.Length(0)
	for i, c := range charts {
		plots[i] = build(c, 8)
		if bare {
			plots[i].X.Tick.Marker = plot.ConstantTicks(nil)
		}
		left = max(left, plots[i].DataCanvas(empty).Min.X)
	}
	var list []Drawn
	for _, p := range plots {
		canvas := vgsvg.New(size.Width, size.Height)
		part := draw.Crop(draw.New(canvas), left-p.DataCanvas(empty).Min.X, -8, 5, -5)
		p.Draw(part)
		svg, err := written(canvas)
		if err != nil {
			return nil, err
		}
		data := p.DataCanvas(part)
		list = append(list, Drawn{SVG: svg, Left: float64(data.Min.X / size.Width), Right: float64(data.Max.X / size.Width),
			Top: float64(1 - data.Max.Y/size.Height), Bottom: float64(1 - data.Min.Y/size.Height)})
	}
	return list, nil
}

// written returns a drawing as an element of a page: without the XML declaration.
func written(canvas *vgsvg.Canvas) ([]byte, error) {
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return nil, err
	}
	// A strip of cores is as high as its chart, not as its few pixels.
	svg := bytes.ReplaceAll(out.Bytes(), []byte("<image "), []byte(`<image preserveAspectRatio="none" style="image-rendering:pixelated" `))
	return svg[max(0, bytes.Index(svg, []byte("<svg"))):], nil
}

// Pixels is the size of a picture.
type Pixels struct{ Width, Height int }

// Check returns an error unless a picture of this size can be drawn.
func (s Pixels) Check() error {
	if s.Width < 320 || s.Height < 200 || s.Width > 8192 || s.Height > 8192 {
		return fmt.Errorf("a picture is 320x200 to 8192x8192 pixels large, not %dx%d", s.Width, s.Height)
	}
	return nil
}

// pictureWidth is the width of a picture in points: what is written is as large in a picture of any
// size.
const pictureWidth = 640

// picture returns the canvas of a picture.
func (s Pixels) picture() vgimg.PngCanvas {
	height := pictureWidth * vg.Length(s.Height) / vg.Length(s.Width)
	dpi := math.Round(float64(s.Width) / pictureWidth * 72)
	return vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(pictureWidth, height), vgimg.UseDPI(int(dpi)), vgimg.UseBackgroundColor(paper))}
}

// PNG draws a chart as a picture that can be read alone: with its title, the names of its curves, and
// a line below that says what it is of.
func PNG(w io.Writer, c model.Chart, of string, size Pixels) error {
	if err := size.Check(); err != nil {
		return err
	}
	canvas := size.picture()
	area := draw.Crop(draw.New(canvas), 14, -20, 26, -14)
	caption(area, of)
	heading(area, c.Title)
	rows := legend(area, c.Curves)
	build(c, 9).Draw(draw.Crop(area, 0, 0, 0, -24-rows))
	_, err := canvas.WriteTo(w)
	return err
}

// heading writes a title at the top of an area.
func heading(area draw.Canvas, title string) {
	s := style(ink, 14)
	area.FillText(s, vg.Point{X: area.Min.X, Y: area.Max.Y - 12}, fitted(title, s, area.Max.X-area.Min.X))
}

// caption writes what a picture is of below its area.
func caption(area draw.Canvas, of string) {
	s := style(faint, 8)
	area.FillText(s, vg.Point{X: area.Min.X, Y: area.Min.Y - 16}, fitted(of, s, area.Max.X-area.Min.X))
}

// legendLine is the height of a row of a legend.
const legendLine = 14

// legend names curves in rows below the title, and returns the height of the rows. A
// single curve without a name has none.
func legend(area draw.Canvas, curves []model.Curve) vg.Length {
	if len(curves) == 0 || len(curves) == 1 && curves[0].Label == "" {
		return 0
	}
	s := style(ink, 9)
	x, y := area.Min.X, area.Max.Y-30
	for i, c := range curves {
		name := fitted(c.Label, s, 260)
		width := 24 + s.Width(name) + 14
		if x > area.Min.X && x+width > area.Max.X {
			x, y = area.Min.X, y-legendLine
		}
		line := curveStyle(i)
		line.Width = 2
		area.StrokeLine2(line, x, y+3, x+19, y+3)
		area.FillText(s, vg.Point{X: x + 24, Y: y}, name)
		x += width
	}
	return area.Max.Y - 30 - y + legendLine
}

// fitted shortens a text to a width.
func fitted(text string, s draw.TextStyle, width vg.Length) string {
	if s.Width(text) <= width {
		return text
	}
	letters := []rune(text)
	for len(letters) > 0 && s.Width(string(letters)+"…") > width {
		letters = letters[:len(letters)-1]
	}
	return string(letters) + "…"
}
