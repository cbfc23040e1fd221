package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// Run draws a whole run: what it was, the table of its rungs, and what it says.
// Running tells whether it still goes on.
func (s Style) Run(d *logbook.Document, running bool) string {
	d = clean(d)
	if d.Kind == "watch" {
		return s.watched(d)
	}
	var b strings.Builder
	what, each, table := d.Ladder, "rung", s.rungs
	if d.Plan.Crowd != nil {
		what, each, table = mixWords(d.Plan.Crowd.Mix), "number", s.crowd
	}
	fmt.Fprintf(&b, "%s on %s: %s of %s, route %s\n", s.Bold("Run "+d.ID), d.Device.Name, d.Kind, what, d.Route.Kind)
	if d.Plan.BaselineS > 0 && d.Baseline.MemUsed > 0 {
		fmt.Fprintf(&b, "Idle: CPU %.1f %%, memory %s.\n", d.Baseline.CPUPct, bytes(d.Baseline.MemUsed))
	}
	fmt.Fprintf(&b, "Each %s held for %g s, the first %g s not judged.\n\n", each, d.Plan.HoldS, d.Plan.SettleS)
	b.WriteString(table(d))
	b.WriteString("\n")
	switch {
	case d.Complete:
	case running:
		b.WriteString("This run still goes on.\n")
	default:
		b.WriteString(s.Wrap(fmt.Sprintf("This run was interrupted after %s; what was measured is kept. \"vividstrain %s --resume %s\" goes on.",
			plural(d.Attempts(), "attempt"), d.Kind, d.ID)) + "\n")
	}
	for _, line := range Conclusions(d) {
		b.WriteString(s.Wrap(line) + "\n")
	}
	b.WriteString(s.remarks(d))
	b.WriteString(s.gaps(d))
	return b.String()
}

// watched draws readings without rungs: each quantity over the whole time.
func (s Style) watched(d *logbook.Document) string {
	var rows [][]string
	values := map[string][]float64{}
	for _, r := range d.Baseline.Readings {
		values[r.Quantity] = append(values[r.Quantity], r.Value)
	}
	for _, key := range slices.Sorted(maps.Keys(values)) {
		list := values[key]
		sum := 0.0
		for _, v := range list {
			sum += v
		}
		rows = append(rows, []string{key, Value(key, sum/float64(len(list))), Value(key, slices.Min(list)), Value(key, slices.Max(list)), fmt.Sprint(len(list))})
	}
	out := fmt.Sprintf("%s on %s\n\n", s.Bold("Readings "+d.ID), d.Device.Name)
	if rows == nil {
		return out + "Nothing was read.\n"
	}
	return out + s.Table([]string{"quantity", "mean", "least", "most", "readings"}, rows, 1, 2, 3, 4) + s.remarks(d) + s.gaps(d)
}

// remarkMarks are the shapes of remarks.
var remarkMarks = map[logbook.RemarkKind]string{logbook.Note: "✎ note", logbook.Stutter: "≋ stutter seen", logbook.Picture: "▧ picture fault"}

// Remark is one remark on a line.
func (s Style) Remark(r logbook.Remark) string {
	r = clean(r)
	return strings.TrimSpace(fmt.Sprintf("%s %s", s.Bold(remarkMarks[r.Kind]), r.Text))
}

// remarks draws what people noted, by its time.
func (s Style) remarks(d *logbook.Document) string {
	var rows [][]string
	for _, r := range d.Remarks {
		said := []string{}
		if r.Text != "" {
			said = append(said, r.Text)
		}
		for _, quantity := range slices.Sorted(maps.Keys(r.Readings)) {
			said = append(said, quantity+" "+Value(quantity, r.Readings[quantity]))
		}
		rows = append(rows, []string{fmt.Sprintf("%.1f s", r.AtS), r.Load, remarkMarks[r.Kind], strings.Join(said, ", ")})
	}
	if rows == nil {
		return ""
	}
	return "\nNoted by hand:\n" + s.Table([]string{"at", "load", "", ""}, rows, 0)
}

// gaps draws the times in which sensors gave nothing.
func (s Style) gaps(d *logbook.Document) string {
	var rows [][]string
	for _, g := range d.Gaps {
		to := "the end"
		if g.ToS != nil {
			to = fmt.Sprintf("%.1f s", *g.ToS)
		}
		rows = append(rows, []string{g.Source, fmt.Sprintf("%.1f s", g.FromS), to, g.Reason})
	}
	if rows == nil {
		return ""
	}
	return "\nSensors that gave nothing:\n" + s.Table([]string{"source", "from", "to", "because"}, rows, 1, 2)
}

