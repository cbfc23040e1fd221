package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// mixWords names what a crowd is made of.
func mixWords(mix []load.Load) string {
	words := make([]string, len(mix))
	for i, l := range mix {
		words[i] = l.Title()
	}
	return strings.Join(words, " + ")
}

// crowd draws one line for each attempt, by rising number.
func (s Style) crowd(d *logbook.Document) string {
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
	head := []string{"streams", "verdict", "dropped", "freeze", "CPU", "memory", "next costs"}
	if buffered {
		head = []string{"streams", "verdict", "start", "stalls", "least lead", "build", "CPU", "memory", "next costs"}
	}
	var rows [][]string
	idle := idleUse(d)
	for _, i := range byNumber {
		for k, a := range d.Rungs[i].Attempts {
			name := fmt.Sprint(numbers[i] * per)
			if k > 0 {
				name = s.Faint("again")
			}
			cells := s.buffered(a)
			if !buffered {
				cells = s.attempt(a)
				cells[3] = meanCPU(a)
			}
			rows = append(rows, append(append([]string{name}, cells...), nextCosts(a, idle, numbers[i])))
		}
	}
	if rows == nil {
		return "No attempt has ended yet.\n"
	}
	return s.Table(head, rows, 0, 2, 3, 4, 5, 6, 7, 8)
}

// idleUse is what is known of the idle device.
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

// nextCosts is what one more of the mix takes in real time, by what so many take. A device
// that works ahead of its viewers does the work of more.
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
			parts = append(parts, bytes(v))
			break
		}
	}
	if parts == nil {
		return "-"
	}
	return strings.Join(parts, ", ")
}

// crowdSentences say what a crowd comes to.
func crowdSentences(d *logbook.Document) (lines []string) {
	c, p := d.Crowd, d.Plan.Crowd
	unit := func(n int) string {
		if len(p.Mix) > 1 {
			return fmt.Sprintf("%s the mix", times(n))
		}
		return plural(n*p.Mix[0].Streams, "stream")
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

// need says whether the stated need is met, and whether the reserve is left then.
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

// comfort says which number is comfortable.
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

// mostViewers bounds the viewers that are drawn.
const mostViewers = 8

// Viewers draws how far each of them has fetched and played, those with the
// least in hand first.
func (s Style) Viewers(list []route.Viewer) (lines []string) {
	if len(list) == 0 {
		return nil
	}
	type numbered struct {
		route.Viewer
		n int
	}
	all := make([]numbered, len(list))
	film := 30 * time.Second
	for i, v := range list {
		all[i] = numbered{v, i + 1}
		film = max(film, v.Film, v.Fetched)
	}
	slices.SortStableFunc(all, func(a, b numbered) int { return cmp.Compare(a.Lead(), b.Lead()) })
	shown := all[:min(len(all), mostViewers)]
	slices.SortFunc(shown, func(a, b numbered) int { return cmp.Compare(a.n, b.n) })
	for _, v := range shown {
		state := "plays"
		if v.Waits {
			state = "waits"
		}
		lines = append(lines, fmt.Sprintf("  viewer %-4d fetched %s  played %s  %5.1f s in hand, %s", v.n, bar(v.Fetched, film), bar(v.Played, film), v.Lead().Seconds(), state))
	}
	if more := len(all) - len(shown); more > 0 {
		lines = append(lines, fmt.Sprintf("  and %d with more in hand", more))
	}
	return lines
}

// bar draws a part of a whole.
func bar(part, whole time.Duration) string {
	const width = 12
	n := int(max(0, min(part, whole)) * width / whole)
	return strings.Repeat("━", n) + strings.Repeat("─", width-n)
}
