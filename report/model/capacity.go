package model

import (
	"fmt"
	"strings"

	"vividstrain/core/capacity"
	"vividstrain/core/load"
)

// Capacity returns the sentences on how often a mix fits a device.
func Capacity(m *capacity.Model, mix []load.Load, a capacity.Answer, reserve float64, scale capacity.Scale) (lines []Line) {
	var loads []string
	for _, l := range mix {
		loads = append(loads, l.String())
	}
	what := strings.Join(loads, " with ")
	who := m.Device
	if scale.Cores > 0 || scale.Faster > 0 && scale.Faster != 1 {
		who = "A box like " + m.Device
		if scale.Cores > 0 {
			who += fmt.Sprintf(" with %d cores instead of %d", scale.Cores, m.Cores)
		}
		if scale.Faster > 0 && scale.Faster != 1 {
			who += fmt.Sprintf(", each %s times as fast", Figures(scale.Faster))
		}
		who += ", an estimate,"
	}
	lines = append(lines, Line{"", fmt.Sprintf("%s carries %s %d times at once.", who, what, a.Times)})
	lines = append(lines, Line{"range", fmt.Sprintf("%d to %d: the fit misses by up to %s %%", a.Low, a.High, Figures(a.ErrorPct))})
	if reserve > 0 {
		lines = append(lines, Line{"reserve", fmt.Sprintf("%s %% of %s stays free", Figures(100*reserve), resourceWords[a.Limiter])})
	}
	lines = append(lines, Line{"limit", resourceWords[a.Limiter] + " run out first; each takes " + costText(a.Limiter, a.Costs[a.Limiter])})
	for _, l := range a.Limits {
		lines = append(lines, Line{"doubt", l})
	}
	seen := map[string]bool{}
	for _, l := range a.Surer {
		if !seen[l.String()] {
			seen[l.String()] = true
			lines = append(lines, Line{"surer", fmt.Sprintf("vividstrain climb %q", l.String())})
		}
	}
	return lines
}

var resourceWords = map[capacity.Resource]string{capacity.Cores: "the cores", capacity.Decoder: "the decoder's time slots", capacity.Encoder: "the encoder's time slots", capacity.Memory: "bytes of memory"}

func costText(r capacity.Resource, v float64) string {
	switch r {
	case capacity.Memory:
		return Bytes(v)
	case capacity.Cores:
		return Figures(v) + " % of a core"
	}
	return Figures(v) + " %"
}

// PriceList returns what usual loads cost on a device: in load units, and of each resource.
func PriceList(m *capacity.Model) Table {
	t := Table{Head: []string{"load", "units of the cores", "units of the decoder", "cores", "decoder", "memory"}, Right: []int{1, 2, 3, 4, 5}}
	for _, line := range []string{"h264 576i25 4M", "h264 720p25 4M", capacity.Unit, "h264 1080p50 16M", "h264 2160p25 30M", "h264 2160p50 50M", "hevc 1080p25 10bit 6M", "hevc 2160p25 10bit hdr 30M", "hevc 2160p50 10bit hdr 50M"} {
		l, err := load.Parse(line)
		if err != nil {
			continue
		}
		a, err := m.Fits([]load.Load{l}, 0, capacity.Scale{})
		if err != nil {
			continue
		}
		row := Cells(line, "-", "-", "-", "-", "-")
		units := m.Units(l)
		for i, r := range []capacity.Resource{capacity.Cores, capacity.Decoder} {
			if u, known := units[r]; known {
				row[1+i].Text = Figures(u)
			}
		}
		for i, r := range []capacity.Resource{capacity.Cores, capacity.Decoder, capacity.Memory} {
			if v, known := a.Costs[r]; known && v > 0 {
				row[3+i].Text = strings.TrimSuffix(costText(r, v), " of a core")
			}
		}
		if len(a.Limits) > 0 {
			row[0].Text += " (not measured)"
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

// Fitted returns how well the costs fit what was measured.
func Fitted(m *capacity.Model) Table {
	t := Table{Head: []string{"kind", "attempts", "misses them by"}, Right: []int{1, 2}}
	for _, f := range m.Fitted() {
		t.Rows = append(t.Rows, Cells(f.Kind, fmt.Sprint(f.Attempts), Figures(f.ErrorPct)+" %"))
	}
	return t
}
