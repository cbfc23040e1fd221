package model

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

func parsed(t *testing.T, line string) load.Load {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return l
}

func TestSentences(t *testing.T) {
	easy, hard, free := parsed(t, "h264 720p25 5M"), parsed(t, "h264 1080p25 10M"), 41.2
	for want, c := range map[string]logbook.ColumnCeiling{
		"Not tried yet.":          {},
		"No rung could be tried.": {LadderEnd: true, Untried: []load.Load{hard}},
		"No rung plays smoothly: h264 1080p25 10M failed. It was refused: it has no decoder for it.": {
			Next: &logbook.Next{Load: hard, Verdict: verdict.Failed, Reason: "it refused: it has no decoder for it"}, Limiter: verdict.Refused, Evidence: "it gave up"},
		"The highest smooth load is h264 1080p25 10M, not confirmed. Harder rungs are still to be tried.":                                {Load: &hard},
		"The highest smooth load is h264 1080p25 10M, confirmed. The ladder ends there: the device's limit was not reached.":             {Load: &hard, LadderEnd: true, Confirmed: true},
		"The highest smooth load is h264 1080p25 10M, not confirmed (h264 720p25 5M could not be tried). No harder rung could be tried.": {Load: &hard, LadderEnd: true, Untried: []load.Load{easy}},
		"No rung plays smoothly: h264 1080p25 10M was marginal. Why: not known; nothing that was measured reached its limit.": {
			Next: &logbook.Next{Load: hard, Verdict: verdict.Marginal}, Limiter: verdict.Unknown, Evidence: "nothing that was measured reached its limit"},
		"The highest smooth load is h264 720p25 5M, confirmed. The next rung, h264 1080p25 10M, was choppy. What ran out: core (one thread). At the ceiling 41 % of the gpu-decode is still free.": {
			Load: &easy, Confirmed: true, Next: &logbook.Next{Load: hard, Verdict: verdict.Choppy}, Limiter: verdict.Core, Evidence: "one thread", Headroom: &free, HeadroomOf: verdict.GPUDecode},
	} {
		require.Equal(t, want, sentence(c))
	}
	d := &logbook.Document{Kind: "climb", Rungs: []logbook.Rung{{Load: easy, Attempts: []logbook.Attempt{{Verdict: verdict.Smooth}}}},
		Ceiling: &logbook.Ceiling{Columns: []logbook.ColumnCeiling{{Column: "h264", Load: &easy, Confirmed: true}}}}
	d.Notes = []string{"out of order: y"}
	d.Ceiling.Columns = append(d.Ceiling.Columns, logbook.ColumnCeiling{Column: "hevc"})
	lines := Conclusions(d)
	require.True(t, strings.HasPrefix(lines[0], "h264: The highest"))
	require.Equal(t, "hevc: Not tried yet.", lines[1])
	require.Equal(t, "Note: out of order: y.", lines[2])
}

func TestFigures(t *testing.T) {
	for v, want := range map[float64]string{24.5: "24.5", 0.126: "0.13", 7.25: "7.25", 24: "24", 53.04: "53", 1450: "1450", 999.6: "1000", -3.5: "-3.5", 0: "0"} {
		require.Equal(t, want, Figures(v))
	}
	require.Equal(t, "24.5 W", Value("wall_power_w", 24.5))
}

func TestBytes(t *testing.T) {
	for n, want := range map[float64]string{0: "0 B", 999: "999 B", 1500: "1.5 kB", 25e6: "25 MB", 1.26e9: "1.3 GB", 2e12: "2.0 TB"} {
		require.Equal(t, want, Bytes(n))
	}
}