// rungs draws one line for each attempt.
func (s Style) rungs(d *logbook.Document) string {
	head := []string{"load", "verdict", "dropped", "freeze", "CPU mean/p95", "memory"}
	buffered := anyAttempt(d, func(a logbook.Attempt) bool { return a.Buffer != nil })
	delivered := anyAttempt(d, func(a logbook.Attempt) bool { return a.Delivered != nil })
	if buffered {
		head = []string{"load", "verdict", "start", "stalls", "least lead", "build", "CPU", "memory"}
	}
	if delivered {
		head = append(head, "arrived")
	}
	var rows [][]string
	for _, r := range d.Rungs {
		for i, a := range r.Attempts {
			name := r.Load.Title()
			if i > 0 {
				name = s.Faint("  again")
			}
			cells := s.attempt(a)
			if buffered {
				cells = s.buffered(a)
			}
			if delivered {
				cells = append(cells, arrived(a.Delivered))
			}
			rows = append(rows, append([]string{name}, cells...))
		}
	}
	if rows == nil {
		return "No attempt has ended yet.\n"
	}
	return s.Table(head, rows, 2, 3, 4, 5, 6, 7)
}

// anyAttempt tells whether something is true of any attempt.
func anyAttempt(d *logbook.Document, is func(logbook.Attempt) bool) bool {
	return slices.ContainsFunc(d.Rungs, func(r logbook.Rung) bool { return slices.ContainsFunc(r.Attempts, is) })
}

// arrived says what a server sent.
func arrived(d *tally.Delivered) string {
	if d == nil || d.Treatment == "" {
		return "-"
	}
	return d.Treatment + " " + media.ShortBitrate(d.Bitrate)
}

// oddities are what was odd about what servers sent, once each, and how long
// jumps took.
func oddities(d *logbook.Document) (lines []string) {
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			if a.Delivered != nil {
				for _, note := range a.Delivered.Notes {
					if line := fmt.Sprintf("Note: %s: %s.", r.Load.Title(), note); !slices.Contains(lines, line) {
						lines = append(lines, line)
					}
				}
			}
			if a.Buffer != nil && len(a.Buffer.JumpDelaysS) > 0 {
				words := make([]string, len(a.Buffer.JumpDelaysS))
				for i, s := range a.Buffer.JumpDelaysS {
					words[i] = fmt.Sprintf("%.1f", s)
				}
				lines = append(lines, fmt.Sprintf("Jumps in %s: the first picture came after %s s.", r.Load.Title(), strings.Join(words, ", ")))
			}
		}
	}
	return lines
}

// buffered is the cells of an attempt in a table of those to which media arrive
// ahead of their playing.
func (s Style) buffered(a logbook.Attempt) []string {
	plain := s.attempt(a)
	cells := []string{plain[0], "-", "-", "-", "-", meanCPU(a), plain[4]}
	if b := a.Buffer; b != nil && len(a.Windows) > 0 {
		cells[1], cells[2], cells[3], cells[4] = fmt.Sprintf("%.1f s", b.StartDelayS), "none", fmt.Sprintf("%.1f s", b.MinLeadS), buildRate(*b)
		if b.Stalls > 0 {
			cells[2] = fmt.Sprintf("%d, %.1f s", b.Stalls, b.StallS)
		}
	}
	return cells
}

// meanCPU is the mean load of all cores.
func meanCPU(a logbook.Attempt) string {
	cpu, known := a.Use[sense.CPU]
	if !known {
		return "-"
	}
	return fmt.Sprintf("%.0f %%", cpu.Mean)
}

// attempt is the cells of one attempt behind its load.
func (s Style) attempt(a logbook.Attempt) []string {
	cells := []string{s.Grade(a.Verdict), "-", "-", "-", "-"}
	if a.FramesDue() > 0 {
		cells[1] = fmt.Sprintf("%d of %d", a.Frames.Dropped, a.Frames.Due)
		cells[2] = "none"
		if a.Frames.Freezes > 0 {
			cells[2] = fmt.Sprintf("%.0f ms", a.Frames.LongestFreezeMS)
		}
	}
	if cpu, known := a.Use[sense.CPU]; known {
		cells[3] = fmt.Sprintf("%.0f/%.0f %%", cpu.Mean, cpu.P95)
	}
	for _, quantity := range []string{sense.GroupMem, sense.MemUsed} {
		if m, known := a.Use[quantity]; known {
			cells[4] = bytes(m.Max)
			break
		}
	}
	return cells
}

// Line is one attempt on a line, for progress; the load is width columns wide.
func (s Style) Line(load string, width int, a logbook.Attempt) string {
	a, load = clean(a), Printable(load)
	cells := s.attempt(a)
	line := fmt.Sprintf("%-*s %s", width, load, padded(cells[0], string(a.Verdict), 10))
	switch {
	case a.Buffer != nil && len(a.Windows) > 0:
		b := s.buffered(a)
		line += fmt.Sprintf("  stalls %s, least lead %s, build rate %s, CPU %s", b[2], b[3], b[4], b[5])
	case a.FramesDue() > 0:
		line += fmt.Sprintf("  %s dropped, CPU %s", cells[1], cells[3])
	}
	if a.Verdict != verdict.Smooth && len(a.Reasons) > 0 && (a.FramesDue() == 0 || a.Verdict == verdict.Void) {
		line += "  " + a.Reasons[0]
	}
	return line
}

