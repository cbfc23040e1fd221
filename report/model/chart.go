package model

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Chart is curves over time, ready to be drawn.
type Chart struct {
	Name       string // as a file's name: "memory"
	Title      string
	Unit       string
	FromS, ToS float64 // of the time axis
	Top        float64 // of the value axis, 0: by the values
	Curves     []Curve
	Strip      *Strip // instead of curves
	Bands      []Band
	Flags      []Flag
}

// Curve is one quantity over time.
type Curve struct {
	Label  string
	Points []Point
}

// Strip is one row of colour for each of several equal parts, such as the cores: how busy each was,
// in percent.
type Strip struct {
	Labels []string
	Values [][]float64 // by row, then by equal steps of time; NaN: not known
}

// Band is the time of one attempt.
type Band struct {
	FromS, ToS float64
	Number     int // of the attempt in the run, from 1
	Load       string
	Grade      verdict.Grade
}

// Flag is something that happened at one time.
type Flag struct {
	AtS  float64
	Kind string // "jump", or the kind of a remark
	Text string
}

// family is a group of quantities that are drawn in one chart.
type family struct {
	name, title string
	top         float64
	quantities  []string
	labels      map[string]string // of quantities, where their name says too little
}

// families are the charts of a time line, from top to bottom. Quantities that are in none of them
// get a chart for each unit.
var families = []family{
	{"cpu", "Processor", 100, []string{sense.CPU, sense.ThreadMax, sense.OthersCPU, sense.CPUSteal}, map[string]string{
		sense.CPU: "all cores", sense.ThreadMax: "busiest thread, of one core", sense.OthersCPU: "other programs, of all cores", sense.CPUSteal: "taken by the host"}},
	{"gpu", "Graphics processor", 100, []string{sense.BlockUse, sense.EncodeUse, sense.RenderUse, sense.GPU}, map[string]string{
		sense.BlockUse: "decoding", sense.EncodeUse: "encoding", sense.RenderUse: "rendering", sense.GPU: "anything"}},
	{"memory", "Memory", 0, []string{sense.MemUsed, sense.GroupPSS, sense.GroupMem, sense.ProcessMem, sense.GroupCharged, sense.SwapUsed, sense.GPUMem}, map[string]string{
		sense.MemUsed: "whole device", sense.GroupPSS: "player, shared pages divided", sense.GroupMem: "player and helpers", sense.ProcessMem: "", sense.GroupCharged: "counted against the limit", sense.SwapUsed: "swapped out", sense.GPUMem: "graphics memory"}},
	{"temperature", "Temperature", 0, []string{sense.Temperature}, map[string]string{sense.Temperature: "processor"}},
	{"clock", "Clock", 0, []string{sense.Clock}, map[string]string{sense.Clock: "of the full clock"}},
	{"power", "Power", 0, []string{sense.WallPower, sense.Power}, map[string]string{sense.WallPower: "at the socket", sense.Power: "as the device measures it"}},
	{"frames", "Frames shown and dropped", 0, []string{sense.VideoShown, sense.VideoDropped}, map[string]string{sense.VideoShown: "shown", sense.VideoDropped: "dropped"}},
	{"drops", "Dropped frames of the attempt so far", 0, []string{sense.VideoDrops}, map[string]string{sense.VideoDrops: "dropped"}},
	{"buffer", "Place in the film", 0, []string{sense.VideoFetched, sense.VideoPlayed}, map[string]string{sense.VideoFetched: "fetched", sense.VideoPlayed: "played"}},
	{"link", "Network", 0, []string{sense.NetReceive, sense.NetSend}, map[string]string{sense.NetReceive: "received", sense.NetSend: "sent"}},
	{"disk", "Disk", 100, []string{sense.DiskBusy}, map[string]string{sense.DiskBusy: "busy"}},
	{"viewer", "The computer that measures", 0, []string{sense.ViewerCPU, sense.ViewerOthers, sense.ViewerSteal}, map[string]string{sense.ViewerCPU: "our viewers, of one core", sense.ViewerOthers: "other programs", sense.ViewerSteal: "taken by the host"}},
	{"lag", "Our viewers were late by", 0, []string{sense.ViewerLag}, map[string]string{sense.ViewerLag: "at most"}},
}

