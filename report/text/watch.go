package text

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/sense"
	"vividstrain/report/model"
)

// Watched is what a live view shows.
type Watched struct {
	Title  string // what is watched
	Time   string
	Latest map[sense.Identity]sense.Sample // by source
	Trace  *sense.Trace
	Absent []sense.Absence
	Gaps   []sense.Gap // gaps that are not over
	Foot   string
}

// clean makes all texts from outside printable.
func (w *Watched) clean() *Watched {
	c := *w
	c.Latest, c.Absent, c.Gaps, c.Title = model.Clean(w.Latest), model.Clean(w.Absent), model.Clean(w.Gaps), model.Printable(w.Title)
	return &c
}

// gauge is one line of the view: a quantity with its value, a bar if it has an upper limit, and
// its recent history.
type gauge struct {
	name  string
	key   string
	value float64
	full  float64 // value at the bar's end, 0: no bar
	tells string  // further words after the value
	cores bool    // a percentage of one core, shown as a number of cores
}

// values returns the newest readings by key; of two sources, the first one's.
func (w *Watched) values() map[string]float64 {
	values, ranks := map[string]float64{}, map[string]int{}
	for _, s := range w.Latest {
		for _, r := range s.Readings {
			if rank, known := ranks[r.Key()]; !known || s.Rank < rank {
				values[r.Key()], ranks[r.Key()] = r.Value, s.Rank
			}
		}
	}
	return values
}

// highest returns the reading of a quantity with the largest value, with or without a label.
func highest(values map[string]float64, quantity string) (key string, known bool) {
	for _, k := range slices.Sorted(maps.Keys(values)) {
		name, _, _ := strings.Cut(k, ":")
		if name == quantity && (!known || values[k] > values[key]) {
			key, known = k, true
		}
	}
	return key, known
}

// gauges returns the lines of the view, the most important first.
func gauges(values map[string]float64) (list []gauge) {
	add := func(name, quantity string, full float64) {
		key, known := highest(values, quantity)
		if v, plain := values[quantity]; plain {
			list = append(list, gauge{name: name, key: quantity, value: v, full: full})
		} else if known {
			_, label, _ := strings.Cut(key, ":")
			list = append(list, gauge{name: name, key: key, value: values[key], full: full, tells: label})
		}
	}
	cores := 0.0
	for key := range values {
		if strings.HasPrefix(key, sense.CPUCore+":") {
			cores++
		}
	}
	add("all cores", sense.CPU, 100)
	add("watched", sense.GroupCPU, 100*max(cores, 1))
	add("top thread", sense.ThreadMax, 100)
	for i := range list {
		list[i].cores = list[i].key == sense.GroupCPU || list[i].key == sense.ThreadMax
	}
	if key, known := highest(values, sense.ThreadUse); known && len(list) > 0 {
		_, list[len(list)-1].tells, _ = strings.Cut(key, ":")
	}
	add("video", sense.VideoShown, 0)
	add("  dropped", sense.VideoDropped, 0)
	add("  ahead", sense.VideoLead, 0)
	add("memory", sense.MemUsed, values[sense.MemTotal])
	add("watched mem", sense.GroupMem, values[sense.MemTotal])
	add("decoder", sense.BlockUse, 100)
	add("encoder", sense.EncodeUse, 100)
	add("render", sense.RenderUse, 100)
	add("graphics", sense.GPU, 100)
	add("heat", sense.Temperature, 100)
	add("clock", sense.Clock, 100)
	add("power", sense.Power, 0)
	add("wall power", sense.WallPower, 0)
	add("disk", sense.DiskBusy, 100)
	add("  reads", sense.DiskRead, 0)
	add("  writes", sense.DiskWrite, 0)
	add("receives", sense.NetReceive, 0)
	add("sends", sense.NetSend, 0)
	add("link", sense.NetLink, 100)
	add("wait: core", sense.PressureCPU, 100)
	add("wait: mem", sense.PressureMemory, 100)
	add("wait: disk", sense.PressureIO, 100)
	add("swapping", sense.SwapRate, 0)
	add("fan", sense.Fan, 0)
	add("battery", sense.Battery, 0)
	return list
}

// eachCore returns a line for every core, unless there are too many.
func eachCore(values map[string]float64) (list []gauge) {
	for i := range 16 {
		key := fmt.Sprintf("%s:%d", sense.CPUCore, i)
		if v, known := values[key]; known {
			list = append(list, gauge{name: fmt.Sprintf("  core %d", i), key: key, value: v, full: 100})
		}
	}
	return list
}

