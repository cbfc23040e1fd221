package model

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"vividstrain/core/logbook"
	"vividstrain/core/need"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Measured is what is known of a run, or of several runs of the same: their documents, oldest
// first, and the readings of each; nil readings mean that there are none.
type Measured struct {
	Docs     []*logbook.Document
	Readings [][]logbook.Reading
}

// first returns the first document.
func (m *Measured) first() *logbook.Document { return m.Docs[0] }

// Comparison is several runs side by side.
type Comparison struct {
	Names     []string // of the runs
	Sentences []string // what must be known before the table is read, and what follows from it
	Table     Table    // loads by runs
	Differs   Table    // what the runs differ in
	Tables    []Titled
	Rungs     []Overlaid
}

// Titled is a table with a title.
type Titled struct {
	Title string
	Table Table
}

// Overlaid is a load whose curves are laid over each other.
type Overlaid struct {
	Title  string
	Charts []Chart
}

// Compare returns runs side by side. Rungs are paired by their loads.
func Compare(runs []Measured) *Comparison {
	c := &Comparison{Names: runNames(runs)}
	loads := allLoads(runs)
	c.Table = sideBySide(runs, c.Names, loads)
	c.Differs = differences(runs, c.Names)
	c.Sentences = append(unlike(runs, c.Names, loads), sameDevice(runs, c.Names)...)
	for _, t := range []Titled{
		{"Dropped frames", quantity(runs, c.Names, loads, AttemptShort)},
		{"All cores", quantity(runs, c.Names, loads, func(a *logbook.Attempt) string { return meanPct(sense.CPU)(nil, a) })},
		{"Watts", quantity(runs, c.Names, loads, func(a *logbook.Attempt) string { return wattsCell(nil, a) })},
		{"Differences, with their uncertainty", uncertain(runs, c.Names, loads)},
		{"What it is worth", worth(runs, c.Names)},
		{"Decoded by", decoders(runs, c.Names, loads)},
	} {
		if len(t.Table.Rows) > 0 {
			c.Tables = append(c.Tables, t)
		}
	}
	c.Rungs = overlaid(runs, c.Names, loads)
	return c
}

// runNames returns a name for each run by which it is told from the others: its device, and its
// route or its id where those are the same.
func runNames(runs []Measured) []string {
	names := make([]string, len(runs))
	for _, more := range []func(d *logbook.Document) string{
		func(d *logbook.Document) string { return d.Device.Name },
		func(d *logbook.Document) string { return d.Route.Kind },
		func(d *logbook.Document) string { return d.ID[max(0, len(d.ID)-4):] },
	} {
		seen := map[string]int{}
		for _, n := range names {
			seen[n]++
		}
		for i := range runs {
			if names[i] == "" {
				names[i] = more(runs[i].first())
			} else if seen[names[i]] > 1 {
				names[i] += ", " + more(runs[i].first())
			}
		}
	}
	return names
}

// allLoads returns the loads of all runs in the order of the first run that has them, each once.
func allLoads(runs []Measured) (list []string) {
	for _, m := range runs {
		for _, d := range m.Docs {
			at := len(list)
			for i := range d.Rungs {
				name := rungTitle(d, i)
				if k := slices.Index(list, name); k >= 0 {
					at = k + 1
					continue
				}
				list = slices.Insert(list, at, name)
				at++
			}
		}
	}
	return list
}

// rungsOf returns the rungs with a load, of all documents.
func (m *Measured) rungsOf(name string) (list []*logbook.Rung) {
	for _, d := range m.Docs {
		for i := range d.Rungs {
			if rungTitle(d, i) == name {
				list = append(list, &d.Rungs[i])
			}
		}
	}
	return list
}

// attemptsOf returns all attempts at a load, and those that count.
func (m *Measured) attemptsOf(name string) (all, counted []logbook.Attempt) {
	for _, r := range m.rungsOf(name) {
		all, counted = append(all, r.Attempts...), append(counted, r.Counted()...)
	}
	return all, counted
}

