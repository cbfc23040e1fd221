package text

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// climbing is a run whose twelfth rung of twenty is tried.
func climbing() *Live {
	l := &Live{Title: "Box A, route engine, 20 rungs", Time: "14:05:10", Left: "about 2 min left", Rung: 11, Doing: "h264 1080p50 20M", Elapsed: 6 * time.Second, Total: 10 * time.Second,
		Frames: &tally.Frames{Due: 300, Shown: 288, Dropped: 12}, Seconds: []Second{{50, 0}, {50, 0}, {50, 6}, {50, 50}, {0, 0}}, Trace: &sense.Trace{Length: 60},
		Limiter: "the cores are full: all cores at 97 %", Said: []string{"✎ note green bars"}, Foot: "s stutter seen",
		Viewers: []tally.Standing{{Played: 4 * time.Second, Fetched: 9 * time.Second}}}
	for i := range 20 {
		r := LiveRung{Title: fmt.Sprintf("h264 1080p50 %dM", i+1)}
		if i < 11 {
			r.Verdicts, r.Result = []verdict.Grade{verdict.Smooth}, "0 of 450"
		}
		l.Rungs = append(l.Rungs, r)
	}
	s := sense.Sample{Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 97}, {Quantity: sense.Temperature, Value: 61}, {Quantity: sense.BlockUse, Value: 40}}}
	l.Latest = map[sense.Identity]sense.Sample{s.Source: s}
	for range 60 {
		l.Trace.Add(s)
	}
	return l
}

// The view fills the terminal, whatever its size, and never passes its edges; the rung that is
// tried is always in view.
func TestLiveFitsTheTerminal(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {158, 48}, {40, 10}, {60, 12}, {20, 3}} {
		lines := strings.Split(Style{Color: true}.Live(climbing(), size[0], size[1]), "\n")
		require.Equal(t, max(size[1], 10), len(lines), size)
		for _, line := range lines {
			require.LessOrEqual(t, text.RuneWidthWithoutEscSequences(line), max(size[0], 40), "%v: %q", size, line)
		}
		require.Contains(t, text.StripEscape(strings.Join(lines, "\n")), "▶     h264 1080p50 12M", size)
	}
	drawn := Style{}.Live(climbing(), 100, 30)
	for _, words := range []string{"Box A, route engine, 20 rungs", "about 2 min left  14:05:10", "  ●   h264 1080p50 11M", "6 of 10 s", "due 300  shown 288  dropped 12",
		"each second ··▁█", "all cores", "97 %", "decoder", "61 °C", "▲ the cores are full: all cores at 97 %", "viewer 1", "✎ note green bars"} {
		require.Contains(t, drawn, words)
	}
	require.NotContains(t, drawn, "\x1b")
}

// BenchmarkLive draws the view; it is drawn twice a second.
func BenchmarkLive(b *testing.B) {
	l := climbing()
	for b.Loop() {
		Style{Color: true}.Live(l, 158, 48)
	}
	b.ReportMetric(2*100*b.Elapsed().Seconds()/float64(b.N), "%core")
}