// Watch draws a live view of the given width in columns and height in lines.
func (s Style) Watch(w *Watched, width, height int) string {
	w = w.clean()
	width, height = max(width, 40), max(height, 8)
	lines := []string{cut(s.Bold("Vivid Strain")+"  "+w.Title, width-10) + s.Faint("  "+w.Time), ""}
	values := w.values()
	foot, list := w.foot(s, values), gauges(values)
	room := height - len(lines) - len(foot) - 2
	if strip := s.cores(values); strip != "" {
		lines = append(lines, strip)
		room--
	}
	if apart := eachCore(values); len(list)+len(apart) <= room {
		list = slices.Insert(list, min(1, len(list)), apart...)
	}
	hidden := 0
	if len(list) > room {
		hidden = len(list) - max(room-1, 0)
		list = list[:len(list)-hidden]
	}
	for _, g := range list {
		lines = append(lines, s.gauge(&g, w.Trace, width))
	}
	if hidden > 0 {
		lines = append(lines, s.Faint(fmt.Sprintf("%d more quantities are known; make the window taller to see them", hidden)))
	}
	for len(lines) < height-len(foot)-1 {
		lines = append(lines, "")
	}
	lines = append(lines, foot...)
	for i := range lines {
		lines[i] = strings.TrimRight(cut(lines[i], width), " ")
	}
	return strings.Join(lines, "\n")
}

// cut shortens a line to a number of columns.
func cut(line string, width int) string {
	if text.RuneWidthWithoutEscSequences(line) <= width {
		return line + strings.Repeat(" ", width-text.RuneWidthWithoutEscSequences(line))
	}
	return text.Trim(line, width)
}

// coresOf draws one block for each core, as high as it is busy, and returns the busiest.
func (s Style) coresOf(values map[string]float64) (blocks string, busiest string, most float64) {
	gap := " " // separates the cores if there are few
	if _, many := values[sense.CPUCore+":16"]; many {
		gap = ""
	}
	for i := 0; ; i++ {
		v, known := values[fmt.Sprintf("%s:%d", sense.CPUCore, i)]
		if !known {
			return blocks, busiest, most
		}
		blocks += s.level(v, string(block(v/100))) + gap
		if busiest == "" || v > most {
			busiest, most = fmt.Sprint(i), v
		}
	}
}

func (s Style) cores(values map[string]float64) string {
	blocks, busiest, most := s.coresOf(values)
	if busiest == "" {
		return ""
	}
	return fmt.Sprintf("%-12s%3.0f %% core %-2s  %s", "busiest", most, busiest, blocks)
}

var blocks = []rune("▁▂▃▄▅▆▇█")

func block(share float64) rune {
	return blocks[max(0, min(int(share*float64(len(blocks))), len(blocks)-1))]
}

// level colours what is near its limit: from 75 % on in yellow, from 90 % on in red.
func (s Style) level(pct float64, t string) string {
	switch {
	case pct >= 90:
		return s.paint(text.FgHiRed, t)
	case pct >= 75:
		return s.paint(text.FgYellow, t)
	}
	return s.paint(text.FgGreen, t)
}

// text returns the value with its unit.
func (g *gauge) text() string {
	if g.cores {
		return fmt.Sprintf("%.2f cores", g.value/100)
	}
	return model.Value(g.key, g.value)
}

// gauge draws a line: name, bar, value, history.
func (s Style) gauge(g *gauge, trace *sense.Trace, width int) string {
	barWidth := max(8, min(20, width-26)) // the number stays on a narrow screen
	bar, mark := strings.Repeat(" ", barWidth), " "
	pct := 0.0
	if g.full > 0 {
		pct = max(0, min(100*g.value/g.full, 100))
		n := int(math.Round(pct / 100 * float64(barWidth)))
		bar = s.level(pct, strings.Repeat("━", n)) + s.Faint(strings.Repeat("─", barWidth-n))
		if pct >= 90 {
			mark = s.level(pct, "▲") // a shape beside the colour
		}
	}
	line := fmt.Sprintf("%-12s%s %s%10s  ", g.name, bar, mark, g.text())
	rest := width - barWidth - 27
	if g.tells != "" && rest > 24 {
		rest -= 18
	} else {
		g.tells = ""
	}
	line += s.history(trace.Values(g.key), max(rest, 0), g.full)
	if g.tells != "" {
		line += "  " + text.Trim(g.tells, 16)
	}
	return line
}

// history draws the last values, one block each, on a scale up to full, or else up to their
// maximum.
func (s Style) history(values []float64, width int, full float64) string {
	values = values[max(0, len(values)-width):]
	top := full
	if top <= 0 && len(values) > 0 {
		top = slices.Max(values)
	}
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", width-len(values)))
	for _, v := range values {
		if top <= 0 {
			b.WriteRune(blocks[0])
		} else {
			b.WriteRune(block(v / top))
		}
	}
	return s.Faint(b.String())
}

