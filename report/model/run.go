// Package model turns a run document and its readings into what is shown of it, in any form:
// tables, sentences, series. It draws nothing and measures nothing.
package model

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/verdict"
)

// Cell is one cell of a table.
type Cell struct {
	Text  string
	Grade verdict.Grade // set where the cell is a verdict; Text is then empty
	Faint bool          // it matters less
	Bold  bool          // it stands out
	// Whole is what the cell means where it is read on its own, if that is not Text.
	Whole string
	// Short takes the place of Text where there is no room for the whole table, if it is not empty.
	Short string
}

// Table is rows under a header.
type Table struct {
	Head  []string // nil: none
	Rows  [][]Cell
	Right []int // right-aligned columns: numbers
	// Optional are columns that may be left out where there is no room, in that order.
	Optional []int
}

// subject returns the device's name as a sentence begins with it.
func subject(d *logbook.Document) string {
	if rest, unnamed := strings.CutPrefix(d.Device.Name, "this "); unnamed {
		return "This " + rest
	}
	return d.Device.Name
}

// Cells returns plain cells.
func Cells(texts ...string) []Cell {
	cells := make([]Cell, len(texts))
	for i, t := range texts {
		cells[i].Text = t
	}
	return cells
}

// State is how far a run has got.
type State int

// The states.
const (
	Complete State = iota
	Running
	Interrupted
)

// Run is what is shown of a run.
type Run struct {
	ID, Kind, Device, Route string
	About                   string // the device in words: what was found, and what its user stated
	What                    string // what was put on the device
	Rung                    string // what one of its rungs is called: "rung", "number"; "" where nothing was put on the device
	State                   State
	Attempts                int
	IdleCPUPct, IdleMemory  *float64 // of the idle device; nil where it was not read
	How                     string   // how it was made
	Rungs                   Table    // no rows: no attempt has ended
	Answer                  []Line   // the result, first of all
	Notes                   []string // what else is to be known
	Series                  []Series // the readings, by quantity and source
	Jumps                   Table    // no rows: there were none
	Early                   Table    // dropped frames of the first seconds; no rows: it was not played for so long
	Promises                Table    // what the device promised beside what it did; no rows: nothing
	Remarks, Gaps           Table    // no rows: there are none
}

// view is what a kind of run adds to the common parts.
type view struct {
	what   func(d *logbook.Document) string
	rung   string
	table  func(d *logbook.Document, choice Choice) Table
	answer func(d *logbook.Document) []Line
}

// views are the kinds of runs that are shown. A new one is one line here, and a file.
var views = map[string]view{
	"climb":   climbView,
	"adapt":   adaptView,
	"map":     mapView,
	"crowd":   crowdView,
	"watch":   watchView,
	"convert": convertView,
}

// NewRun returns the view of a document and its readings, with the chosen fields in its table.
// running means that the run goes on.
func NewRun(d *logbook.Document, readings []logbook.Reading, running bool, choice Choice) *Run {
	v := viewOf(d)
	r := &Run{ID: d.ID, Kind: d.Kind, Device: d.Device.Name, Route: d.Route.Kind, What: v.what(d), Rung: v.rung, Attempts: d.Attempts(),
		How: how(d, v.rung), Rungs: v.table(d, choice), Answer: Answer(d), Notes: notes(d), About: deviceLine(d.Device), Jumps: jumps(d), Promises: promises(d), Early: early(d), Remarks: remarks(d), Gaps: gaps(d), Series: NewSeries(readings)}
	switch {
	case d.Complete:
	case running:
		r.State = Running
	default:
		r.State = Interrupted
	}
	if d.Plan.BaselineS > 0 && d.Baseline.MemUsed > 0 {
		r.IdleCPUPct, r.IdleMemory = &d.Baseline.CPUPct, &d.Baseline.MemUsed
	}
	return r
}

// how says how long a run's rungs were held, "" where they were not.
func how(d *logbook.Document, rung string) string {
	if d.Plan.HoldS == 0 {
		return ""
	}
	return fmt.Sprintf("Each %s held for %g s, the first %g s not judged.", rung, d.Plan.HoldS, d.Plan.SettleS)
}

// viewOf returns the view of a document's kind; an unknown kind, or a document that lacks what its
// kind has, is shown like a climb.
func viewOf(d *logbook.Document) view {
	if p := d.Plan.Crowd; d.Kind == "crowd" && (p == nil || len(p.Mix) == 0 || len(p.Numbers) != len(d.Rungs)) || d.Kind == "convert" && d.Conversion == nil {
		return climbView
	}
	if v, known := views[d.Kind]; known {
		return v
	}
	return climbView
}

// Answer returns the lines that state the result of a run, and what makes it doubtful.
func Answer(d *logbook.Document) (lines []Line) {
	return append(viewOf(d).answer(d), doubts(d)...)
}