// chartPoints is the largest number of points of a curve: more cannot be seen.
const chartPoints = 500

// maxCurves is the largest number of curves in a chart: more cannot be told apart.
const maxCurves = 8

// Timeline returns the charts of a run, with its attempts as bands and what happened as flags.
// Without readings there are none.
func Timeline(d *logbook.Document, series []Series) (charts []Chart) {
	to := lasted(d, series)
	base := Chart{ToS: to, Bands: Bands(d), Flags: flags(d)}
	used := map[string]bool{}
	add := func(c Chart) {
		if len(c.Curves) > 0 || c.Strip != nil {
			charts = append(charts, c)
		}
	}
	for _, f := range families {
		c := base
		c.Name, c.Title, c.Top = f.name, f.title, f.top
		for _, q := range f.quantities {
			used[q] = true
			c.Curves = append(c.Curves, curves(series, q, f.labels[q])...)
		}
		if len(c.Curves) > maxCurves {
			c.Curves = c.Curves[:maxCurves]
		}
		if len(c.Curves) > 0 {
			c.Unit = sense.Unit(f.quantities[0])
		}
		add(c)
		if f.name == "cpu" {
			used[sense.CPUCore] = true
			cores := base
			cores.Name, cores.Title, cores.Strip = "cores", "Each core", strip(series, to)
			add(cores)
		}
	}
	for _, s := range series { // what is drawn elsewhere, or says nothing over time
		q, _, _ := strings.Cut(s.Quantity, ":")
		if q == sense.VideoLead || q == sense.MemTotal || q == sense.MemFree || q == sense.GroupCPU || q == sense.ThreadUse || q == sense.OtherCPU {
			used[q] = true
		}
	}
	return append(charts, others(base, series, used)...)
}

// others returns a chart for each unit of the quantities that are in no family and that moved.
func others(base Chart, series []Series, used map[string]bool) (charts []Chart) {
	index := map[string]int{}
	for _, s := range series {
		q, _, _ := strings.Cut(s.Quantity, ":")
		if used[q] || s.Max == s.Min {
			continue
		}
		i, known := index[s.Unit]
		if !known {
			i = len(charts)
			index[s.Unit] = i
			c := base
			c.Name, c.Title, c.Unit = fmt.Sprintf("other-%d", i+1), "Other readings", s.Unit
			charts = append(charts, c)
		}
		if len(charts[i].Curves) < maxCurves {
			charts[i].Curves = append(charts[i].Curves, Curve{plainName(s.Key()), drawable(s.Points)})
		}
	}
	return charts
}

// plainName returns a quantity without its unit, which the axis has: "cpu iowait".
func plainName(key string) string {
	name, label, _ := strings.Cut(key, ":")
	for _, ending := range sense.Endings() {
		if rest, has := strings.CutSuffix(name, ending); has {
			name = rest
			break
		}
	}
	return strings.TrimSpace(strings.ReplaceAll(name, "_", " ") + " " + label)
}

// lasted returns how many seconds of a run there are to be shown.
func lasted(d *logbook.Document, series []Series) (s float64) {
	if d.Ended != nil {
		s = d.Ended.Sub(d.Started).Seconds()
	}
	for _, b := range Bands(d) {
		s = max(s, b.ToS)
	}
	for i := range series {
		if n := len(series[i].Points); n > 0 {
			s = max(s, series[i].Points[n-1].AtS)
		}
	}
	return min(max(1, s), longest)
}

// longest is the longest time that is drawn, in seconds: longer ones come from clocks that jumped.
const longest = 1e7

// curves returns the curves of a quantity, one for each of its labels and sources.
func curves(series []Series, quantity, name string) (list []Curve) {
	for _, s := range series {
		q, label, _ := strings.Cut(s.Quantity, ":")
		if q != quantity {
			continue
		}
		var words []string
		for _, w := range []string{name, label} {
			if w != "" {
				words = append(words, w)
			}
		}
		if !s.Plain {
			words = append(words, "("+s.Source+")")
		}
		list = append(list, Curve{strings.Join(words, " "), drawable(s.Points)})
	}
	slices.SortStableFunc(list, func(a, b Curve) int { return cmp.Compare(greatest(b), greatest(a)) })
	return list
}