// foot draws who else is busy, what cannot be read, and what keys do.
func (w *Watched) foot(s Style, values map[string]float64) (lines []string) {
	var busy []string
	for key := range values {
		if name, label, _ := strings.Cut(key, ":"); name == sense.OtherCPU {
			busy = append(busy, fmt.Sprintf("%6.0f %s", values[key], label))
		}
	}
	slices.Sort(busy)
	slices.Reverse(busy)
	if len(busy) > 0 {
		list := []string{}
		for _, b := range busy[:min(3, len(busy))] {
			pct, label, _ := strings.Cut(strings.TrimSpace(b), " ")
			list = append(list, fmt.Sprintf("%s %% %s", pct, label))
		}
		lines = append(lines, "Others: "+strings.Join(list, ", "))
	}
	for _, g := range w.Gaps[:min(2, len(w.Gaps))] {
		lines = append(lines, s.paint(text.FgYellow, "◐ "+g.Source.Name+": "+g.Reason))
	}
	if n := len(w.Absent); n > 0 {
		lines = append(lines, s.Faint(fmt.Sprintf("not read (vividstrain sensors says why): %s", absentNames(w.Absent))))
	}
	return append(lines, s.Faint(w.Foot))
}

func absentNames(list []sense.Absence) string {
	names := []string{}
	for _, a := range list {
		names = append(names, a.Quantity)
	}
	return strings.Join(names, ", ")
}

// Plain returns the view as one line, for output that is not a terminal.
func (w *Watched) Plain() string {
	w = w.clean()
	values := w.values()
	parts := []string{w.Time}
	for _, quantity := range []string{sense.CPU, sense.GroupCPU, sense.ThreadMax, sense.MemUsed, sense.GroupMem, sense.BlockUse, sense.EncodeUse, sense.RenderUse, sense.Temperature, sense.Clock, sense.Power, sense.WallPower, sense.DiskBusy, sense.NetReceive, sense.NetSend} {
		key := quantity
		if _, known := values[key]; !known {
			if key, known = highest(values, quantity); !known {
				continue
			}
		}
		parts = append(parts, key+" "+strings.ReplaceAll(model.Value(key, values[key]), " ", ""))
	}
	return strings.Join(parts, "  ")
}

// Sensors draws what every source reads now, the cost of reading, and what cannot be read.
func (s Style) Sensors(latest map[sense.Identity]sense.Sample, costs []sense.Cost, absent []sense.Absence, gaps []sense.Gap) string {
	latest, absent, gaps = model.Clean(latest), model.Clean(absent), model.Clean(gaps)
	cost := map[sense.Identity]sense.Cost{}
	for _, c := range costs {
		cost[c.Source] = c
	}
	names := slices.Collect(maps.Keys(cost))
	slices.SortFunc(names, func(a, b sense.Identity) int { return latest[a].Rank - latest[b].Rank })
	var rows [][]string
	for _, name := range names {
		sample, c := latest[name], cost[name]
		took := fmt.Sprintf("%.0f µs", float64(c.CPU.Microseconds())/float64(max(1, c.Samples)))
		readings := slices.Clone(sample.Readings)
		slices.SortStableFunc(readings, func(a, b sense.Reading) int { return strings.Compare(a.Key(), b.Key()) })
		for i, r := range readings {
			source, t := "", ""
			if i == 0 {
				source, t = s.Bold(name.Name), took
			}
			value, unit, _ := strings.Cut(model.Value(r.Quantity, r.Value), " ")
			rows = append(rows, []string{source, r.Key(), value, unit, t})
		}
	}
	out := s.Table([]string{"source", "quantity", "now", "unit", "a sample takes"}, rows, 2, 4)
	if len(gaps) > 0 {
		rows = rows[:0]
		for _, g := range gaps {
			rows = append(rows, []string{s.paint(text.FgYellow, "◐ "+g.Source.Name), g.Reason})
		}
		out += "\nGave nothing:\n" + s.Table(nil, rows)
	}
	if len(absent) == 0 {
		return out
	}
	out += "\nCannot be read here:\n"
	for _, a := range absent {
		line := strings.ReplaceAll(s.Wrap(fmt.Sprintf("× %s: %s. To read it: %s.", a.Quantity, a.Why, a.Remedy)), "\n", "\n  ")
		out += strings.Replace(line, a.Quantity, s.Bold(a.Quantity), 1) + "\n"
	}
	return out
}
