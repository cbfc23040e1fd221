package run

import (
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/search"
)

// RungWith returns the rung with a load whose clip is made here, or -1.
func (r *Run) RungWith(l load.Load) int {
	line := l.String()
	for i := range r.Doc.Rungs {
		if g := &r.Doc.Rungs[i]; g.File == "" && g.Load.String() == line {
			return i
		}
	}
	return -1
}

// AddRung returns the rung with a load, which becomes a new one of a column if there is none.
func (r *Run) AddRung(column string, l load.Load) int {
	if at := r.RungWith(l); at >= 0 {
		return at
	}
	l.File = ""
	order := 1
	for i := range r.Doc.Rungs {
		if r.Doc.Rungs[i].Column == column {
			order++
		}
	}
	r.Doc.Rungs = append(r.Doc.Rungs, logbook.Rung{Load: l, Column: column, Order: order, Attempts: []logbook.Attempt{}})
	return len(r.Doc.Rungs) - 1
}

// Limits returns the hardest of the candidates, which are in rising order, that was smooth, and the
// easiest above it that was not, or could not be tried; -1 and their number where there are none.
func (r *Run) Limits(candidates []load.Load) (low, high int) {
	low, high = -1, len(candidates)
	for i, l := range candidates {
		at := r.RungWith(l)
		if at < 0 {
			continue
		}
		var smooth []bool
		voids := 0
		for _, t := range r.Trials {
			switch {
			case t.Rung != at:
			case t.Void == search.Counts:
				smooth = append(smooth, t.Smooth)
			case t.Void == search.Permanent:
				voids = search.MaxVoid
			default:
				voids++
			}
		}
		switch {
		case len(smooth) == 0 && voids < search.MaxVoid:
		case len(smooth) > 0 && search.Majority(smooth):
			low = i
		default:
			high = min(high, i)
		}
	}
	return min(low, high-1), high
}