// sideBySide returns the verdicts of all loads, and what each run came to.
func sideBySide(runs []Measured, names, loads []string) Table {
	t := Table{Head: append([]string{""}, names...)}
	row := func(name string, cell func(m *Measured) Cell) {
		cells := []Cell{{Text: name}}
		for i := range runs {
			cells = append(cells, cell(&runs[i]))
		}
		t.Rows = append(t.Rows, cells)
	}
	for _, name := range loads {
		row(name, func(m *Measured) Cell { return sideCell(m, name) })
	}
	row("ceiling", func(m *Measured) Cell {
		switch d := m.first(); {
		case d.Crowd != nil && d.Crowd.Highest > 0:
			return Cell{Text: Plural(d.Crowd.Streams, "stream"), Bold: true}
		case d.Ceiling == nil || d.Ceiling.Load == nil && d.Ceiling.Next == nil:
			return Cell{Text: "not known"}
		case d.Ceiling.Load == nil:
			return Cell{Text: "none"}
		default:
			return Cell{Text: d.Ceiling.Load.Title(), Bold: true}
		}
	})
	row("ran out", func(m *Measured) Cell {
		switch d := m.first(); {
		case d.Crowd != nil && d.Crowd.Limiter != "":
			return Cell{Text: string(d.Crowd.Limiter)}
		case d.Ceiling == nil || d.Ceiling.Limiter == "" && (!d.Ceiling.LadderEnd || len(d.Ceiling.Untried) > 0):
			return Cell{Text: "not known"}
		case d.Ceiling.Limiter == "":
			return Cell{Text: "nothing"}
		default:
			return Cell{Text: string(d.Ceiling.Limiter)}
		}
	})
	row("headroom", func(m *Measured) Cell {
		if d := m.first(); d.Ceiling != nil && d.Ceiling.Headroom != nil {
			return Cell{Text: fmt.Sprintf("%.0f %%", *d.Ceiling.Headroom)}
		}
		return Cell{Text: "-"}
	})
	return t
}

// sideCell returns the verdict of most attempts.
func sideCell(m *Measured, name string) Cell {
	all, counted := m.attemptsOf(name)
	switch {
	case len(all) == 0:
		return Cell{Text: "not tried", Faint: true}
	case len(counted) == 0:
		return Cell{Grade: verdict.Void}
	}
	return Cell{Grade: majority(counted)}
}

// quantity returns what the attempts at all loads came to in one respect: of each run the first
// attempt that has the verdict of most. It is empty where no two runs know it.
func quantity(runs []Measured, names, loads []string, of func(a *logbook.Attempt) string) Table {
	t := Table{Head: append([]string{""}, names...)}
	for i := range runs {
		t.Right = append(t.Right, i+1)
	}
	known := map[int]bool{}
	for _, name := range loads {
		row := []Cell{{Text: name}}
		for i := range runs {
			c := Cell{Text: "-"}
			if _, counted := runs[i].attemptsOf(name); len(counted) > 0 {
				grade := majority(counted)
				at := slices.IndexFunc(counted, func(a logbook.Attempt) bool { return a.Verdict == grade })
				if text := of(&counted[at]); text != "" {
					c.Text, known[i] = text, true
				}
			}
			row = append(row, c)
		}
		t.Rows = append(t.Rows, row)
	}
	if len(known) < 2 {
		return Table{}
	}
	return t
}

// majority returns the verdict of most attempts in the sense of smooth or not; of those
// verdicts, the first.
func majority(attempts []logbook.Attempt) verdict.Grade {
	most := logbook.MostSmooth(attempts)
	i := slices.IndexFunc(attempts, func(a logbook.Attempt) bool { return (a.Verdict == verdict.Smooth) == most })
	return attempts[i].Verdict
}