// notes returns sentences on what else is to be known: the notes that are no doubts, and
// irregularities of a server.
func notes(d *logbook.Document) (lines []string) {
	for _, n := range d.Notes {
		if !slices.ContainsFunc(d.Doubts, func(doubt verdict.Doubt) bool { return doubt.What == n }) {
			lines = append(lines, "Note: "+n+".")
		}
	}
	return slices.Concat(lines, between(d), hidden(d), oddities(d))
}

// between says what network was put between a server and its viewers.
func between(d *logbook.Document) []string {
	o, parts := d.Route.Options, []string{}
	if o["link"] != "" {
		rates, each, _ := strings.Cut(o["link"], "/")
		if each == "" {
			parts = append(parts, "a link of "+linkRates(rates)+" shared by all viewers")
		} else {
			parts = append(parts, "a link of "+linkRates(rates)+" for each viewer")
		}
	}
	if s, err := strconv.ParseFloat(o["delay_s"], 64); err == nil {
		parts = append(parts, fmt.Sprintf("a round trip of %.0f ms", 1000*s))
	}
	if bps, err := strconv.ParseFloat(o["loss_bps"], 64); err == nil {
		parts = append(parts, fmt.Sprintf("%s %% of lost packets, with which a connection carries at most %s", o["loss_pct"], media.BitrateText(bps)))
	}
	if len(parts) == 0 {
		return nil
	}
	return []string{"Note: between server and viewers there was " + strings.Join(parts, ", and ") + "."}
}

// linkRates returns the rates of a link, like "2M,20M@20s", in words.
func linkRates(text string) string {
	parts := strings.Split(text, ",")
	for i, part := range parts {
		speed, at, timed := strings.Cut(part, "@")
		if bps, err := media.ParseBitrate(speed); err == nil {
			speed = media.BitrateText(float64(bps))
		}
		if timed {
			speed += " from " + at + " on"
		}
		parts[i] = speed
	}
	return strings.Join(parts, ", then ")
}

// hidden says of the first load with more frames than the screen has refreshes that not all of
// them are due.
func hidden(d *logbook.Document) []string {
	for _, r := range d.Rungs {
		for _, a := range r.Counted() {
			if a.Frames != nil && a.Frames.Hidden > 0 {
				return []string{fmt.Sprintf("Note: a screen of %s Hz can show %d of the %d frames of %s; only those count as due.",
					cmp.Or(d.Route.Options["refresh_hz"], d.Device.Spec["refresh_hz"], "60"), a.Frames.Due, a.Frames.Due+a.Frames.Hidden, r.Load.Title())}
			}
		}
	}
	return nil
}

// oddities returns sentences about irregularities in attempts and in what servers sent, once each.
func oddities(d *logbook.Document) (lines []string) {
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			notes := a.Notes
			if a.Delivered != nil {
				notes = slices.Concat(notes, a.Delivered.Notes)
			}
			for _, note := range notes {
				if line := fmt.Sprintf("Note: %s: %s.", r.Load.Title(), note); !slices.Contains(lines, line) {
					lines = append(lines, line)
				}
			}
		}
	}
	return lines
}

// RemarkMarks are the shapes and words of remarks.
var RemarkMarks = map[logbook.RemarkKind]string{logbook.Note: "✎ note", logbook.Stutter: "≋ stutter seen", logbook.Picture: "▧ picture fault"}

// remarks returns people's remarks, in order of time.
func remarks(d *logbook.Document) Table {
	t := Table{Head: []string{"at", "load", "", ""}, Right: []int{0}}
	for _, r := range d.Remarks {
		said := []string{}
		if r.Text != "" {
			said = append(said, r.Text)
		}
		for _, quantity := range slices.Sorted(maps.Keys(r.Readings)) {
			said = append(said, quantity+" "+Value(quantity, r.Readings[quantity]))
		}
		t.Rows = append(t.Rows, Cells(fmt.Sprintf("%.1f s", r.AtS), r.Load, RemarkMarks[r.Kind], strings.Join(said, ", ")))
	}
	return t
}

// gaps returns the times in which sensors failed.
func gaps(d *logbook.Document) Table {
	t := Table{Head: []string{"source", "from", "to", "because"}, Right: []int{1, 2}}
	for _, g := range d.Gaps {
		to := "the end"
		if g.ToS != nil {
			to = fmt.Sprintf("%.1f s", *g.ToS)
		}
		t.Rows = append(t.Rows, Cells(g.Source, fmt.Sprintf("%.1f s", g.FromS), to, g.Reason))
	}
	return t
}

// anyAttempt reports whether something is true of any attempt.
func anyAttempt(d *logbook.Document, is func(logbook.Attempt) bool) bool {
	return slices.ContainsFunc(d.Rungs, func(r logbook.Rung) bool { return slices.ContainsFunc(r.Attempts, is) })
}
