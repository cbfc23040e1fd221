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
	what: func(d *logbook.Document) string { return mixWords(d.Plan.Crowd.Mix) }, rung: "number", answer: crowdAnswer,
	table: func(d *logbook.Document, choice Choice) Table {
		per := 0
		for _, l := range d.Plan.Crowd.Mix {
			per += l.Streams
		}
		numbers := d.Plan.Crowd.Numbers
		var rungs []namedRung
		for _, i := range risingRungs(d) {
			rungs = append(rungs, namedRung{fmt.Sprint(numbers[i] * per), &d.Rungs[i]})
		}
		return attemptTable(d, choice, "streams", "again", rungs)
	},
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

// crowdAnswer returns how many streams a device plays, why no more, and which number is
// comfortable.
func crowdAnswer(d *logbook.Document) (lines []Line) {
	if d.Crowd == nil || d.Attempts() == 0 {
		return nil
	}
	c, p := d.Crowd, d.Plan.Crowd
	unit := func(n int) string {
		if len(p.Mix) > 1 {
			return fmt.Sprintf("%s the mix", times(n))
		}
		return Plural(n*p.Mix[0].Streams, "stream")
	}
	sure := ", not confirmed by a second try"
	if c.Confirmed {
		sure = ""
	}
	of := " of " + mixWords(p.Mix)
	switch {
	case c.Highest == 0 && c.Next == 0:
		return []Line{{"", "No number could be tried."}}
	case c.Highest == 0:
		lines = append(lines, Line{"", fmt.Sprintf("%s does not even play %s%s smoothly.", subject(d), unit(1), of)})
	default:
		lines = append(lines, Line{"", fmt.Sprintf("%s plays %s%s smoothly for every viewer%s.", subject(d), unit(c.Highest), of, sure)})
		i := slices.Index(p.Numbers, c.Highest)
		if i >= 0 {
			lines = append(lines, Line{"tries", tries(&d.Rungs[i])})
		}
	}
	switch {
	case c.Next > 0:
		text := unit(c.Next) + " " + wereFound(c.NextVerdict)
		if c.NextReason != "" && c.NextVerdict != verdict.Failed {
			text += ": " + c.NextReason
		}
		lines = append(lines, Line{"next", text})
	case c.Highest == p.Most:
		lines = append(lines, Line{"next", "more were not tried (--most), so the device's limit was not reached"})
	case c.Highest > 0:
		lines = append(lines, Line{"next", "larger numbers are still to be tried"})
	}
	if c.Limiter != "" {
		lines = append(lines, Line{"why", why(&logbook.ColumnCeiling{Limiter: c.Limiter, Evidence: c.Evidence, Next: &logbook.Next{Reason: c.NextReason}})})
	}
	if c.Highest > 0 {
		lines = append(lines, Line{"comfortable", comfort(c, p, unit)})
		if i := slices.Index(p.Numbers, c.Highest); i >= 0 {
			if list := left(d, &d.Rungs[i]); list != nil {
				lines = append(lines, Line{"left", strings.Join(list, ", ")})
			}
		}
	}
	if c.Predicted != nil && c.Highest > 0 {
		then := ""
		if l := c.Predicted.Limiter; l != verdict.Unknown {
			then = ", then " + cmp.Or(limiters[l], string(l)+" runs out")
		}
		found := unit(c.Highest)
		if c.Next == 0 {
			found += " at least"
		}
		lines = append(lines, Line{"predicted", fmt.Sprintf("%s, from the readings at %s%s; found %s", unit(c.Predicted.Number), unit(c.Predicted.From), then, found)})
	}
	if c.Met != nil {
		lines = append(lines, Line{"need", crowdNeed(c, p, unit)})
	}
	return lines
}

// crowdNeed states whether the need is met, and whether the reserve is left then.
func crowdNeed(c *logbook.Crowd, p *logbook.CrowdPlan, unit func(int) string) string {
	switch {
	case !*c.Met:
		return unit(p.Need) + ": not met"
	case c.WithReserve == nil:
		return fmt.Sprintf("%s: met; whether the reserve of %g %% is left then is not known", unit(p.Need), p.ReservePct)
	case !*c.WithReserve:
		return fmt.Sprintf("%s: met, without the reserve of %g %%", unit(p.Need), p.ReservePct)
	}
	return fmt.Sprintf("%s: met, with the reserve of %g %%", unit(p.Need), p.ReservePct)
}

// comfort states which number is comfortable.
func comfort(c *logbook.Crowd, p *logbook.CrowdPlan, unit func(int) string) string {
	limiter := c.Limiter
	if c.Predicted != nil && (limiter == "" || limiter == verdict.Unknown || limiter == verdict.Refused) {
		limiter = c.Predicted.Limiter
	}
	switch {
	case c.Comfortable == nil:
		return "not known: " + cmp.Or(c.ComfortableWhy, "too little was measured")
	case *c.Comfortable == 0:
		return fmt.Sprintf("none: even one leaves less than %g %% free", p.ReservePct)
	}
	of := "to spare"
	if what := resources[limiter]; what != "" {
		of = fmt.Sprintf("of %s free", what)
	}
	beyond := ""
	if *c.Comfortable > c.Highest {
		beyond = fmt.Sprintf(" by its readings (%s were tried)", unit(c.Highest))
	}
	return fmt.Sprintf("%s%s, which leaves %g %% %s", unit(*c.Comfortable), beyond, p.ReservePct, of)
}

func times(n int) string {
	switch n {
	case 0:
		return "never"
	case 1:
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

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