// differences returns what the runs differ in: device, route and settings.
func differences(runs []Measured, names []string) Table {
	t := Table{Head: append([]string{""}, names...)}
	facts := make([]map[string]string, len(runs))
	every := map[string]bool{}
	sameRoute := !differ(runs, func(d *logbook.Document) string { return d.Route.Kind })
	for i := range runs {
		facts[i] = factsOf(runs[i].first(), sameRoute)
		for name := range facts[i] {
			every[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(every)) {
		row, differs := []Cell{{Text: name}}, false
		for i := range runs {
			differs = differs || facts[i][name] != facts[0][name]
			row = append(row, Cell{Text: cmp.Or(facts[i][name], "-")})
		}
		if differs {
			t.Rows = append(t.Rows, row)
		}
	}
	return t
}

// unimportant are facts that no difference comes from.
var unimportant = []string{"agent", "browser_system", "memory_kills", "window", "not_measured", "listen", "clips", "seed", "open", "address", "url"}

// factsOf returns what may differ between runs, by name; a route's settings are worth comparing
// with those of the same route.
func factsOf(d *logbook.Document, settings bool) map[string]string {
	facts := map[string]string{"device": d.Device.Name, "route": d.Route.Kind, "program": d.Tool.Version, "hold": Figures(d.Plan.HoldS) + " s", "settling": Figures(d.Plan.SettleS) + " s"}
	for _, m := range []map[string]string{d.Device.Spec, d.Device.Facts, d.Conditions.Facts} {
		for name, value := range m {
			if bytes, err := strconv.ParseFloat(value, 64); err == nil && strings.HasSuffix(name, "_bytes") {
				name, value = strings.TrimSuffix(name, "_bytes"), Bytes(bytes)
			}
			if !slices.Contains(unimportant, name) && !strings.HasPrefix(name, "clock_difference") {
				facts[strings.ReplaceAll(name, "_", " ")] = value
			}
		}
	}
	for name, value := range d.Route.Options {
		if settings && !slices.Contains(unimportant, name) {
			facts["route: "+strings.ReplaceAll(name, "_", " ")] = value
		}
	}
	return facts
}

// unlike says what makes the runs hard to compare: another clip, other criteria, another time.
func unlike(runs []Measured, names, loads []string) (lines []string) {
	held := func(d *logbook.Document) string { return Figures(d.Plan.HoldS) + " s" }
	if differ(runs, held) {
		var parts []string
		for i := range runs {
			parts = append(parts, held(runs[i].first())+" by "+names[i])
		}
		lines = append(lines, "These runs are not alike: loads were held for "+strings.Join(parts, ", ")+".")
	}
	if differ(runs, func(d *logbook.Document) string { return fmt.Sprint(d.Criteria) }) {
		lines = append(lines, "These runs are not alike: they were judged by different criteria.")
	}
	for _, name := range loads {
		clips := map[string]bool{}
		for i := range runs {
			_, counted := runs[i].attemptsOf(name)
			for _, a := range counted {
				if a.Clip != "" {
					clips[a.Clip] = true
				}
			}
		}
		if len(clips) > 1 {
			lines = append(lines, "These runs are not alike: "+name+" was played from clips that are not the same, bit by bit.")
		}
	}
	return lines
}

func differ(runs []Measured, of func(d *logbook.Document) string) bool {
	return slices.ContainsFunc(runs, func(m Measured) bool { return of(m.first()) != of(runs[0].first()) })
}

// sameDevice says of runs on one device what their difference tells: is it the player or the
// machine?
func sameDevice(runs []Measured, names []string) (lines []string) {
	machine := func(d *logbook.Document) string { return strings.TrimSuffix(d.Device.Identity, " browser") }
	settings := func(d *logbook.Document) string {
		words := []string{d.Route.Kind, d.Conditions.Facts["power_mode"], d.Device.Spec["power_mode"], d.Route.Options["screen"], decodedWord(d)}
		return strings.Join(slices.Compact(slices.DeleteFunc(words, func(s string) bool { return s == "" })), ", ")
	}
	for i := range runs {
		for k := i + 1; k < len(runs); k++ {
			a, b := runs[i].first(), runs[k].first()
			if machine(a) == "" || machine(a) != machine(b) || settings(a) == settings(b) {
				continue
			}
			top := func(d *logbook.Document) string {
				if d.Ceiling == nil || d.Ceiling.Load == nil {
					return "nothing smoothly"
				}
				return d.Ceiling.Load.Title()
			}
			text := fmt.Sprintf("The same machine with %s and with %s: up to %s and up to %s.", settings(a), settings(b), top(a), top(b))
			switch {
			case a.Route.Kind == b.Route.Kind:
			case top(a) == top(b):
				text += " Both players come as far, so that the machine is the limit rather than either player."
			default:
				text += " The machine can do the higher one, so that what is missing below it is the player's."
			}
			lines = append(lines, text)
		}
	}
	return lines
}

// decodedWord says how a run's loads were decoded, where all were decoded alike.
func decodedWord(d *logbook.Document) (word string) {
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Counted() {
			how := decodedCell(d, &a)
			if how == "" || word != "" && word != "decoded in "+how {
				return ""
			}
			word = "decoded in " + how
		}
	}
	return word
}

// leastAttempts is how many attempts each run needs before a difference is told from chance.
const leastAttempts = 3

// uncertain returns the differences between the first run and each other one, of loads that were
// tried several times in both: with the interval of Welch's test (B. L. Welch, Biometrika 34,
// 1947) at 95 %, a tie where that includes zero.
func uncertain(runs []Measured, names, loads []string) Table {
	t := Table{Head: []string{"load", "of", "between", "difference", ""}}
	quantities := []struct {
		name string
		unit string
		of   func(a *logbook.Attempt) (float64, bool)
	}{
		{"dropped", "%", func(a *logbook.Attempt) (float64, bool) {
			if a.FramesDue() == 0 {
				return 0, false
			}
			return 100 * float64(a.Frames.Dropped) / float64(a.Frames.Due), true
		}},
		{"all cores", "%", func(a *logbook.Attempt) (float64, bool) { s, known := a.Use[sense.CPU]; return s.Mean, known }},
		{"watts", "W", func(a *logbook.Attempt) (float64, bool) { return watts(a.Use) }},
	}
	tooFew := map[string]bool{}
	for k := 1; k < len(runs); k++ {
		for _, name := range loads {
			_, first := runs[0].attemptsOf(name)
			_, other := runs[k].attemptsOf(name)
			if len(first) == 0 || len(other) == 0 || len(first)+len(other) <= 2 {
				continue // once each is no series of attempts
			}
			for _, q := range quantities {
				a, b := valuesOf(first, q.of), valuesOf(other, q.of)
				if len(a) == 0 || len(b) == 0 {
					continue
				}
				row := Cells(name, q.name, names[0]+" and "+names[k], "", "")
				if len(a) < leastAttempts || len(b) < leastAttempts {
					if !tooFew[names[k]] { // once is enough
						tooFew[names[k]] = true
						t.Rows = append(t.Rows, Cells(name, "", row[2].Text, "", fmt.Sprintf("too few attempts, %d and %d: %d each tell a difference from chance", len(a), len(b), leastAttempts)))
					}
					continue
				}
				by, within := Welch(a, b)
				row[3].Text = fmt.Sprintf("%+.*f ± %.*f %s", figureDecimals(within), by, figureDecimals(within), within, q.unit)
				if math.Abs(by) <= within {
					row[4].Text = "a tie"
				}
				t.Rows = append(t.Rows, row)
			}
		}
	}
	return t
}

// figureDecimals returns the decimals that an uncertainty is worth.
func figureDecimals(within float64) int {
	if within >= 10 {
		return 0
	}
	return 1
}

func valuesOf(attempts []logbook.Attempt, of func(a *logbook.Attempt) (float64, bool)) (list []float64) {
	for i := range attempts {
		if v, known := of(&attempts[i]); known {
			list = append(list, v)
		}
	}
	return list
}

// Welch returns by how much the mean of b is above that of a, and half the width of its 95 %
// interval. Each needs at least two values.
func Welch(a, b []float64) (difference, within float64) {
	meanA, varA := stat.MeanVariance(a, nil)
	meanB, varB := stat.MeanVariance(b, nil)
	sa, sb := varA/float64(len(a)), varB/float64(len(b))
	if sa+sb == 0 {
		return meanB - meanA, 0
	}
	freedom := (sa + sb) * (sa + sb) / (sa*sa/float64(len(a)-1) + sb*sb/float64(len(b)-1))
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: freedom}.Quantile(0.975)
	return meanB - meanA, t * math.Sqrt(sa+sb)
}

