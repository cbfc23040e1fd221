package model

import (
	"cmp"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
)

// Shapes are the shapes of verdicts, wherever they are shown.
var Shapes = map[verdict.Grade]string{verdict.Smooth: "●", verdict.Marginal: "◐", verdict.Choppy: "○", verdict.Failed: "×", verdict.Void: "◌"}

// Step is one rung of a ladder as it is drawn.
type Step struct {
	Column string
	Name   string
	Grades []verdict.Grade // of its attempts, in order
	Text   string          // of the last attempt that counts
	Top    bool            // the ceiling of its column
}

// maxSteps is the largest number of rungs of a drawn ladder.
const maxSteps = 60

// Steps returns the rungs of a run from the easiest to the hardest, column by column, and how many
// were left out: of many rungs, those that were not tried are.
func Steps(d *logbook.Document) (list []Step, left int) {
	for _, i := range risingRungs(d) {
		r := &d.Rungs[i]
		if len(d.Rungs) > maxSteps && (len(r.Attempts) == 0 || len(list) == maxSteps) {
			left++
			continue
		}
		s := Step{Column: r.Column, Name: rungTitle(d, i), Top: isTop(d, r)}
		for k := range r.Attempts {
			a := &r.Attempts[k]
			s.Grades = append(s.Grades, a.Verdict)
			if text := AttemptShort(a); text != "" && a.FramesDue() > 0 && a.Displayed() {
				s.Text = text + " dropped"
			} else if text != "" || s.Text == "" {
				s.Text = text
			}
		}
		list = append(list, s)
	}
	return list, left
}

// risingRungs returns the rungs by their places, those of a crowd by their numbers.
func risingRungs(d *logbook.Document) []int {
	order := make([]int, len(d.Rungs))
	for i := range order {
		order[i] = i
	}
	if p := d.Plan.Crowd; p != nil && len(p.Numbers) == len(d.Rungs) {
		slices.SortFunc(order, func(a, b int) int { return cmp.Compare(p.Numbers[a], p.Numbers[b]) })
	}
	return order
}

// isTop reports whether a rung is the ceiling of its column.
func isTop(d *logbook.Document, r *logbook.Rung) bool {
	if d.Ceiling == nil {
		return false
	}
	for _, c := range d.Ceiling.Columns {
		if c.Load != nil && c.Column == r.Column && c.Load.String() == r.Load.String() && c.Load.File == r.File {
			return true
		}
	}
	return false
}
