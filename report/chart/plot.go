package chart

import (
	"fmt"
	"image"
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"vividstrain/report/model"
)

// style returns how a text is written.
func style(c color.Color, size vg.Length) draw.TextStyle {
	return draw.TextStyle{Color: c, Font: font.From(font.Font{Typeface: "Liberation", Variant: "Sans"}, size), Handler: plot.DefaultTextHandler, XAlign: text.XLeft}
}

// curveStyle returns how curve i is drawn.
func curveStyle(i int) draw.LineStyle {
	c, d := hueOf(i)
	return draw.LineStyle{Color: c, Dashes: d, Width: 1.1}
}

// build lays a chart out, with numbers of a size.
func build(c model.Chart, size vg.Length) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = nil
	p.X.Min, p.X.Max = c.FromS, c.ToS
	p.Y.Min, p.Y.Max = 0, top(c)
	p.X.Tick.Marker, p.Y.Tick.Marker = timeTicks{}, plot.TickerFunc(func(low, high float64) []plot.Tick { return valueTicks(c.Unit, low, high) })
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.LineStyle.Color, a.Tick.LineStyle.Color, a.Tick.Length, a.Padding = rule, rule, 3, 0
		a.Tick.Label.Color, a.Tick.Label.Font = faint, style(faint, size).Font
	}
	p.Add(bands(c.Bands))
	if c.Strip != nil {
		p.Y.Max = float64(len(c.Strip.Labels))
		p.Y.Tick.Marker = stripTicks(c.Strip.Labels)
		p.Add(heatImage(c))
	} else {
		p.Add(gridLines{})
	}
	for i, curve := range c.Curves {
		p.Add(&line{curve.Points, curveStyle(i)})
	}
	p.Add(flags(c.Flags))
	return p
}

// top returns the end of a chart's value axis.
func top(c model.Chart) float64 {
	most := c.Top
	for _, curve := range c.Curves {
		for _, p := range curve.Points {
			if c.Top == 0 {
				most = max(most, 1.06*p.Value)
			}
		}
	}
	if most <= 0 || math.IsInf(most, 0) || math.IsNaN(most) {
		return 1
	}
	return most
}

// maxTicks is more ticks than any axis has.
const maxTicks = 30

// valueTicks places three to six round numbers on a value axis.
func valueTicks(unit string, low, high float64) (ticks []plot.Tick) {
	step := roundStep((high - low) / 4)
	for i := 0; i <= maxTicks && float64(i)*step <= high*(1+1e-6); i++ {
		ticks = append(ticks, plot.Tick{Value: float64(i) * step, Label: model.UnitValue(unit, float64(i)*step)})
	}
	return ticks
}

// roundStep returns the next 1, 2 or 5 times a power of ten.
func roundStep(least float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(least)))
	for _, m := range []float64{1, 2, 5} {
		if m*power >= least*0.999 {
			return m * power
		}
	}
	return 10 * power
}

// timeTicks are ticks of an axis in seconds.
type timeTicks struct{}

// timeSteps are the distances of ticks, in seconds.
var timeSteps = []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 28800, 86400}

// Ticks implements [plot.Ticker].
func (timeTicks) Ticks(low, high float64) (ticks []plot.Tick) {
	step := timeSteps[len(timeSteps)-1]
	for i := len(timeSteps) - 1; i >= 0 && (high-low)/timeSteps[i] <= 9; i-- {
		step = timeSteps[i]
	}
	for (high-low)/step > 20 { // runs of weeks
		step *= 2
	}
	for i := range maxTicks {
		t := (math.Ceil(low/step) + float64(i)) * step
		if t > high {
			break
		}
		ticks = append(ticks, plot.Tick{Value: t, Label: clockText(t, step)})
	}
	return ticks
}

// clockText formats a time of a run: "40 s", "3:20", "1:03:20".
func clockText(t, step float64) string {
	s := int(t + 0.5)
	switch {
	case t < 60 && step < 60:
		return fmt.Sprintf("%d s", s)
	case t < 3600:
		return fmt.Sprintf("%d:%02d", s/60, s%60)
	}
	return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
}

// stripTicks name the rows of a strip, the first one at the top; of many, some.
type stripTicks []string

// Ticks implements [plot.Ticker].
func (labels stripTicks) Ticks(_, _ float64) (ticks []plot.Tick) {
	each := (len(labels) + 7) / 8
	for i, l := range labels {
		if i%each == 0 {
			ticks = append(ticks, plot.Tick{Value: float64(len(labels)-i) - 0.5, Label: l})
		}
	}
	return ticks
}

