package chart

import (
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

// ladderRow is the height of a rung in a page.
const ladderRow = 20

// LadderSVG draws the rungs of a run, the hardest of each column at the top, with a shape for each
// attempt.
func LadderSVG(steps []model.Step, width vg.Length) ([]byte, error) {
	rows := ladderRows(steps)
	canvas := vgsvg.New(width, vg.Length(len(rows))*ladderRow+4)
	drawLadder(draw.Crop(draw.New(canvas), 4, -4, 2, -2), rows, 11)
	return written(canvas)
}

// LadderPNG draws the same as a picture.
func LadderPNG(w io.Writer, steps []model.Step, title, of string, size Pixels) error {
	if err := size.Check(); err != nil {
		return err
	}
	canvas := size.picture()
	area := draw.Crop(draw.New(canvas), 20, -20, 26, -14)
	heading(area, title)
	caption(area, of)
	rows := ladderRows(steps)
	body := draw.Crop(area, 0, 0, 4, -26)
	height := (body.Max.Y - body.Min.Y) / vg.Length(max(1, len(rows)))
	if height > 30 {
		body = draw.Crop(body, 0, 0, body.Max.Y-body.Min.Y-30*vg.Length(len(rows)), 0)
		height = 30
	}
	drawLadder(body, rows, min(12, height*0.62))
	_, err := canvas.WriteTo(w)
	return err
}

// ladderRows returns what is drawn from top to bottom: of each column its name, where there are
// several, and its rungs, the hardest first.
func ladderRows(steps []model.Step) (rows []model.Step) {
	several := false
	for _, s := range steps {
		several = several || s.Column != steps[0].Column
	}
	for from := 0; from < len(steps); {
		to := from
		for to < len(steps) && steps[to].Column == steps[from].Column {
			to++
		}
		if several {
			rows = append(rows, model.Step{Column: steps[from].Column})
		}
		for i := to - 1; i >= from; i-- {
			rows = append(rows, steps[i])
		}
		from = to
	}
	return rows
}

// otherFonts is how much wider letters may be where a page is shown without our font.
const otherFonts = 1.18

// drawLadder draws rows that fill an area, with letters of a size.
func drawLadder(area draw.Canvas, rows []model.Step, size vg.Length) {
	name, note, head := style(ink, size), style(faint, size*0.92), style(faint, size)
	left, tries := vg.Length(0), 1
	for _, r := range rows {
		left, tries = max(left, name.Width(r.Name)), max(tries, len(r.Grades))
	}
	left = min(otherFonts*left, 0.5*(area.Max.X-area.Min.X))
	radius := size * 0.42
	shapes := area.Min.X + left + 3*radius
	step := 3 * radius
	height := (area.Max.Y - area.Min.Y) / vg.Length(max(1, len(rows)))
	for i, r := range rows {
		y := area.Max.Y - (vg.Length(i)+0.5)*height
		if r.Name == "" {
			area.FillText(head, vg.Point{X: area.Min.X, Y: y - size*0.35}, r.Column)
			continue
		}
		if r.Top {
			area.StrokeLine2(draw.LineStyle{Color: grades[verdict.Smooth], Width: 1}, area.Min.X, y+height/2, area.Max.X, y+height/2)
		}
		area.FillText(name, vg.Point{X: area.Min.X, Y: y - size*0.35}, fitted(r.Name, name, left))
		for k, g := range r.Grades {
			shape(area, g, vg.Point{X: shapes + vg.Length(k)*step, Y: y}, radius)
		}
		words := "not tried"
		if n := len(r.Grades); n > 0 {
			words = string(r.Grades[n-1])
			if r.Text != "" {
				words += ", " + r.Text
			}
		}
		if r.Top {
			words += "  —  ceiling"
		}
		x := shapes + vg.Length(tries)*step
		area.FillText(note, vg.Point{X: x, Y: y - size*0.35}, fitted(words, note, area.Max.X-x))
	}
}

// shape draws a verdict: a disc, a half disc, a ring, a cross, or a dotted ring.
func shape(c draw.Canvas, g verdict.Grade, at vg.Point, r vg.Length) {
	colour := grades[g]
	ring := func(dashes []vg.Length) {
		c.SetLineStyle(draw.LineStyle{Color: colour, Width: r * 0.3, Dashes: dashes})
		c.Stroke(arc(at, r, 0, 2*math.Pi))
	}
	switch g {
	case verdict.Smooth:
		filled(c, colour, arc(at, r, 0, 2*math.Pi))
	case verdict.Marginal:
		filled(c, colour, arc(at, r, math.Pi/2, math.Pi))
		ring(nil)
	case verdict.Choppy:
		ring(nil)
	case verdict.Failed:
		d := r * 0.75
		line := draw.LineStyle{Color: colour, Width: r * 0.4}
		c.StrokeLine2(line, at.X-d, at.Y-d, at.X+d, at.Y+d)
		c.StrokeLine2(line, at.X-d, at.Y+d, at.X+d, at.Y-d)
	default:
		ring([]vg.Length{r * 0.3, r * 0.35})
	}
}

func filled(c draw.Canvas, colour color.Color, p vg.Path) {
	c.SetColor(colour)
	c.Fill(p)
}

// arc is a part of a circle.
func arc(at vg.Point, r vg.Length, from, angle float64) (p vg.Path) {
	sin, cos := math.Sincos(from)
	p.Move(vg.Point{X: at.X + r*vg.Length(cos), Y: at.Y + r*vg.Length(sin)})
	p.Arc(at, r, from, angle)
	p.Close()
	return p
}
