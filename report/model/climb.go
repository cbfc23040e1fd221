package model

import (
	"cmp"
	"fmt"

	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
)

var climbView = view{
	what: func(d *logbook.Document) string { return d.Ladder }, rung: "rung",
	answer: func(d *logbook.Document) []Line {
		if len(d.Plan.Goals) > 0 {
			return matrixAnswer(d)
		}
		return climbAnswer(d)
	},
	table: func(d *logbook.Document, choice Choice) Table {
		if len(d.Plan.Goals) > 0 && len(choice.Names) == 0 && !choice.All {
			return matrix(d)
		}
		return loadTable(d, choice)
	},
}

// loadTable is the table of attempts at loads.
func loadTable(d *logbook.Document, choice Choice) Table {
	rungs := make([]namedRung, len(d.Rungs))
	for i := range rungs {
		rungs[i] = namedRung{d.Rungs[i].Load.Title(), &d.Rungs[i]}
	}
	return attemptTable(d, choice, "load", "  again", rungs)
}

// room states how many streams of the ceiling's load fit, if more than were played.
func room(c *logbook.ColumnCeiling) string {
	if c.Room == nil || c.Load == nil || c.Room.Streams <= c.Load.Streams {
		return ""
	}
	return fmt.Sprintf("for %d such streams at once by its readings; then %s: %s", c.Room.Streams, cmp.Or(limiters[c.Room.Limiter], string(c.Room.Limiter)+" runs out"), c.Room.Evidence)
}

func wasFound(g verdict.Grade) string {
	if g == verdict.Failed {
		return "failed"
	}
	return "was " + string(g)
}
