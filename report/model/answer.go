package model

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Line is one line of an answer: what it is about, "" for the answer itself, and a text.
type Line struct{ About, Text string }

// climbAnswer returns what a device plays, why no more, and how sure that is, column by column.
func climbAnswer(d *logbook.Document) (lines []Line) {
	if d.Ceiling == nil || d.Attempts() == 0 {
		return nil
	}
	for i := range d.Ceiling.Columns {
		c := &d.Ceiling.Columns[i]
		lines = append(lines, columnAnswer(d, c, len(d.Ceiling.Columns) > 1)...)
	}
	return lines
}

// columnAnswer returns the answer of one column.
func columnAnswer(d *logbook.Document, c *logbook.ColumnCeiling, named bool) (lines []Line) {
	add := func(about, text string) {
		if text != "" {
			lines = append(lines, Line{about, text})
		}
	}
	of, who := "", subject(d)
	if named {
		of = c.Column + ": "
		who = of + d.Device.Name
	}
	switch {
	case c.Load == nil && c.Next == nil && len(c.Untried) > 0 && d.Waiting() > 0:
		return []Line{{"", of + "all rungs were played; a recording of the screen is to show how."}}
	case c.Load == nil && c.Next == nil && len(c.Untried) > 0:
		return []Line{{"", of + "no rung could be tried."}}
	case c.Load == nil && c.Next == nil:
		return []Line{{"", of + "not tried yet."}}
	case c.Load == nil:
		add("", fmt.Sprintf("%s plays no rung smoothly, not even %s.", who, c.Next.Load.Title()))
	default:
		add("", fmt.Sprintf("%s plays up to %s smoothly%s.", who, c.Load.Title(), confirmed(c)))
		add("tries", tries(rungOf(d, c.Load)))
	}
	if c.Next != nil {
		add("next", next(c.Next, rungOf(d, &c.Next.Load)))
		add("why", why(c))
	}
	if c.Load != nil {
		add("left", strings.Join(left(d, rungOf(d, c.Load)), ", "))
		add("room", room(c))
		for _, r := range c.Refined {
			add("refined", refinedText(r))
		}
		if n := len(c.Skipped); n > 0 {
			add("skipped", Plural(n, "easier rung")+" should be smooth too, if the ladder is in order: "+loadList(c.Skipped))
		}
	}
	if c.Next == nil && c.Load != nil {
		add("then", goesOn(d, c))
	}
	return lines
}

// refinedText says how far a device goes beyond a ceiling in one respect.
func refinedText(r logbook.Refined) string {
	text := fmt.Sprintf("by %s up to %s", r.By, r.Load)
	if r.Next != nil {
		return text + fmt.Sprintf("; %s is not smooth", r.Next)
	}
	return text + ", near the " + r.By + " of the next rung"

}

// loadList names loads, of many the first and the last.
func loadList(loads []load.Load) string {
	if len(loads) > 4 {
		return loads[0].Title() + " to " + loads[len(loads)-1].Title()
	}
	names := make([]string, len(loads))
	for i, l := range loads {
		names[i] = l.Title()
	}
	return strings.Join(names, ", ")
}

// confirmed says whether a ceiling was confirmed, and if not why.
func confirmed(c *logbook.ColumnCeiling) string {
	switch {
	case c.Confirmed:
		return ""
	case len(c.Untried) > 0:
		names := make([]string, len(c.Untried))
		for i, l := range c.Untried {
			names[i] = l.Title()
		}
		return ", not confirmed: " + strings.Join(names, ", ") + " could not be tried"
	}
	return ", not confirmed by a second try"
}

// rungOf returns the rung of a load, nil if there is none.
func rungOf(d *logbook.Document, l *load.Load) *logbook.Rung {
	for i := range d.Rungs {
		if r := &d.Rungs[i]; len(r.Counted()) > 0 && r.Load.String() == l.String() && (l.File == "" || r.Load.File == l.File) {
			return r
		}
	}
	return nil
}