// worth returns smooth streams per watt, per price and per gigabyte of memory.
func worth(runs []Measured, names []string) Table {
	t := Table{Head: []string{"", "smooth", "per watt", "per 100 of price", "per GB of memory"}, Right: []int{2, 3, 4}}
	any := false
	for i := range runs {
		d := runs[i].first()
		streams, what, use := smoothStreams(&runs[i])
		row := Cells(names[i], what, "-", "-", "-")
		if w, known := watts(use); known && w > 0 && streams > 0 {
			row[2].Text, any = Figures(float64(streams)/w), true
		}
		if price, known := need.Price(d.Device.Facts["price"], d.Device.Spec["price"]); known && price > 0 && streams > 0 {
			row[3].Text, any = Figures(100*float64(streams)/price), true
		}
		if bytes, err := strconv.ParseFloat(d.Device.Spec["memory_bytes"], 64); err == nil && bytes > 0 && streams > 0 {
			row[4].Text = Figures(float64(streams) / (bytes / 1e9))
		}
		t.Rows = append(t.Rows, row)
	}
	if !any {
		return Table{}
	}
	return t
}

// smoothStreams returns how many streams of what a device played smoothly, and what it used then.
func smoothStreams(m *Measured) (streams int, what string, use sense.Use) {
	d := m.first()
	if c := d.Crowd; c != nil && c.Highest > 0 {
		for i := range d.Rungs {
			if d.Plan.Crowd != nil && i < len(d.Plan.Crowd.Numbers) && d.Plan.Crowd.Numbers[i] == c.Highest && len(d.Rungs[i].Counted()) > 0 {
				use = d.Rungs[i].Counted()[0].Use
			}
		}
		return c.Streams, fmt.Sprintf("%s of %s", Plural(c.Streams, "stream"), mixWords(d.Plan.Crowd.Mix)), use
	}
	if d.Ceiling == nil || d.Ceiling.Load == nil {
		return 0, "-", nil
	}
	if r := rungOf(d, d.Ceiling.Load); r != nil && len(r.Counted()) > 0 {
		use = r.Counted()[0].Use
	}
	return max(1, d.Ceiling.Load.Streams), d.Ceiling.Load.Title(), use
}