// heatImage is the picture of a strip: a pixel for each step of time in each row.
func heatImage(c model.Chart) plot.Plotter {
	rows := c.Strip.Values
	img := image.NewNRGBA(image.Rect(0, 0, len(rows[0]), len(rows)*stripZoom))
	for y := range rows {
		for x, v := range rows[y] {
			for k := range stripZoom - 2 { // a line of paper between rows
				if !math.IsNaN(v) {
					img.SetNRGBA(x, y*stripZoom+k, heat(v/100))
				}
			}
		}
	}
	return plotter.NewImage(img, c.FromS, 0, c.ToS, float64(len(rows)))
}

// stripZoom is how many pixels a row of a strip is high.
const stripZoom = 32

// bands are the times of attempts, in a tint of their verdicts.
type bands []model.Band

// Plot implements [plot.Plotter].
func (list bands) Plot(c draw.Canvas, p *plot.Plot) {
	x, _ := p.Transforms(&c)
	for _, b := range list {
		left, right := x(b.FromS), x(b.ToS)
		c.FillPolygon(tint(grades[b.Grade], bandTint), []vg.Point{{X: left, Y: c.Min.Y}, {X: right, Y: c.Min.Y}, {X: right, Y: c.Max.Y}, {X: left, Y: c.Max.Y}})
	}
}

// gridLines are faint lines at the labelled values.
type gridLines struct{}

// Plot implements [plot.Plotter].
func (gridLines) Plot(c draw.Canvas, p *plot.Plot) {
	_, y := p.Transforms(&c)
	for _, t := range p.Y.Tick.Marker.Ticks(p.Y.Min, p.Y.Max) {
		if t.Label != "" && t.Value > 0 {
			c.StrokeLine2(draw.LineStyle{Color: rule, Width: 0.5}, c.Min.X, y(t.Value), c.Max.X, y(t.Value))
		}
	}
}

// line is a curve that is broken where nothing was read.
type line struct {
	points []model.Point
	style  draw.LineStyle
}

// broken is the time without readings that breaks a line, as a share of the whole and at least in
// seconds.
const (
	brokenShare   = 0.01
	brokenSeconds = 2.5
)

// Plot implements [plot.Plotter].
func (l *line) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	gap := max(brokenSeconds, brokenShare*(p.X.Max-p.X.Min))
	var part []vg.Point
	stroke := func() {
		if len(part) == 1 {
			c.FillPolygon(l.style.Color, []vg.Point{{X: part[0].X - 1, Y: part[0].Y}, {X: part[0].X, Y: part[0].Y + 1}, {X: part[0].X + 1, Y: part[0].Y}, {X: part[0].X, Y: part[0].Y - 1}})
		}
		c.StrokeLines(l.style, c.ClipLinesXY(part)...)
		part = nil
	}
	for i, pt := range l.points {
		if math.IsNaN(pt.Value) || i > 0 && (pt.AtS-l.points[i-1].AtS > gap || pt.AtS < l.points[i-1].AtS) {
			stroke()
		}
		if !math.IsNaN(pt.Value) {
			part = append(part, vg.Point{X: x(pt.AtS), Y: y(min(pt.Value, p.Y.Max))})
		}
	}
	stroke()
}

// flags are lines where something happened, with a pennant for what people said and a tick for a
// jump.
type flags []model.Flag

// Plot implements [plot.Plotter].
func (list flags) Plot(c draw.Canvas, p *plot.Plot) {
	x, _ := p.Transforms(&c)
	for _, f := range list {
		at := x(f.AtS)
		c.StrokeLine2(draw.LineStyle{Color: faint, Width: 0.5, Dashes: []vg.Length{1.5, 1.5}}, at, c.Min.Y, at, c.Max.Y)
		if f.Kind != "jump" {
			c.FillPolygon(hues[3], []vg.Point{{X: at, Y: c.Max.Y}, {X: at + 6, Y: c.Max.Y - 3}, {X: at, Y: c.Max.Y - 6}})
		} else {
			c.FillPolygon(faint, []vg.Point{{X: at - 2, Y: c.Max.Y}, {X: at + 2, Y: c.Max.Y}, {X: at, Y: c.Max.Y - 4}})
		}
	}
}