// tries is the evidence for a ceiling: how often it was tried, what was dropped, and what that
// bounds.
func tries(r *logbook.Rung) string {
	if r == nil {
		return ""
	}
	smooth, dropped, due, counted := 0, 0, 0, r.Counted()
	var buffer *logbook.Attempt
	for i, a := range counted {
		if a.Verdict == verdict.Smooth {
			smooth++
		}
		if a.Displayed() {
			dropped, due = dropped+a.Frames.Dropped, due+a.Frames.Due
		}
		if a.Buffer != nil && (buffer == nil || a.Buffer.MinLeadS < buffer.Buffer.MinLeadS) {
			buffer = &counted[i]
		}
	}
	text := fmt.Sprintf("%d of %d smooth", smooth, len(counted))
	switch {
	case due > 0:
		text += fmt.Sprintf("; %d of %d frames dropped: below %s %% at 95 %%, if drops were independent", dropped, due, Figures2(verdict.DropBound(dropped, due)))
	case buffer != nil:
		text += fmt.Sprintf("; least lead %.1f s, media arrived at %s of real time", buffer.Buffer.MinLeadS, BuildRate(*buffer.Buffer))
	default:
		text += "; frames were not counted"
	}
	return text
}

// next says how the first rung above the ceiling failed.
func next(n *logbook.Next, r *logbook.Rung) string {
	text := fmt.Sprintf("%s %s", n.Load.Title(), wasFound(n.Verdict))
	if n.Reason != "" && n.Verdict != verdict.Failed {
		text += ": " + n.Reason
	}
	if r != nil && len(r.Counted()) > 1 {
		text += fmt.Sprintf(" (%d tries)", len(r.Counted()))
	}
	return text
}

// limiters says in words what ran out.
var limiters = map[verdict.Limiter]string{
	verdict.CPU: "the cores are full", verdict.Core: "one core is full", verdict.GPUDecode: "the decoder is full", verdict.GPUEncode: "the encoder is full",
	verdict.GPURender: "the graphics engine is full", verdict.Memory: "memory ran out", verdict.Disk: "the disk is too slow", verdict.Network: "the link is full",
	verdict.Heat: "it is slowed down by heat", verdict.Power: "it is held to its power", verdict.Viewer: "our own side was too slow, so the device's limit was not reached",
}

// resources are the nouns for what can run out.
var resources = map[verdict.Limiter]string{
	verdict.CPU: "all cores", verdict.Core: "the busiest core", verdict.GPUDecode: "the decoder", verdict.GPUEncode: "the encoder",
	verdict.GPURender: "the graphics engine", verdict.Memory: "the memory", verdict.Disk: "the disk", verdict.Network: "the link",
}

// why says what ran out with the next rung, and by which readings.
func why(c *logbook.ColumnCeiling) string {
	switch c.Limiter {
	case "":
		return ""
	case verdict.Unknown:
		return "not known; " + c.Evidence
	case verdict.Refused:
		return "refused: " + strings.TrimPrefix(cmp.Or(c.Next.Reason, c.Evidence), "it refused: ")
	}
	return fmt.Sprintf("%s: %s", LimiterWords(c.Limiter), c.Evidence)
}

// left lists what a rung leaves of each thing that was measured, by the mean of its smooth
// attempts.
func left(d *logbook.Document, r *logbook.Rung) (list []string) {
	if r == nil {
		return nil
	}
	mean := func(quantity string) (float64, bool) {
		sum, n := 0., 0.
		for _, a := range r.Counted() {
			if _, s, known := a.Use.Highest(quantity); known && a.Verdict == verdict.Smooth {
				sum, n = sum+s.Mean, n+1
			}
		}
		return sum / max(n, 1), n > 0
	}
	idle := idleUse(d)
	for _, part := range []struct {
		quantity string
		of       verdict.Limiter
	}{
		{sense.BlockUse, verdict.GPUDecode}, {sense.EncodeUse, verdict.GPUEncode}, {sense.CPU, verdict.CPU}, {sense.ThreadMax, verdict.Core}, {sense.NetLink, verdict.Network},
	} {
		if used, known := mean(part.quantity); known {
			list = append(list, fmt.Sprintf("%.0f %% of %s", max(0, 100-used), resources[part.of]))
		}
	}
	if free, known := mean(sense.MemFree); known {
		list = append(list, Bytes(free)+" of memory")
	}
	if t, known := mean(sense.Temperature); known {
		list = append(list, fmt.Sprintf("at %.0f °C%s", t, above(t, idle[sense.Temperature], "%.0f")))
	}
	for _, quantity := range []string{sense.WallPower, sense.Power} {
		if w, known := mean(quantity); known {
			list = append(list, fmt.Sprintf("at %s W%s", Figures(w), above(w, idle[quantity], "%.1f")))
			break
		}
	}
	return list
}

