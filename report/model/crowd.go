package model

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

var crowdView = view{
	what: func(d *logbook.Document) string { return mixWords(d.Plan.Crowd.Mix) }, rung: "number", table: crowdTable,
	sentences: func(d *logbook.Document) []string {
		if d.Crowd == nil {
			return nil
		}
		return crowdSentences(d)
	},
}

// crowdTable returns a table with one row for each attempt, by rising number.
func crowdTable(d *logbook.Document) Table {
	per := 0
	for _, l := range d.Plan.Crowd.Mix {
		per += l.Streams
	}
	byNumber := make([]int, len(d.Rungs))
	for i := range byNumber {
		byNumber[i] = i
	}
	numbers := d.Plan.Crowd.Numbers
	slices.SortFunc(byNumber, func(a, b int) int { return cmp.Compare(numbers[a], numbers[b]) })
	buffered := anyAttempt(d, func(a logbook.Attempt) bool { return a.Buffer != nil })
	t := Table{Head: []string{"streams", "verdict", "dropped", "freeze", "CPU", "memory", "next costs"}, Right: []int{0, 2, 3, 4, 5, 6, 7, 8}}
	if buffered {
		t.Head = []string{"streams", "verdict", "start", "stalls", "least lead", "build", "CPU", "memory", "next costs"}
	}
	idle := idleUse(d)
	for _, i := range byNumber {
		for k := range d.Rungs[i].Attempts {
			a, name := &d.Rungs[i].Attempts[k], Cell{Text: fmt.Sprint(numbers[i] * per)}
			if k > 0 {
				name = Cell{Text: "again", Faint: true}
			}
			cells := bufferedCells(a)
			if !buffered {
				cells = attemptCells(a)
				cells[3].Text = meanCPU(a)
			}
			t.Rows = append(t.Rows, append(append([]Cell{name}, cells...), Cell{Text: nextCosts(*a, idle, numbers[i])}))
		}
	}
	return t
}

// idleUse returns the mean readings of the idle device.
func idleUse(d *logbook.Document) map[string]float64 {
	sum, n := map[string]float64{}, map[string]float64{}
	for _, r := range d.Baseline.Readings {
		sum[r.Quantity] += r.Value
		n[r.Quantity]++
	}
	for q := range sum {
		sum[q] /= n[q]
	}
	return sum
}

// crowdSentences state the result of a crowd.
func crowdSentences(d *logbook.Document) (lines []string) {
	c, p := d.Crowd, d.Plan.Crowd
	unit := func(n int) string {
		if len(p.Mix) > 1 {
			return fmt.Sprintf("%s the mix", times(n))
		}
		return Plural(n*p.Mix[0].Streams, "stream")
	}
	var b strings.Builder
	confirmed := "not confirmed yet"
	if c.Confirmed {
		confirmed = "confirmed"
	}
	switch {
	case c.Highest == 0 && c.Next == 0:
		return []string{"No number could be tried."}
	case c.Highest == 0:
		fmt.Fprintf(&b, "Not even %s plays smoothly (%s).", unit(1), c.NextVerdict)
	case c.Next == 0 && c.Highest == p.Most:
		fmt.Fprintf(&b, "%s play smoothly for every viewer, %s; more were not tried, so the device's limit was not reached.", capital(unit(c.Highest)), confirmed)
	case c.Next == 0:
		fmt.Fprintf(&b, "%s play smoothly for every viewer, %s; larger numbers are still to be tried.", capital(unit(c.Highest)), confirmed)
	default:
		fmt.Fprintf(&b, "The highest number that is smooth for every viewer is %s, %s; %s %s.", unit(c.Highest), confirmed, unit(c.Next), wereFound(c.NextVerdict))
	}
	switch c.Limiter {
	case "":
	case verdict.Viewer:
		fmt.Fprintf(&b, " The bottleneck was our own side: %s. So the device's limit was not reached.", c.Evidence)
	case verdict.Unknown:
		fmt.Fprintf(&b, " Why: not known; %s.", c.Evidence)
	case verdict.Refused:
		b.WriteString(refusal(c.NextReason))
	default:
		fmt.Fprintf(&b, " What ran out: %s (%s).", c.Limiter, c.Evidence)
	}
	lines = append(lines, b.String())
	if c.Highest > 0 {
		lines = append(lines, comfort(c, p, unit))
	}
	if c.Predicted != nil && c.Highest > 0 {
		then := ""
		if l := c.Predicted.Limiter; l != verdict.Unknown {
			then = fmt.Sprintf(", then %s runs out", l)
		}
		found := unit(c.Highest)
		if c.Next == 0 {
			found += " at least"
		}
		lines = append(lines, fmt.Sprintf("Predicted at %s: room for %s%s. Found: %s.", unit(c.Predicted.From), unit(c.Predicted.Number), then, found))
	}
	if c.Met != nil {
		lines = append(lines, need(c, p, unit))
	}
	return lines
}

