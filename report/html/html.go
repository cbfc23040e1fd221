// Package html writes reports as one page that needs nothing else: no script, style or picture from
// elsewhere.
package html

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strings"

	"vividstrain/core/verdict"
	"vividstrain/report/chart"
	"vividstrain/report/model"
)

//go:embed report.html
var layout string

//go:embed report.css
var styles string

//go:embed report.js
var script string

// Sizes of the drawings in the page, in points.
var (
	wide  = chart.Size{Width: 820, Height: 118}
	small = chart.Size{Width: 250, Height: 84}
)

// page is what the template is filled with.
type page struct {
	Title  string
	Styles template.CSS
	Script template.JS
	Runs   []run
	// Compared is the comparison of several runs, nil of one.
	Compared *compared
	Data     []hover
}

// run is a report with its drawings.
type run struct {
	*model.Report
	ID     string
	Ladder template.HTML
	Lines  []figure // of the time line
	Small  []part
}

// part is the charts of one attempt.
type part struct {
	model.Band
	Figures []figure
}

// figure is a drawn chart.
type figure struct {
	Title  string
	Legend []legend
	Bands  []band
	Flags  []flag
	SVG    template.HTML
	Hover  int // its place in the page's data
}

// legend names a curve; Hue is its number.
type legend struct {
	Hue  int
	Name string
}

// band is the place of an attempt above the charts, in percent of their width.
type band struct {
	model.Band
	Left, Width float64
}

// flag is the place of something that happened.
type flag struct {
	model.Flag
	Left float64
}

// hover is what the page's script shows of a chart: its edges as shares of the drawing, its times,
// its unit and its curves as times and values in turn.
type hover struct {
	Left   float64      `json:"l"`
	Right  float64      `json:"r"`
	From   float64      `json:"from"`
	To     float64      `json:"to"`
	Unit   string       `json:"unit"`
	Curves []hoverCurve `json:"curves"`
}

type hoverCurve struct {
	Name   string    `json:"name"`
	Points []float64 `json:"p"`
}

// Write writes the page of one or several reports; c compares them, and may be nil.
func Write(w io.Writer, reports []*model.Report, c *model.Comparison) error {
	t, err := template.New("report").Funcs(template.FuncMap{"shape": func(g verdict.Grade) string { return model.Shapes[g] }, "right": func(t model.Table, column int) bool { return slices.Contains(t.Right, column) }}).Parse(layout)
	if err != nil {
		return err
	}
	p := page{Styles: template.CSS(styles + chart.Colours()), Script: template.JS(script)}
	var titles []string
	for i, r := range reports {
		r = clean(r)
		drawn, err := p.draw(r)
		if err != nil {
			return err
		}
		drawn.ID = fmt.Sprintf("run-%d", i+1)
		p.Runs = append(p.Runs, drawn)
		titles = append(titles, r.Title)
	}
	p.Title = strings.Join(titles, " · ")
	if c != nil {
		p.Title = "Comparison: " + strings.Join(c.Names, ", ")
		if p.Compared, err = p.compare(c); err != nil {
			return err
		}
	}
	return t.Execute(w, p)
}

// clean returns a report whose texts steer nothing.
func clean(r *model.Report) *model.Report {
	c := model.Clean(*r)
	return &c
}

// draw draws the charts of a report.
func (p *page) draw(r *model.Report) (out run, err error) {
	out.Report = r
	if len(r.Steps) > 0 {
		ladder, err := chart.LadderSVG(r.Steps, wide.Width)
		if err != nil {
			return out, err
		}
		out.Ladder = template.HTML(ladder) // of our own drawing, whose texts are escaped
	}
	if out.Lines, err = p.figures(r.Charts, wide, false); err != nil {
		return out, err
	}
	for _, one := range r.Parts {
		figures, err := p.figures(one.Charts, small, true)
		if err != nil {
			return out, err
		}
		out.Small = append(out.Small, part{one.Band, figures})
	}
	return out, nil
}

// figures draws charts under each other; small ones have no numbers of time and no hover.
func (p *page) figures(charts []model.Chart, size chart.Size, bare bool) (list []figure, err error) {
	drawn, err := chart.SVG(charts, size, bare)
	if err != nil {
		return nil, err
	}
	for i, c := range charts {
		d := drawn[i]
		f := figure{Title: c.Title, SVG: template.HTML(d.SVG), Hover: -1}
		for k, curve := range c.Curves {
			if curve.Label != "" {
				f.Legend = append(f.Legend, legend{k, curve.Label})
			}
		}
		if !bare {
			at := func(t float64) float64 { return 100 * (d.Left + (d.Right-d.Left)*(t-c.FromS)/(c.ToS-c.FromS)) }
			for _, b := range c.Bands {
				f.Bands = append(f.Bands, band{b, at(b.FromS), at(b.ToS) - at(b.FromS)})
			}
			for _, x := range c.Flags {
				f.Flags = append(f.Flags, flag{x, at(x.AtS)})
			}
			f.Hover = len(p.Data)
			p.Data = append(p.Data, hoverOf(c, d))
		}
		list = append(list, f)
	}
	return list, nil
}

// hoverOf returns the values that the page's script shows of a chart.
func hoverOf(c model.Chart, d chart.Drawn) hover {
	h := hover{Left: rounded(d.Left, 5), Right: rounded(d.Right, 5), From: c.FromS, To: c.ToS, Unit: c.Unit}
	for _, curve := range c.Curves {
		one := hoverCurve{Name: curve.Label}
		for _, pt := range curve.Points {
			if !math.IsNaN(pt.Value) && !math.IsInf(pt.Value, 0) {
				one.Points = append(one.Points, rounded(pt.AtS, 2), figures4(pt.Value))
			}
		}
		h.Curves = append(h.Curves, one)
	}
	return h
}

// rounded rounds to so many decimals.
func rounded(v float64, decimals int) float64 {
	scale := math.Pow10(decimals)
	return math.Round(v*scale) / scale
}

// figures4 rounds to four significant figures.
func figures4(v float64) float64 {
	if v == 0 {
		return 0
	}
	scale := math.Pow10(4 - int(math.Ceil(math.Log10(math.Abs(v)))))
	return math.Round(v*scale) / scale
}
