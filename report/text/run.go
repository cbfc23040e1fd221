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
	r = model.Clean(r)
	return strings.TrimSpace(fmt.Sprintf("%s %s", s.Bold(model.RemarkMarks[r.Kind]), r.Text))
}

// padded fills a drawn verdict up to n columns; word is its visible text without the shape.
func padded(drawn, word string, n int) string {
	return drawn + strings.Repeat(" ", max(0, n-2-len(word)))
}

// Warning draws what makes a result doubtful.
func (s Style) Warning(t string) string {
	return s.paint(text.FgYellow, "◐ Warning: ") + model.Printable(t) + "."
}

// Run draws a whole run: the answer, the table of its attempts, what else is to be known, and
// whose run it is.
func (s Style) Run(r *model.Run) string {
	r = model.Clean(r)
	if r.Rung == "" {
		return s.readings(r)
	}
	out := s.Answer(r.Answer)
	switch r.State {
	case model.Running:
		out += "This run still goes on.\n"
	case model.Interrupted:
		out += s.Wrap(fmt.Sprintf("This run was interrupted after %s; what was measured is kept. \"vividstrain %s --resume %s\" goes on.",
			model.Plural(r.Attempts, "attempt"), r.Kind, r.ID)) + "\n"
	}
	if len(r.Rungs.Rows) == 0 {
		out += "No attempt has ended yet.\n"
	} else {
		out += "\n" + s.Draw(r.Rungs)
	}
	if len(r.Promises.Rows) > 0 {
		out += "\nWhat the device says of each format beforehand, and what it did:\n" + s.Draw(r.Promises)
	}
	if len(r.Early.Rows) > 0 {
		out += "\nDropped frames of the first seconds, settling included:\n" + s.Draw(r.Early)
	}
	if len(r.Jumps.Rows) > 0 {
		out += "\nJumps, to the first picture after each:\n" + s.Draw(r.Jumps)
	}
	out += "\n"
	for _, line := range r.Notes {
		out += s.Wrap(line) + "\n"
	}
	return out + s.notes(r) + s.whose(r)
}

// aboutWidth is the width of the words before the lines of an answer.
const aboutWidth = 14

// Answer draws the lines of an answer, each with what it is about before it.
func (s Style) Answer(lines []model.Line) (out string) {
	for _, l := range model.Clean(lines) {
		if l.About == "" {
			out += s.Bold(s.Wrap(l.Text)) + "\n"
			continue
		}
		narrow := s
		narrow.Width = s.width() - aboutWidth
		text := strings.ReplaceAll(narrow.Wrap(l.Text), "\n", "\n"+strings.Repeat(" ", aboutWidth))
		out += "  " + s.Faint(fmt.Sprintf("%-*s", aboutWidth-2, l.About)) + text + "\n"
	}
	return out
}

// whose says which run it was, on which device, and how it was made.
func (s Style) whose(r *model.Run) string {
	route := ""
	if r.Route != "none" {
		route = ", route " + r.Route
	}
	out := s.Wrap(strings.TrimSpace(fmt.Sprintf("Run %s: %s of %s on %s%s. %s", r.ID, r.Kind, r.What, r.Device, route, r.How))) + "\n"
	about := r.Device + ": " + r.About + "."
	if r.About == r.Device || r.About == "" {
		about = r.Device + "."
	}
	if r.IdleMemory != nil {
		about += fmt.Sprintf(" Idle: all cores %.0f %%, memory %s.", *r.IdleCPUPct, model.Bytes(*r.IdleMemory))
	}
	if about == r.Device+"." {
		return out
	}
	return out + s.Faint(s.Wrap(about)) + "\n"
}

// readings draws readings without rungs.
func (s Style) readings(r *model.Run) string {
	out := fmt.Sprintf("%s on %s\n", s.Bold("Readings "+r.ID), r.Device)
	if r.About != "" {
		out += s.Faint(s.Wrap(r.About+".")) + "\n"
	}
	out += "\n"
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
	a, load = model.Clean(a), model.Printable(load)
	return fmt.Sprintf("%-*s %s", width, load, padded(s.Grade(a.Verdict), string(a.Verdict), 10)) + model.AttemptLine(&a)
}

// Runs draws a list of runs.
func (s Style) Runs(t model.Table) string {
	if len(t.Rows) == 0 {
		return "The logbook holds no runs yet; \"vividstrain climb\" makes one.\n"
	}
	return s.Draw(t)
}