func above(value, idle float64, format string) string {
	if idle == 0 || value-idle < 0.05 {
		return ""
	}
	return fmt.Sprintf(" ("+format+" above idle)", value-idle)
}

// nearLimit is the headroom in percent under which a harder rung is hardly carried.
const nearLimit = 5

// goesOn says how a ladder ended whose hardest rung was smooth, and which ladder goes on.
func goesOn(d *logbook.Document, c *logbook.ColumnCeiling) string {
	switch {
	case !c.LadderEnd:
		return "harder rungs are still to be tried"
	case len(c.Untried) > 0:
		return "no harder rung could be tried"
	}
	text := "the ladder ends here; the device's limit was not reached"
	if c.Headroom != nil && c.HeadroomOf != "" {
		if *c.Headroom < nearLimit {
			text = "the ladder ends here, near the device's limit"
		}
		text += fmt.Sprintf(" (%.0f %% of %s is left)", *c.Headroom, cmp.Or(resources[c.HeadroomOf], string(c.HeadroomOf)))
	}
	if ladder, harder, found := load.Beyond(*c.Load); found && d.Route.Kind != "server" {
		text += fmt.Sprintf("; --ladder %s goes on with %s", ladder, harder)
	}
	return text
}

// doubts are the lines about what makes a result doubtful, and what to do about it.
func doubts(d *logbook.Document) (lines []Line) {
	for _, doubt := range d.Doubts {
		lines = append(lines, Line{"doubt", remedied(doubt)})
	}
	for _, g := range d.Gaps {
		if g.ToS == nil {
			lines = append(lines, Line{"doubt", fmt.Sprintf("%s could not be read (%s): see vividstrain sensors", g.Source, g.Reason)})
		}
	}
	if c := d.Ceiling; c != nil && c.Load != nil && d.Complete && d.Kind == "climb" {
		r := rungOf(d, c.Load)
		due := 0
		if r != nil {
			for _, a := range r.Counted() {
				due += a.FramesDue()
			}
		}
		if due > 0 && verdict.DropBound(0, due) > d.Criteria.Marginal.DroppedPct {
			lines = append(lines, Line{"doubt", fmt.Sprintf("only %d frames were judged: use a longer --hold", due)})
		}
	}
	return lines
}

func remedied(d verdict.Doubt) string {
	if d.Remedy == "" {
		return d.What
	}
	return d.What + "; " + d.Remedy
}

// Figures2 formats a number with two significant figures.
func Figures2(v float64) string {
	return strconv.FormatFloat(v, 'f', max(0, 1-exponent(v)), 64)
}

func exponent(v float64) int {
	n := 0
	for ; v > 0 && v < 1 && n > -9; v *= 10 {
		n--
	}
	for ; v >= 10; v /= 10 {
		n++
	}
	return n
}

// deviceLine describes a device: what was found, and what its user stated.
func deviceLine(d logbook.Device) string {
	var parts []string
	add := func(format, key string) {
		if v := d.Spec[key]; v != "" {
			parts = append(parts, fmt.Sprintf(format, v))
		}
	}
	add("%s", "product")
	add("%s", "cpu")
	if d.Spec["cores"] == "1" {
		parts = append(parts, "1 core")
	} else {
		add("%s cores", "cores")
	}
	if bytes, err := strconv.ParseFloat(d.Spec["memory_bytes"], 64); err == nil {
		parts = append(parts, Bytes(bytes))
	}
	add("graphics %s", "gpu")
	add("%s", "system")
	add("%s", "kernel")
	add("virtual machine (%s)", "virtual")
	add("power mode %s", "power_mode")
	add("screen %s", "screen")
	add("refreshed at %s Hz", "refresh_hz")
	add("%s", "browser")
	add("on %s", "browser_system")
	add("%s", "address")
	for _, name := range slices.Sorted(maps.Keys(d.Facts)) {
		parts = append(parts, name+" "+d.Facts[name])
	}
	return strings.Join(parts, ", ")
}

// LimiterWords says in words what ran out.
func LimiterWords(l verdict.Limiter) string { return cmp.Or(limiters[l], string(l)+" ran out") }