// decoders returns how each device decoded each load, with the odd ones out: in software though a
// harder load of the same codec was decoded in hardware.
func decoders(runs []Measured, names, loads []string) Table {
	t := Table{Head: append([]string{""}, names...)}
	known := false
	for _, name := range loads {
		row := []Cell{{Text: name}}
		for i := range runs {
			how := decodedBy(&runs[i], name)
			known = known || how == "hardware"
			c := Cell{Text: cmp.Or(how, "-")}
			if how == "software" && harderInHardware(&runs[i], name) {
				c.Text, c.Bold = "software: odd one out", true
			}
			row = append(row, c)
		}
		t.Rows = append(t.Rows, row)
	}
	if !known {
		return Table{}
	}
	return t
}

func decodedBy(m *Measured, name string) string {
	_, counted := m.attemptsOf(name)
	for i := range counted {
		if how := decodedCell(nil, &counted[i]); how != "" {
			return how
		}
	}
	return ""
}

// harderInHardware reports whether a load with more pixels and bits of the same codec was decoded
// in hardware.
func harderInHardware(m *Measured, name string) bool {
	of := m.rungsOf(name)
	if len(of) == 0 {
		return false
	}
	this := of[0].Load
	for _, d := range m.Docs {
		for i := range d.Rungs {
			l := d.Rungs[i].Load
			if l.Codec == this.Codec && l.PixelRate() >= this.PixelRate() && l.Bitrate >= this.Bitrate && decodedBy(m, rungTitle(d, i)) == "hardware" {
				return true
			}
		}
	}
	return false
}

// maxOverlaid is the largest number of loads whose curves are laid over each other.
const maxOverlaid = 24

// overlaid returns, for each load that several runs have readings of, their curves from the same
// second of the film.
func overlaid(runs []Measured, names, loads []string) (list []Overlaid) {
	for _, name := range loads {
		o := Overlaid{Title: name}
		for _, q := range []struct{ name, title, quantity string }{
			{"cpu", "All cores", sense.CPU}, {"watts", "Power at the socket", sense.WallPower}, {"power", "Power", sense.Power}, {"temperature", "Temperature", sense.Temperature}, {"drops", "Dropped frames so far", sense.VideoDrops}, {"lead", "In hand", sense.VideoLead}} {
			c := Chart{Name: q.name, Title: q.title, Unit: sense.Unit(q.quantity)}
			for i := range runs {
				if points := fromFirstPicture(&runs[i], name, q.quantity); len(points) > 0 {
					c.Curves = append(c.Curves, Curve{names[i], points})
					c.ToS = max(c.ToS, points[len(points)-1].AtS)
				}
			}
			if len(c.Curves) > 1 && len(c.Curves) <= maxCurves {
				o.Charts = append(o.Charts, c)
			}
		}
		if len(o.Charts) > 0 && len(list) < maxOverlaid {
			list = append(list, o)
		}
	}
	return list
}

// fromFirstPicture returns the readings of a quantity in the first attempt at a load that counts,
// by the time since its first picture.
func fromFirstPicture(m *Measured, name, quantity string) (points []Point) {
	for k, d := range m.Docs {
		for i := range d.Rungs {
			counted := d.Rungs[i].Counted()
			if rungTitle(d, i) != name || len(counted) == 0 || k >= len(m.Readings) {
				continue
			}
			a := counted[0]
			from, to := a.Started.Sub(d.Started).Seconds(), a.Ended.Sub(d.Started).Seconds()
			if a.StartS != nil {
				from += *a.StartS
			}
			for _, r := range m.Readings[k] {
				if r.Quantity == quantity && r.AtS >= from && r.AtS <= to {
					points = append(points, Point{r.AtS - from, r.Value, r.Phase})
				}
			}
			if len(points) > 0 {
				return drawable(points)
			}
		}
	}
	return nil
}