// However long a run was, a series has few points, and none of its peaks is lost.
func TestSeriesAreThinnedWithoutLosingPeaks(t *testing.T) {
	var readings []logbook.Reading
	const n = 100_000
	for i := range n {
		v := 20 + 5*math.Sin(float64(i)/500)
		switch i {
		case 31_415:
			v = 99
		case 77_777:
			v = 1
		}
		readings = append(readings, logbook.Reading{AtS: float64(i) / 4, Kind: "system", Source: "cpu", Quantity: sense.CPU, Value: v, Phase: logbook.Trying})
	}
	list := NewSeries(readings)
	require.Len(t, list, 1)
	s := list[0]
	require.LessOrEqual(t, len(s.Points), MaxPoints)
	require.Greater(t, len(s.Points), MaxPoints/2)
	require.Equal(t, [3]float64{1, 99, n}, [3]float64{s.Min, s.Max, float64(s.N)})
	require.Equal(t, "%", s.Unit)
	peaks := map[float64]float64{}
	for i, p := range s.Points {
		peaks[p.Value] = p.AtS
		require.True(t, i == 0 || p.AtS > s.Points[i-1].AtS)
	}
	require.Equal(t, 31_415/4., peaks[99])
	require.Equal(t, 77_777/4., peaks[1])
}

// Each source of a quantity has a series of its own, also where two have one name.
func TestSeriesBySource(t *testing.T) {
	at := func(kind, source string, v float64) logbook.Reading {
		return logbook.Reading{Kind: kind, Source: source, Quantity: sense.CPU, Value: v}
	}
	list := NewSeries([]logbook.Reading{at("system", "cpu", 10), at("snmp", "cpu", 30), at("system", "cpu", 20)})
	require.Len(t, list, 2)
	require.Equal(t, sense.CPU, list[0].Key())
	require.Equal(t, 15., list[0].Mean)
	require.Equal(t, sense.CPU+"@cpu", list[1].Key())
	require.Equal(t, [][]Cell{Cells(sense.CPU, "15 %", "10 %", "20 %", "2"), Cells(sense.CPU+"@cpu", "30 %", "30 %", "30 %", "1")}, Quantities(list).Rows)
	require.Empty(t, NewSeries(nil))
}

// What a route could not count is shown as that, not as nothing dropped.
func TestFramesThatWereNotCounted(t *testing.T) {
	l := parsed(t, "h264 720p25 5M")
	d := &logbook.Document{Kind: "climb", Rungs: []logbook.Rung{{Load: l, Attempts: []logbook.Attempt{
		{Verdict: verdict.Smooth, Reasons: []string{"it played to its end", "frames were not counted"}},
		{Verdict: verdict.Choppy, Frames: &tally.Frames{Due: 100, Shown: 90, Dropped: 10, Freezes: 1, LongestFreezeMS: 250}},
		{Verdict: verdict.Failed, Reasons: []string{"it died"}},
	}}}}
	rows := NewRun(d, nil, false).Rungs.Rows
	require.Equal(t, append([]Cell{{Text: l.String()}, {Grade: verdict.Smooth}}, Cells("not counted", "-", "-", "-")...), rows[0])
	require.Equal(t, "10 of 100", rows[1][2].Text)
	require.Equal(t, "250 ms", rows[1][3].Text)
	require.Equal(t, "-", rows[2][2].Text)
	require.Contains(t, AttemptLine(&d.Rungs[0].Attempts[2]), "it died")
}

func TestStatesOfARun(t *testing.T) {
	d := &logbook.Document{ID: "x", Kind: "climb", Started: time.Unix(0, 0), Plan: logbook.Plan{BaselineS: 2}, Baseline: logbook.Baseline{CPUPct: 3, MemUsed: 1e9}}
	require.Equal(t, Interrupted, NewRun(d, nil, false).State)
	require.Equal(t, Running, NewRun(d, nil, true).State)
	d.Complete = true
	r := NewRun(d, nil, false)
	require.Equal(t, Complete, r.State)
	require.Equal(t, 3., *r.IdleCPUPct)
	require.Empty(t, r.Rungs.Rows)
	require.Empty(t, r.Sentences, "nothing was tried")
	d.Kind = "a kind from a later version"
	require.Equal(t, "rung", NewRun(d, nil, false).Rung)
}
