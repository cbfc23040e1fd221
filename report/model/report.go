package model

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
)

// Report is all that is published of a run.
type Report struct {
	*Run
	Title    string
	When     string // when it began, by the calendar of the computer that measured
	Steps    []Step
	Left     int // rungs that are not among the steps
	Bands    []Band
	Charts   []Chart
	Parts    []RungCharts
	Unplayed int // attempts that are not among the parts

	Conditions Table
	Excluded   Table
	Method     []string
	Unread     bool // there are no readings
}

// RungCharts are the charts of one attempt's time.
type RungCharts struct {
	Band   Band
	Charts []Chart
}

// maxRungCharts is the largest number of attempts with charts of their own.
const maxRungCharts = 40

// NewReport returns the report of a document and its readings.
func NewReport(d *logbook.Document, readings []logbook.Reading, running bool) *Report {
	r := &Report{Run: NewRun(d, readings, running, Choice{}), Title: subject(d) + ": " + whatWords(d), When: d.Started.Local().Format("2 January 2006, 15:04"),
		Bands: Bands(d), Conditions: conditions(d), Excluded: excluded(d), Method: method(d)}
	r.Steps, r.Left = Steps(d)
	r.Charts = Timeline(d, r.Series)
	r.Unread = len(r.Charts) == 0
	for _, b := range r.Bands {
		one := RungCharts{Band: b}
		for _, c := range r.Charts {
			if part := c.Between(b.FromS, b.ToS); len(part.Curves) > 0 {
				part.Top = peak(c)
				one.Charts = append(one.Charts, part)
			}
		}
		switch {
		case len(one.Charts) == 0:
		case len(r.Parts) == maxRungCharts:
			r.Unplayed++
		default:
			r.Parts = append(r.Parts, one)
		}
	}
	return r
}

// peak returns the highest value of a chart, so that its parts can be compared; that of a film's
// place is different in each attempt.
func peak(c Chart) (most float64) {
	if c.Name == "buffer" {
		return 0
	}
	most = c.Top
	for _, curve := range c.Curves {
		most = max(most, 1.06*greatest(curve))
	}
	return most
}

// whatWords names what was done with a device in a title.
func whatWords(d *logbook.Document) string {
	switch {
	case d.Kind == "watch":
		return "watched"
	case d.Conversion != nil:
		return "converting " + conversionName(d)
	case d.Plan.Crowd != nil:
		return "how many at once of " + mixWords(d.Plan.Crowd.Mix)
	case d.Ladder != "":
		return "ladder " + d.Ladder
	}
	return "what it plays smoothly"
}

// conditions returns what there is to know about the device and the run.
func conditions(d *logbook.Document) Table {
	var t Table
	add := func(name, value string) {
		if value != "" {
			t.Rows = append(t.Rows, Cells(name, value))
		}
	}
	all := func(m map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(m)) {
			add(strings.ReplaceAll(name, "_", " "), m[name])
		}
	}
	add("device", d.Device.Name)
	all(d.Device.Facts)
	all(d.Device.Spec)
	all(d.Conditions.Facts)
	add("route", d.Route.Kind)
	for _, name := range slices.Sorted(maps.Keys(d.Route.Options)) {
		add("route: "+strings.ReplaceAll(name, "_", " "), d.Route.Options[name])
	}
	add("run", d.ID)
	add("began", d.Started.Format(time.RFC3339))
	if d.Ended != nil {
		add("lasted", d.Ended.Sub(d.Started).Round(time.Second).String())
	}
	add("program", strings.TrimSpace("vividstrain "+d.Tool.Version))
	return t
}

// excluded returns the attempts that say nothing about the device, times without readings, and
// what could not be read.
func excluded(d *logbook.Document) Table {
	t := Table{Head: []string{"excluded", "because"}}
	number := map[string]int{}
	for i, b := range Bands(d) {
		number[fmt.Sprint(b.Load, b.FromS)] = i + 1
	}
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Attempts {
			if a.Verdict == verdict.Void {
				name := fmt.Sprintf("attempt %d, %s", number[fmt.Sprint(rungTitle(d, i), a.Started.Sub(d.Started).Seconds())], rungTitle(d, i))
				t.Rows = append(t.Rows, Cells(name, strings.Join(a.Reasons, "; ")))
			}
		}
	}
	for _, row := range gaps(d).Rows {
		t.Rows = append(t.Rows, Cells(fmt.Sprintf("readings of %s from %s to %s", row[0].Text, row[1].Text, row[2].Text), row[3].Text))
	}
	for _, a := range d.Conditions.Absent {
		t.Rows = append(t.Rows, Cells(a.Quantity, a.Why))
	}
	return t
}

// method says how a run was measured and judged.
func method(d *logbook.Document) (lines []string) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	if d.Plan.HoldS > 0 {
		add("Each load was held for %s s. The first %s s after its start are counted apart and not judged, as are the seconds after a jump.", Figures(d.Plan.HoldS), Figures(d.Plan.SettleS))
		s, m := d.Criteria.Smooth, d.Criteria.Marginal
		add("Smooth: at most %s %% of the frames due were dropped (one is always allowed), no picture was held for more than %s ms, there was no stall, and film time ran at %s of normal speed or more. Marginal: at most %s %%, %s ms and %s. Choppy is worse. Failed: it did not start, was refused or ended early. Void: it says nothing about the device, and was tried again.",
			Figures(s.DroppedPct), Figures(s.FreezeMS), Figures3(s.Speed), Figures(m.DroppedPct), Figures(m.FreezeMS), Figures3(m.Speed))
		add("The ceiling is the hardest load that was smooth, as were all easier ones of its column; where it is called confirmed, a second attempt at it and at the next one agreed.")
	}
	if d.Plan.BaselineS > 0 {
		add("Before the first load the idle device was read for %s s.", Figures(d.Plan.BaselineS))
	}
	add("Sensors were read four times a second, which took %s %% of one core; %s began late.", Figures(d.Tool.InstrumentCPU), Plural(d.Tool.LateSamples, "reading"))
	return lines
}
