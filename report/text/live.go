package text

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

// Live is the state of a run that a live view shows.
type Live struct {
	Title string // what is put on which device
	Time  string
	Left  string // how much time is left, "" where it is not known
	Rungs []LiveRung
	// Rung is the index of the rung that is tried, -1 for none; Doing is what the run does.
	Rung           int
	Doing          string
	Elapsed, Total time.Duration // of what is done now; Total is 0 where it is not known
	Frames         *tally.Frames // of the attempt so far; nil where there is none
	Seconds        []Second      // of the attempt so far
	Viewers        []tally.Standing
	Latest         map[sense.Identity]sense.Sample // by source
	Trace          *sense.Trace
	Limiter        string   // what the limiter would be called now, "" for none
	Said           []string // the last remarks and warnings
	Foot           string
}

// LiveRung is one rung with the verdicts of its attempts so far.
type LiveRung struct {
	Title    string
	Verdicts []verdict.Grade
	Result   string // of the last attempt, in a few words
}

// Second counts the frames of one second of an attempt.
type Second struct{ Due, Dropped int }

// clean makes all texts from outside printable.
func (l *Live) clean() *Live {
	c := *l
	c.Title, c.Doing, c.Limiter, c.Foot = model.Printable(l.Title), model.Printable(l.Doing), model.Printable(l.Limiter), model.Printable(l.Foot)
	c.Rungs, c.Latest, c.Said = model.Clean(l.Rungs), model.Clean(l.Latest), model.Clean(l.Said)
	return &c
}

// Live draws a run while it goes on: the ladder with its verdicts at the left, and beside it the
// rung that is tried, with frames, readings and viewers as they move.
func (s Style) Live(l *Live, width, height int) string {
	l = l.clean()
	width, height = max(width, 40), max(height, 10)
	head := cut(s.Bold(l.Title), max(0, width-len(l.Time)-len(l.Left)-4))
	if l.Left != "" {
		head += "  " + l.Left
	}
	head += s.Faint("  " + l.Time)
	room := height - 3
	leftWidth := min(max(26, width/3), 48)
	rungs := s.liveRungs(l, leftWidth, room)
	now := s.liveNow(l, width-leftWidth-2, room)
	lines := []string{head, ""}
	for i := range room {
		left, right := "", ""
		if i < len(rungs) {
			left = rungs[i]
		}
		if i < len(now) {
			right = now[i]
		}
		lines = append(lines, cut(left, leftWidth)+"  "+right)
	}
	lines = append(lines, s.Faint(l.Foot))
	for i := range lines {
		lines[i] = strings.TrimRight(cut(lines[i], width), " ")
	}
	return strings.Join(lines, "\n")
}

// liveRungs draws the ladder, hardest rung last, with the rung that is tried always in view.
func (s Style) liveRungs(l *Live, width, height int) (lines []string) {
	first := 0
	if len(l.Rungs) > height {
		first = max(0, min(l.Rung-height/2, len(l.Rungs)-height))
	}
	for i, r := range l.Rungs[first:min(len(l.Rungs), first+height)] {
		shapes := ""
		for _, g := range r.Verdicts[max(0, len(r.Verdicts)-3):] {
			shapes += s.paint(gradeColors[g], model.Shapes[g])
		}
		pointer, title := "  ", text.Trim(r.Title, width-7)
		if first+i == l.Rung {
			pointer, title = "▶ ", s.Bold(title)
		} else if len(r.Verdicts) == 0 {
			title = s.Faint(title)
		}
		line := pointer + shapes + strings.Repeat(" ", max(0, 4-len(r.Verdicts))) + title
		if free := width - text.RuneWidthWithoutEscSequences(line) - 2; free >= len(r.Result) {
			line += strings.Repeat(" ", free-len(r.Result)+2) + s.Faint(r.Result)
		}
		lines = append(lines, line)
	}
	return lines
}

// liveNow draws what goes on: what is done, its frames, the readings that matter, the viewers.
func (s Style) liveNow(l *Live, width, height int) (lines []string) {
	lines = append(lines, text.Trim(s.Bold(l.Doing), width))
	if l.Total > 0 {
		const bar = 24
		n := int(float64(bar) * min(1, l.Elapsed.Seconds()/l.Total.Seconds()))
		lines = append(lines, strings.Repeat("━", n)+s.Faint(strings.Repeat("─", bar-n))+fmt.Sprintf(" %.0f of %.0f s", min(l.Elapsed, l.Total).Seconds(), l.Total.Seconds()))
	} else {
		lines = append(lines, "")
	}
	if f := l.Frames; f != nil && f.Due > 0 { // viewers of a server play a clock, without frames
		lines = append(lines, fmt.Sprintf("%-12sdue %d  shown %d  dropped %s", "frames", f.Due, f.Shown, s.droppedCount(f.Dropped)))
		lines = append(lines, fmt.Sprintf("%-12s%s", "each second", s.seconds(l.Seconds, width-12)))
	}
	lines = append(lines, "")
	values := (&Watched{Latest: l.Latest}).values()
	for _, g := range liveGauges(values) {
		if len(lines) < height-2 {
			lines = append(lines, s.gauge(&g, l.Trace, width))
		}
	}
	if l.Limiter != "" {
		lines = append(lines, "")
		for line := range strings.SplitSeq(Style{Width: width}.Wrap("▲ "+l.Limiter), "\n") {
			lines = append(lines, s.paint(text.FgYellow, line))
		}
	}
	for _, v := range s.Viewers(l.Viewers) {
		lines = append(lines, strings.TrimPrefix(v, "  "))
	}
	if len(l.Said) > 0 {
		lines = append(lines, "")
	}
	for _, said := range l.Said[max(0, len(l.Said)-3):] {
		lines = append(lines, strings.Split(Style{Width: width}.Wrap(said), "\n")...)
	}
	for i := range lines {
		lines[i] = cut(lines[i], width)
	}
	return lines[:min(len(lines), height)]
}

func (s Style) droppedCount(n int) string {
	if n == 0 {
		return "0"
	}
	return s.paint(text.FgHiRed, fmt.Sprint(n))
}

// seconds draws a mark for each of the last seconds: a dot where nothing was dropped, else a
// block as high as the share that was.
func (s Style) seconds(list []Second, width int) string {
	var b strings.Builder
	for _, second := range list[max(0, len(list)-max(width, 0)):] {
		switch {
		case second.Due == 0:
			b.WriteString(" ")
		case second.Dropped == 0:
			b.WriteString(s.paint(text.FgGreen, "·"))
		default:
			b.WriteString(s.paint(text.FgHiRed, string(block(float64(second.Dropped)/float64(second.Due)))))
		}
	}
	return b.String()
}

// liveGauges returns the gauges that matter during a run, the most important first.
func liveGauges(values map[string]float64) (list []gauge) {
	all := gauges(values)
	for _, name := range []string{"all cores", "watched", "top thread", "decoder", "encoder", "memory", "watched mem", "heat", "power", "wall power", "link", "disk"} {
		if i := slices.IndexFunc(all, func(g gauge) bool { return g.name == name }); i >= 0 {
			list = append(list, all[i])
		}
	}
	return list
}

// LimiterNow is what the limiter would be called by the readings of the last seconds, "" for
// none.
func LimiterNow(l verdict.Limiter, evidence string) string {
	if l == verdict.Unknown || l == "" {
		return ""
	}
	return model.LimiterWords(l) + ": " + evidence
}