// padded fills a drawn verdict up to n columns; word is its visible text
// without the shape.
func padded(drawn, word string, n int) string {
	return drawn + strings.Repeat(" ", max(0, n-2-len(word)))
}

// Warning draws what makes a result doubtful.
func (s Style) Warning(t string) string {
	return s.paint(text.FgYellow, "◐ Warning: ") + Printable(t) + "."
}

// Conclusions are the sentences that a run comes down to.
func Conclusions(d *logbook.Document) (lines []string) {
	d = clean(d)
	if d.Crowd != nil && d.Attempts() > 0 {
		lines = append(lines, crowdSentences(d)...)
	} else if d.Ceiling != nil && d.Attempts() > 0 {
		for _, c := range d.Ceiling.Columns {
			prefix := ""
			if len(d.Ceiling.Columns) > 1 {
				prefix = c.Column + ": "
			}
			lines = append(lines, prefix+sentence(c))
		}
	}
	for _, n := range d.Notes {
		lines = append(lines, "Note: "+n+".")
	}
	return append(lines, oddities(d)...)
}

// sentence says what a column comes down to.
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

// room says how many streams of the ceiling's load fit, if more than were played.
func room(c logbook.ColumnCeiling) string {
	if c.Room == nil || c.Load == nil || c.Room.Streams <= c.Load.Streams {
		return ""
	}
	return fmt.Sprintf(" By its readings it has room for %d such streams at once; then %s runs out (%s).", c.Room.Streams, c.Room.Limiter, c.Room.Evidence)
}

// refusal is the sentence on a load that a device would not even try.
func refusal(reason string) string {
	return " It was refused: " + strings.TrimPrefix(reason, "it refused: ") + "."
}

func wasFound(g verdict.Grade) string {
	if g == verdict.Failed {
		return "failed"
	}
	return "was " + string(g)
}

// Runs lists runs, one on a line. Running tells whether the newest, if it is not
// complete, still goes on.
func (s Style) Runs(entries []logbook.Entry, running bool) string {
	if len(entries) == 0 {
		return "The logbook holds no runs yet; \"vividstrain climb\" makes one.\n"
	}
	rows := make([][]string, len(entries))
	for i, e := range clean(entries) {
		state, ceiling := "complete", "-"
		if !e.Complete {
			state = "interrupted"
			if i == 0 && running {
				state = "running"
			}
		}
		switch {
		case e.Ceiling == nil:
		case e.Ceiling.Load != nil:
			ceiling = e.Ceiling.Load.String()
		case e.Ceiling.Next != nil:
			ceiling = "none smooth"
		}
		rows[i] = []string{e.ID, e.Kind, e.Device.Name, e.Ladder, state, ceiling}
	}
	return s.Table([]string{"run", "kind", "device", "ladder", "state", "ceiling"}, rows)
}

// Compare draws the results of several runs of one ladder side by side.
func (s Style) Compare(docs []*logbook.Document) string {
	docs = clean(docs)
	head := []string{""}
	for _, d := range docs {
		head = append(head, d.Device.Name)
	}
	var rows [][]string
	row := func(name string, cell func(d *logbook.Document) string) {
		cells := []string{name}
		for _, d := range docs {
			cells = append(cells, cell(d))
		}
		rows = append(rows, cells)
	}
	for i, r := range docs[0].Rungs {
		row(r.Load.String(), func(d *logbook.Document) string {
			switch {
			case i >= len(d.Rungs) || len(d.Rungs[i].Attempts) == 0:
				return s.Faint("not tried")
			case len(d.Rungs[i].Counted()) == 0:
				return s.Grade(verdict.Void)
			}
			return s.Grade(majority(d.Rungs[i].Counted()))
		})
	}
	row("ceiling", func(d *logbook.Document) string {
		switch {
		case d.Ceiling == nil || d.Ceiling.Load == nil && d.Ceiling.Next == nil:
			return "not known"
		case d.Ceiling.Load == nil:
			return "none"
		}
		return s.Bold(d.Ceiling.Load.String())
	})
	row("ran out", func(d *logbook.Document) string {
		switch {
		case d.Ceiling == nil || d.Ceiling.Limiter == "" && (!d.Ceiling.LadderEnd || len(d.Ceiling.Untried) > 0):
			return "not known"
		case d.Ceiling.Limiter == "":
			return "nothing"
		}
		return string(d.Ceiling.Limiter)
	})
	row("headroom", func(d *logbook.Document) string {
		if d.Ceiling == nil || d.Ceiling.Headroom == nil {
			return "-"
		}
		return fmt.Sprintf("%.0f %%", *d.Ceiling.Headroom)
	})
	return s.Table(head, rows)
}

// majority is the verdict of most attempts in the sense of smooth or not, and
// of those the first.
func majority(attempts []logbook.Attempt) verdict.Grade {
	smooth := make([]bool, len(attempts))
	for i, a := range attempts {
		smooth[i] = a.Verdict == verdict.Smooth
	}
	most := search.Majority(smooth)
	return attempts[slices.Index(smooth, most)].Verdict
}
