package model

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Spread returns what several runs of the same came to: how often each ceiling was found and what
// varied, and a table with one row for each run.
func Spread(docs []*logbook.Document) (lines []Line, t Table) {
	t = Table{Head: []string{"run", "ceiling", "next", "why", "all cores there", "doubts"}, Right: []int{4, 5}, Optional: []int{5, 2}}
	times := map[string]int{}
	var order []string
	cores := [2]float64{math.Inf(1), math.Inf(-1)}
	for _, d := range docs {
		ceiling, next, why, at := "none", "-", "-", "-"
		if c := d.Ceiling; c != nil {
			why = cmp.Or(string(c.Limiter), "-")
			if c.Next != nil {
				next = c.Next.Load.Title() + " " + wasFound(c.Next.Verdict)
			}
			if c.Load != nil {
				ceiling = c.Load.Title()
				if r := rungOf(d, c.Load); r != nil {
					if cpu, known := r.Counted()[0].Use[sense.CPU]; known {
						at = fmt.Sprintf("%.0f %%", cpu.Mean)
						cores[0], cores[1] = min(cores[0], cpu.Mean), max(cores[1], cpu.Mean)
					}
				}
			}
		}
		if times[ceiling]++; times[ceiling] == 1 {
			order = append(order, ceiling)
		}
		t.Rows = append(t.Rows, Cells(d.ID, ceiling, next, why, at, fmt.Sprint(len(d.Doubts))))
	}
	if len(docs) == 0 {
		return nil, t
	}
	slices.SortStableFunc(order, func(a, b string) int { return times[b] - times[a] })
	var parts []string
	for _, ceiling := range order {
		parts = append(parts, fmt.Sprintf("up to %s in %d of %d runs", ceiling, times[ceiling], len(docs)))
	}
	lines = []Line{{"", subject(docs[0]) + " plays " + strings.Join(parts, ", ") + "."}}
	if len(order) == 1 {
		lines = append(lines, Line{"spread", "the ceiling was the same in every run"})
	} else {
		lines = append(lines, Line{"spread", "the ceiling varied: see the table"})
	}
	if varied := variedVerdicts(docs); varied != "" {
		lines = append(lines, Line{"varied", varied})
	}
	if load, ratio := variedPace(docs); ratio > 1.05 {
		lines = append(lines, Line{"varied", fmt.Sprintf("a frame of %s cost %.1f times as much CPU in one run as in another", load, ratio)})
	}
	return lines, t
}

// variedVerdicts names the rungs whose verdict was not the same in all runs.
func variedVerdicts(docs []*logbook.Document) string {
	var names []string
	for i, r := range docs[0].Rungs {
		grades := map[verdict.Grade]int{}
		for _, d := range docs {
			if i < len(d.Rungs) && len(d.Rungs[i].Counted()) > 0 {
				grades[majority(d.Rungs[i].Counted())]++
			}
		}
		if len(grades) < 2 {
			continue
		}
		var parts []string
		for _, g := range []verdict.Grade{verdict.Smooth, verdict.Marginal, verdict.Choppy, verdict.Failed} {
			if grades[g] > 0 {
				parts = append(parts, fmt.Sprintf("%s %d", g, grades[g]))
			}
		}
		names = append(names, r.Load.Title()+" ("+strings.Join(parts, ", ")+")")
	}
	return strings.Join(names, "; ")
}

// variedPace returns the rung whose CPU per shown frame differed most between the runs in which
// nothing was dropped, and by what factor.
func variedPace(docs []*logbook.Document) (load string, ratio float64) {
	for i, r := range docs[0].Rungs {
		least, most := math.Inf(1), 0.
		for _, d := range docs {
			if i >= len(d.Rungs) {
				continue
			}
			for _, a := range d.Rungs[i].Counted() {
				if cpu, known := a.Use[sense.GroupCPU]; known && cpu.Mean > 0 && a.FramesDue() > 0 && a.Frames.Dropped == 0 {
					per := cpu.Mean / float64(a.Frames.Due)
					least, most = min(least, per), max(most, per)
				}
			}
		}
		if most > 0 && most/least > ratio {
			load, ratio = r.Load.Title(), most/least
		}
	}
	return load, ratio
}