// drawable returns the points within the time that is drawn, thinned. Numbers beyond all measure are
// left out.
func drawable(points []Point) []Point {
	odd := func(p Point) bool {
		return !(p.AtS >= 0 && p.AtS <= longest) || !(math.Abs(p.Value) < 1e18)
	}
	if slices.ContainsFunc(points, odd) {
		points = slices.DeleteFunc(slices.Clone(points), odd)
	}
	return thin(points, chartPoints)
}

func greatest(c Curve) (most float64) {
	for _, p := range c.Points {
		most = max(most, p.Value)
	}
	return most
}

// stripSteps is the number of steps of time of a strip.
const stripSteps = 400

// strip returns how busy each core was, nil where that is not known.
func strip(series []Series, to float64) *Strip {
	var s Strip
	for _, one := range series {
		q, label, has := strings.Cut(one.Quantity, ":")
		if q != sense.CPUCore || !has || !one.Plain {
			continue
		}
		sums, counts, row := make([]float64, stripSteps), make([]float64, stripSteps), make([]float64, stripSteps)
		for _, p := range one.Points {
			if i := int(p.AtS / to * stripSteps); i >= 0 && i < stripSteps {
				sums[i], counts[i] = sums[i]+p.Value, counts[i]+1
			}
		}
		last := math.NaN()
		for i := range row {
			if counts[i] > 0 {
				last = sums[i] / counts[i]
			}
			row[i] = last
		}
		s.Labels, s.Values = append(s.Labels, label), append(s.Values, row)
	}
	if len(s.Labels) == 0 {
		return nil
	}
	return &s
}

// Bands returns the times of a run's attempts, in order.
func Bands(d *logbook.Document) (list []Band) {
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Attempts {
			from := a.Started.Sub(d.Started).Seconds()
			b := Band{FromS: from, ToS: max(from, a.Ended.Sub(d.Started).Seconds()), Load: rungTitle(d, i), Grade: a.Verdict}
			if !math.IsNaN(b.FromS) && b.FromS >= 0 && b.ToS <= longest {
				list = append(list, b)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Band) int { return cmp.Compare(a.FromS, b.FromS) })
	for i := range list {
		list[i].Number = i + 1
	}
	return list
}

// rungTitle returns what a rung is called in a picture.
func rungTitle(d *logbook.Document, rung int) string {
	if d.Plan.Crowd != nil && rung < len(d.Plan.Crowd.Numbers) {
		n := 0
		for _, l := range d.Plan.Crowd.Mix {
			n += l.Streams
		}
		return Plural(n*d.Plan.Crowd.Numbers[rung], "stream")
	}
	return d.Rungs[rung].Load.Title()
}

// flags returns the remarks of people and the jumps in the film, where they happened.
func flags(d *logbook.Document) (list []Flag) {
	for _, r := range d.Remarks {
		list = append(list, Flag{r.AtS, string(r.Kind), strings.TrimSpace(RemarkMarks[r.Kind] + " " + r.Text)})
	}
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Attempts {
			began := a.Started.Sub(d.Started).Seconds()
			if a.StartS != nil {
				began += *a.StartS
			}
			for _, j := range a.Jumped() {
				list = append(list, Flag{began + j.AtS, "jump", fmt.Sprintf("jump %s, %.0f ms", j.Kind, 1000*j.DelayS)})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Flag) int { return cmp.Compare(a.AtS, b.AtS) })
	return list
}

// Between returns the part of a chart from one time to another, as a chart that begins at 0.
func (c Chart) Between(from, to float64) Chart {
	part := c
	part.FromS, part.ToS, part.Bands, part.Flags, part.Curves = 0, to-from, nil, nil, nil
	for _, curve := range c.Curves {
		cut := Curve{Label: curve.Label}
		for _, p := range curve.Points {
			if p.AtS >= from && p.AtS <= to {
				cut.Points = append(cut.Points, Point{p.AtS - from, p.Value, p.Phase})
			}
		}
		if len(cut.Points) > 0 {
			part.Curves = append(part.Curves, cut)
		}
	}
	for _, f := range c.Flags {
		if f.AtS >= from && f.AtS <= to {
			part.Flags = append(part.Flags, Flag{f.AtS - from, f.Kind, f.Text})
		}
	}
	part.Strip = nil
	return part
}
