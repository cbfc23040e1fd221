package model

import (
	"fmt"
	"strings"

	"vividstrain/core/logbook"
)

// adaptView shows runs in which a device chose among qualities of a film.
var adaptView = view{
	what: func(d *logbook.Document) string { return d.Ladder }, rung: "column",
	answer: adaptAnswer,
	table: func(d *logbook.Document, choice Choice) Table {
		rungs := make([]namedRung, len(d.Rungs))
		for i := range rungs {
			rungs[i] = namedRung{d.Rungs[i].Column, &d.Rungs[i]}
		}
		return attemptTable(d, choice, "column", "  again", rungs)
	},
}

// adaptAnswer says which quality the device settled at in each column, and how often it changed.
func adaptAnswer(d *logbook.Document) (lines []Line) {
	for i := range d.Rungs {
		r := &d.Rungs[i]
		for _, a := range r.Counted() {
			c := a.Adaptive
			if c == nil || c.Settled >= len(c.Qualities) {
				lines = append(lines, Line{"", fmt.Sprintf("%s shows no quality of %s: %s.", subject(d), r.Column, strings.Join(a.Reasons, "; "))})
				continue
			}
			lines = append(lines, Line{"", fmt.Sprintf("%s settles at %s of %d qualities, and changed %s.", subject(d), c.Qualities[c.Settled], len(c.Qualities), times(c.Changes))})
			var parts []string
			for k, s := range c.Seconds {
				if s >= 0.05 && k < len(c.Qualities) {
					parts = append(parts, fmt.Sprintf("%s %.1f s", c.Qualities[k], s))
				}
			}
			lines = append(lines, Line{"shown", strings.Join(parts, ", ")})
			for _, s := range c.Steps {
				if s.Quality < len(c.Qualities) {
					lines = append(lines, Line{"at " + fmt.Sprintf("%.0f s", s.AtS), c.Qualities[s.Quality] + ": " + s.Why})
				}
			}
		}
	}
	return lines
}
