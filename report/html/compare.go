package html

import (
	"strings"

	"vividstrain/report/model"
)

// compared is a comparison with its drawings.
type compared struct {
	*model.Comparison
	Title string
	Rungs []overlaid
}

// overlaid is a load with the curves of several runs.
type overlaid struct {
	Title   string
	Figures []figure
}

// compare draws a comparison.
func (p *page) compare(c *model.Comparison) (*compared, error) {
	whole := model.Clean(*c)
	out := &compared{Comparison: &whole, Title: strings.Join(whole.Names, " against ")}
	for _, o := range whole.Rungs {
		figures, err := p.figures(o.Charts, wide, false)
		if err != nil {
			return nil, err
		}
		out.Rungs = append(out.Rungs, overlaid{o.Title, figures})
	}
	return out, nil
}