// need states whether the need is met, and whether the reserve is left then.
func need(c *logbook.Crowd, p *logbook.CrowdPlan, unit func(int) string) string {
	switch {
	case !*c.Met:
		return fmt.Sprintf("The need of %s is not met.", unit(p.Need))
	case c.WithReserve == nil:
		return fmt.Sprintf("The need of %s is met; whether the reserve of %g %% is left then is not known.", unit(p.Need), p.ReservePct)
	case !*c.WithReserve:
		return fmt.Sprintf("The need of %s is met, without the reserve of %g %%.", unit(p.Need), p.ReservePct)
	}
	return fmt.Sprintf("The need of %s is met, and the reserve of %g %% is left.", unit(p.Need), p.ReservePct)
}

// comfort states which number is comfortable.
func comfort(c *logbook.Crowd, p *logbook.CrowdPlan, unit func(int) string) string {
	limiter := c.Limiter
	if c.Predicted != nil && (limiter == "" || limiter == verdict.Unknown || limiter == verdict.Refused) {
		limiter = c.Predicted.Limiter
	}
	switch {
	case c.Comfortable == nil:
		return fmt.Sprintf("Which number is comfortable is not known: %s.", cmp.Or(c.ComfortableWhy, "too little was measured"))
	case *c.Comfortable == 0:
		return fmt.Sprintf("None is comfortable: even one leaves less than %g %% free.", p.ReservePct)
	}
	of := "to spare"
	if limiter != "" && limiter != verdict.Unknown {
		of = fmt.Sprintf("of the %s free", limiter)
	}
	beyond := ""
	if *c.Comfortable > c.Highest {
		beyond = fmt.Sprintf(" by its readings (%s were tried)", unit(c.Highest))
	}
	return fmt.Sprintf("Comfortable: %s%s, which leaves %g %% %s.", unit(*c.Comfortable), beyond, p.ReservePct, of)
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func wereFound(g verdict.Grade) string {
	if g == verdict.Failed {
		return "failed"
	}
	return "were " + string(g)
}

// nextCosts returns what one more of the mix takes in real time, judged by an attempt. A device
// that works ahead of its viewers does the work of more of them.
func nextCosts(a logbook.Attempt, idle map[string]float64, number int) string {
	var parts []string
	ahead := 1.0
	if pace, known := a.Buffer.Pace(); known {
		ahead = max(1, pace)
	}
	each := func(quantity string, scale float64) (float64, bool) {
		u, known := a.Use[quantity]
		return scale * (u.Mean - idle[quantity]) / float64(number), known
	}
	if v, known := each(sense.GroupCPU, 1/ahead); known && v > 0 {
		parts = append(parts, fmt.Sprintf("%.0f %% of a core", v))
	} else if v, known := each(sense.CPU, float64(a.Use.Cores())/ahead); known && v > 0 {
		parts = append(parts, fmt.Sprintf("%.0f %% of a core", v))
	}
	for _, q := range []string{sense.GroupMem, sense.MemUsed} {
		if v, known := each(q, 1); known && v > 0 {
			parts = append(parts, Bytes(v))
			break
		}
	}
	if parts == nil {
		return "-"
	}
	return strings.Join(parts, ", ")
}

// mixWords returns what a crowd consists of.
func mixWords(mix []load.Load) string {
	words := make([]string, len(mix))
	for i, l := range mix {
		words[i] = l.Title()
	}
	return strings.Join(words, " + ")
}
