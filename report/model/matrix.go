package model

import (
	"fmt"
	"slices"
	"strings"

	"gonum.org/v1/gonum/stat"

	"vividstrain/core/logbook"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// matrix returns a table of sources and goals: for each the verdict, the start, how many times
// real time media arrived, and the median of the jumps.
func matrix(d *logbook.Document) Table {
	t := Table{Head: append([]string{"source"}, d.Plan.Goals...)}
	rows := map[string]int{}
	for i := range d.Rungs {
		r := &d.Rungs[i]
		source := r.Load
		source.Goal = nil
		row, known := rows[source.Title()]
		if !known {
			row = len(t.Rows)
			rows[source.Title()] = row
			t.Rows = append(t.Rows, make([]Cell, len(t.Head)))
			for k := range t.Rows[row] {
				t.Rows[row][k].Text = "-"
			}
			t.Rows[row][0].Text = source.Title()
		}
		if column := slices.Index(d.Plan.Goals, r.Column); column >= 0 {
			t.Rows[row][column+1] = matrixCell(r)
		}
	}
	return t
}

func matrixCell(r *logbook.Rung) Cell {
	if len(r.Attempts) == 0 {
		return Cell{Text: "-"}
	}
	if len(r.Counted()) == 0 {
		return Cell{Grade: verdict.Void}
	}
	a := r.Counted()[0]
	c := Cell{Grade: majority(r.Counted())}
	if b := a.Buffer; b != nil && len(a.Windows) > 0 {
		c.Short = fmt.Sprintf("%.1f s", b.StartDelayS)
		c.Text = c.Short
		if rate := BuildRate(*b); rate != "-" {
			c.Text += ", " + rate + "x"
		}
		if len(b.Jumps) > 0 {
			delays := make([]float64, len(b.Jumps))
			for i, j := range b.Jumps {
				delays[i] = j.DelayS
			}
			c.Text += fmt.Sprintf(", jump %.1f s", median(delays))
		}
	}
	return c
}

// matrixAnswer says how many of the treatments are smooth, and which are not.
func matrixAnswer(d *logbook.Document) (lines []Line) {
	tried, smooth := 0, 0
	var rest []Line
	for i := range d.Rungs {
		counted := d.Rungs[i].Counted()
		if len(counted) == 0 {
			continue
		}
		tried++
		if majority(counted) == verdict.Smooth {
			smooth++
			continue
		}
		a := counted[0]
		for _, b := range counted {
			if b.Verdict.Worse(a.Verdict) {
				a = b
			}
		}
		text := d.Rungs[i].Load.Title() + " " + wasFound(a.Verdict)
		if len(a.Reasons) > 0 {
			text += ": " + a.Reasons[0]
		}
		if a.Limiter != "" && a.Limiter != verdict.Unknown {
			text += "; " + LimiterWords(a.Limiter) + ": " + a.Evidence
		}
		rest = append(rest, Line{"not", text})
	}
	if tried == 0 {
		return nil
	}
	return append([]Line{{"", fmt.Sprintf("%s plays %d of %s smoothly (sources x goals).", subject(d), smooth, Plural(tried, "treatment"))}}, rest...)
}

// jumps returns a table of the jumps of each load, by where they went, in milliseconds.
func jumps(d *logbook.Document) Table {
	t := Table{Head: []string{"load", "jumps", "number", "median", "worst", "server began anew"}, Right: []int{2, 3, 4}}
	for i := range d.Rungs {
		delays := map[tally.JumpKind][]float64{}
		all := map[tally.JumpKind][]tally.Seek{}
		for _, a := range d.Rungs[i].Counted() {
			for _, j := range a.Jumped() {
				delays[j.Kind] = append(delays[j.Kind], j.DelayS)
				all[j.Kind] = append(all[j.Kind], j)
			}
		}
		name := d.Rungs[i].Load.Title()
		for _, kind := range []tally.JumpKind{tally.Forward, tally.Back, tally.Inside} {
			if list := delays[kind]; len(list) > 0 {
				t.Rows = append(t.Rows, Cells(name, string(kind), fmt.Sprint(len(list)), fmt.Sprintf("%.0f ms", 1000*median(list)), fmt.Sprintf("%.0f ms", 1000*slices.Max(list)), beganAnew(all[kind])))
				name = ""
			}
		}
	}
	if last := len(t.Head) - 1; !slices.ContainsFunc(t.Rows, func(row []Cell) bool { return row[last].Text != "-" }) { // there is no server, or nothing shows it
		t.Head = t.Head[:last]
		for i := range t.Rows {
			t.Rows[i] = t.Rows[i][:last]
		}
	}
	return t
}

// beganAnew says how many jumps a server began anew for, and what shows it; "-" where nothing
// shows it of any.
func beganAnew(jumps []tally.Seek) string {
	known, anew := 0, 0
	var by []string
	for _, j := range jumps {
		if j.BeganAnew == nil {
			continue
		}
		if known++; *j.BeganAnew {
			anew++
		}
		if word := string(j.ShownBy); !slices.Contains(by, word) {
			by = append(by, word)
		}
	}
	if known == 0 {
		return "-"
	}
	return fmt.Sprintf("%d of %d (%s)", anew, known, strings.Join(by, ", "))
}

// median returns the middle of at least one value, the lower one of two.
func median(list []float64) float64 {
	return stat.Quantile(0.5, stat.Empirical, slices.Sorted(slices.Values(list)), nil)
}

// Viewers returns how many viewers each goal was smooth for, of crowds by goal.
func Viewers(goals []string, docs []*logbook.Document) Table {
	t := Table{Head: []string{"goal", "viewers", "comfortable", "why no more"}, Right: []int{1, 2}}
	for i, d := range docs {
		streams, comfortable, why := "-", "-", "-"
		if c := d.Crowd; c != nil {
			streams = fmt.Sprint(c.Streams)
			if c.Next == 0 {
				streams += " or more"
			}
			if c.Comfortable != nil {
				comfortable = fmt.Sprint(*c.Comfortable)
			}
			if c.Limiter != "" {
				why = strings.TrimSpace(LimiterWords(c.Limiter))
			}
		}
		t.Rows = append(t.Rows, Cells(goals[i], streams, comfortable, why))
	}
	return t
}
