package model

import (
	"cmp"
	"fmt"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
)

var climbView = view{
	what: func(d *logbook.Document) string { return d.Ladder }, rung: "rung", table: rungTable,
	sentences: func(d *logbook.Document) (lines []string) {
		if d.Ceiling == nil {
			return nil
		}
		for _, c := range d.Ceiling.Columns {
			prefix := ""
			if len(d.Ceiling.Columns) > 1 {
				prefix = c.Column + ": "
			}
			lines = append(lines, prefix+sentence(c))
		}
		return lines
	},
}

// rungTable returns a table with one row for each attempt, in the order of the ladder.
func rungTable(d *logbook.Document) Table {
	t := Table{Head: []string{"load", "verdict", "dropped", "freeze", "CPU mean/p95", "memory"}, Right: []int{2, 3, 4, 5, 6, 7}}
	buffered := anyAttempt(d, func(a logbook.Attempt) bool { return a.Buffer != nil })
	delivered := anyAttempt(d, func(a logbook.Attempt) bool { return a.Delivered != nil })
	if buffered {
		t.Head = []string{"load", "verdict", "start", "stalls", "least lead", "build", "CPU", "memory"}
	}
	if delivered {
		t.Head = append(t.Head, "arrived")
	}
	for _, r := range d.Rungs {
		for i := range r.Attempts {
			a, name := &r.Attempts[i], Cell{Text: r.Load.Title()}
			if i > 0 {
				name = Cell{Text: "  again", Faint: true}
			}
			cells := attemptCells(a)
			if buffered {
				cells = bufferedCells(a)
			}
			if delivered {
				cells = append(cells, Cell{Text: arrived(a.Delivered)})
			}
			t.Rows = append(t.Rows, append([]Cell{name}, cells...))
		}
	}
	return t
}

// sentence states the result of a column.
func sentence(c logbook.ColumnCeiling) string {
	var b strings.Builder
	switch {
	case c.Load == nil && c.Next == nil && len(c.Untried) > 0:
		return "No rung could be tried."
	case c.Load == nil && c.Next == nil:
		return "Not tried yet."
	case c.Load == nil:
		fmt.Fprintf(&b, "No rung plays smoothly: %s %s.", c.Next.Load.Title(), wasFound(c.Next.Verdict))
	default:
		fmt.Fprintf(&b, "The highest smooth load is %s", c.Load.Title())
		if c.Confirmed {
			b.WriteString(", confirmed.")
		} else {
			b.WriteString(", not confirmed" + without(c.Untried) + ".")
		}
		switch {
		case c.Next == nil && c.LadderEnd && len(c.Untried) == 0:
			b.WriteString(" The ladder ends there: the device's limit was not reached." + room(c))
			return b.String()
		case c.Next == nil && c.LadderEnd:
			b.WriteString(" No harder rung could be tried." + room(c))
			return b.String()
		case c.Next == nil:
			b.WriteString(" Harder rungs are still to be tried." + room(c))
			return b.String()
		}
		fmt.Fprintf(&b, " The next rung, %s, %s.", c.Next.Load.Title(), wasFound(c.Next.Verdict))
	}
	switch c.Limiter {
	case "":
	case verdict.Unknown:
		b.WriteString(" Why: not known; " + c.Evidence + ".")
	case verdict.Refused:
		b.WriteString(refusal(cmp.Or(c.Next.Reason, c.Evidence)))
	default:
		fmt.Fprintf(&b, " What ran out: %s (%s).", c.Limiter, c.Evidence)
	}
	if c.Headroom != nil {
		of := "it"
		if c.HeadroomOf != "" && c.HeadroomOf != c.Limiter {
			of = "the " + string(c.HeadroomOf)
		}
		fmt.Fprintf(&b, " At the ceiling %.0f %% of %s is still free.", *c.Headroom, of)
	}
	b.WriteString(room(c))
	return b.String()
}

// without names the rungs that could not be tried.
func without(untried []load.Load) string {
	if len(untried) == 0 {
		return ""
	}
	names := make([]string, len(untried))
	for i, l := range untried {
		names[i] = l.Title()
	}
	return " (" + strings.Join(names, ", ") + " could not be tried)"
}

// room states how many streams of the ceiling's load fit, if more than were played.
func room(c logbook.ColumnCeiling) string {
	if c.Room == nil || c.Load == nil || c.Room.Streams <= c.Load.Streams {
		return ""
	}
	return fmt.Sprintf(" By its readings it has room for %d such streams at once; then %s runs out (%s).", c.Room.Streams, c.Room.Limiter, c.Room.Evidence)
}

// refusal returns the sentence about a load that a device would not even try.
func refusal(reason string) string {
	return " It was refused: " + strings.TrimPrefix(reason, "it refused: ") + "."
}

func wasFound(g verdict.Grade) string {
	if g == verdict.Failed {
		return "failed"
	}
	return "was " + string(g)
}
