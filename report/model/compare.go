package model

import (
	"fmt"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/search"
	"vividstrain/core/verdict"
)

// Compare returns a table of the results of several runs of one ladder side by side.
func Compare(docs []*logbook.Document) Table {
	t := Table{Head: []string{""}}
	for _, d := range docs {
		t.Head = append(t.Head, d.Device.Name)
	}
	row := func(name string, cell func(d *logbook.Document) Cell) {
		cells := []Cell{{Text: name}}
		for _, d := range docs {
			cells = append(cells, cell(d))
		}
		t.Rows = append(t.Rows, cells)
	}
	for i, r := range docs[0].Rungs {
		row(r.Load.String(), func(d *logbook.Document) Cell {
			switch {
			case i >= len(d.Rungs) || len(d.Rungs[i].Attempts) == 0:
				return Cell{Text: "not tried", Faint: true}
			case len(d.Rungs[i].Counted()) == 0:
				return Cell{Grade: verdict.Void}
			}
			return Cell{Grade: majority(d.Rungs[i].Counted())}
		})
	}
	row("ceiling", func(d *logbook.Document) Cell {
		switch {
		case d.Ceiling == nil || d.Ceiling.Load == nil && d.Ceiling.Next == nil:
			return Cell{Text: "not known"}
		case d.Ceiling.Load == nil:
			return Cell{Text: "none"}
		}
		return Cell{Text: d.Ceiling.Load.String(), Bold: true}
	})
	row("ran out", func(d *logbook.Document) Cell {
		switch {
		case d.Ceiling == nil || d.Ceiling.Limiter == "" && (!d.Ceiling.LadderEnd || len(d.Ceiling.Untried) > 0):
			return Cell{Text: "not known"}
		case d.Ceiling.Limiter == "":
			return Cell{Text: "nothing"}
		}
		return Cell{Text: string(d.Ceiling.Limiter)}
	})
	row("headroom", func(d *logbook.Document) Cell {
		if d.Ceiling == nil || d.Ceiling.Headroom == nil {
			return Cell{Text: "-"}
		}
		return Cell{Text: fmt.Sprintf("%.0f %%", *d.Ceiling.Headroom)}
	})
	return t
}

// majority returns the verdict of most attempts in the sense of smooth or not; of those
// verdicts, the first.
func majority(attempts []logbook.Attempt) verdict.Grade {
	smooth := make([]bool, len(attempts))
	for i, a := range attempts {
		smooth[i] = a.Verdict == verdict.Smooth
	}
	most := search.Majority(smooth)
	return attempts[slices.Index(smooth, most)].Verdict
}
