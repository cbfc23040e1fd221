package text

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/logbook"
	"vividstrain/report/model"
)

// Remark draws one remark on a line.
func (s Style) Remark(r logbook.Remark) string {
	r = clean(r)
	return strings.TrimSpace(fmt.Sprintf("%s %s", s.Bold(model.RemarkMarks[r.Kind]), r.Text))
}

// padded fills a drawn verdict up to n columns; word is its visible text without the shape.
func padded(drawn, word string, n int) string {
	return drawn + strings.Repeat(" ", max(0, n-2-len(word)))
}

// Warning draws what makes a result doubtful.
func (s Style) Warning(t string) string {
	return s.paint(text.FgYellow, "◐ Warning: ") + Printable(t) + "."
}

// Run draws a whole run: its header, the table of its rungs, and its sentences.
func (s Style) Run(r *model.Run) string {
	r = clean(r)
	if r.Rung == "" {
		return s.readings(r)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s on %s: %s of %s, route %s\n", s.Bold("Run "+r.ID), r.Device, r.Kind, r.What, r.Route)
	if r.IdleMemory != nil {
		fmt.Fprintf(&b, "Idle: CPU %.1f %%, memory %s.\n", *r.IdleCPUPct, model.Bytes(*r.IdleMemory))
	}
	fmt.Fprintf(&b, "Each %s held for %g s, the first %g s not judged.\n\n", r.Rung, r.HoldS, r.SettleS)
	if len(r.Rungs.Rows) == 0 {
		b.WriteString("No attempt has ended yet.\n")
	} else {
		b.WriteString(s.Draw(r.Rungs))
	}
	b.WriteString("\n")
	switch r.State {
	case model.Running:
		b.WriteString("This run still goes on.\n")
	case model.Interrupted:
		b.WriteString(s.Wrap(fmt.Sprintf("This run was interrupted after %s; what was measured is kept. \"vividstrain %s --resume %s\" goes on.",
			model.Plural(r.Attempts, "attempt"), r.Kind, r.ID)) + "\n")
	}
	for _, line := range r.Sentences {
		b.WriteString(s.Wrap(line) + "\n")
	}
	return b.String() + s.notes(r)
}

// readings draws readings without rungs.
func (s Style) readings(r *model.Run) string {
	out := fmt.Sprintf("%s on %s\n\n", s.Bold("Readings "+r.ID), r.Device)
	if len(r.Series) == 0 {
		return out + "Nothing was read.\n"
	}
	return out + s.Draw(model.Quantities(r.Series)) + s.notes(r)
}

// notes draws people's remarks, and the times in which sensors failed.
func (s Style) notes(r *model.Run) (out string) {
	if len(r.Remarks.Rows) > 0 {
		out += "\nNoted by hand:\n" + s.Draw(r.Remarks)
	}
	if len(r.Gaps.Rows) > 0 {
		out += "\nSensors that failed:\n" + s.Draw(r.Gaps)
	}
	return out
}

// Line is one attempt on a line, for progress; the load is width columns wide.
func (s Style) Line(load string, width int, a logbook.Attempt) string {
	a, load = clean(a), Printable(load)
	return fmt.Sprintf("%-*s %s", width, load, padded(s.Grade(a.Verdict), string(a.Verdict), 10)) + model.AttemptLine(&a)
}

// Runs draws a list of runs.
func (s Style) Runs(t model.Table) string {
	if len(t.Rows) == 0 {
		return "The logbook holds no runs yet; \"vividstrain climb\" makes one.\n"
	}
	return s.Draw(t)
}
