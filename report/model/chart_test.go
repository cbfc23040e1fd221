package model

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// timed is a run of two attempts with readings of several quantities.
func timed(t testing.TB) (*logbook.Document, []logbook.Reading) {
	started := time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC)
	at := func(s float64) time.Time { return started.Add(time.Duration(s * 1e9)) }
	l, err := load.Parse("h264 720p25 5M")
	require.NoError(t, err)
	delay := 0.5
	d := &logbook.Document{ID: "r", Kind: "climb", Started: started, Device: logbook.Device{Name: "Box"}, Rungs: []logbook.Rung{{Load: l, Column: "h264", Attempts: []logbook.Attempt{
		{Verdict: verdict.Smooth, Started: at(10), Ended: at(20), StartS: &delay, Frames: &tally.Frames{Due: 200, Shown: 200}, Buffer: &tally.Buffer{Jumps: []tally.Seek{{Kind: tally.Back, AtS: 8, DelayS: 0.25}}}},
		{Verdict: verdict.Void, Started: at(30), Ended: at(35), Reasons: []string{"others"}}}}},
		Remarks: []logbook.Remark{{AtS: 12, Kind: logbook.Stutter, Text: "a jerk"}}}
	var readings []logbook.Reading
	for i := range 160 {
		s := float64(i) / 4
		for q, v := range map[string]float64{sense.CPU: float64(i % 50), "cpu_core_pct:0": 10, "cpu_core_pct:1": 90, sense.VideoDrops: float64(i), "odd_thing_rpm": float64(i), "still_v": 5} {
			readings = append(readings, logbook.Reading{AtS: s, Kind: "system", Source: "cpu", Quantity: q, Value: v})
		}
	}
	return d, readings
}

func TestTimeline(t *testing.T) {
	d, readings := timed(t)
	charts := Timeline(d, NewSeries(readings))
	names := map[string]Chart{}
	for _, c := range charts {
		names[c.Name] = c
	}
	require.Len(t, charts, 4, "what did not move is not drawn")
	require.Equal(t, "all cores", names["cpu"].Curves[0].Label)
	require.Equal(t, []string{"0", "1"}, names["cores"].Strip.Labels)
	require.Equal(t, 90.0, names["cores"].Strip.Values[1][100])
	require.Equal(t, "odd thing", names["other-1"].Curves[0].Label)
	require.Equal(t, []Band{{10, 20, 1, "h264 720p25 5M", verdict.Smooth}, {30, 35, 2, "h264 720p25 5M", verdict.Void}}, names["cpu"].Bands)
	require.Equal(t, []Flag{{12, "stutter", "≋ stutter seen a jerk"}, {18.5, "jump", "jump back, 250 ms"}}, names["cpu"].Flags)
	part := names["drops"].Between(10, 20)
	require.Equal(t, 10.0, part.ToS)
	require.Len(t, part.Curves[0].Points, 41)
	require.Equal(t, Point{AtS: 0, Value: 40}, part.Curves[0].Points[0])
	require.Len(t, part.Flags, 2)

	r := NewReport(d, readings, false)
	require.Len(t, r.Parts, 2)
	require.Equal(t, "attempt 2, h264 720p25 5M", r.Excluded.Rows[0][0].Text)
	require.Equal(t, []verdict.Grade{verdict.Smooth, verdict.Void}, r.Steps[0].Grades)
	require.True(t, NewReport(d, nil, false).Unread)
}

// Welch's interval, worked out by hand: variances 1 and 4 of three values each give a standard error of
// 1.291 and 2.94 degrees of freedom, for which tables have a factor of 3.22.
func TestWelch(t *testing.T) {
	by, within := Welch([]float64{1, 2, 3}, []float64{4, 6, 8})
	require.InDelta(t, 4, by, 1e-9)
	require.InDelta(t, 1.291*3.22, within, 0.03)
	_, within = Welch([]float64{1, 1, 1}, []float64{1, 1, 1})
	require.Zero(t, within)
}

// Runs are paired by their loads, wherever they are in them.
func TestComparePairsByLoad(t *testing.T) {
	run := func(name string, lines ...string) Measured {
		d := &logbook.Document{ID: name, Kind: "climb", Device: logbook.Device{Name: name, Spec: map[string]string{"cores": fmt.Sprint(len(name))}}}
		for i, line := range lines {
			l, err := load.Parse(line)
			require.NoError(t, err)
			g := verdict.Smooth
			if i == len(lines)-1 {
				g = verdict.Choppy
			}
			d.Rungs = append(d.Rungs, logbook.Rung{Load: l, Attempts: []logbook.Attempt{{Verdict: g, Frames: &tally.Frames{Due: 10, Dropped: i}, Clip: name}}})
		}
		return Measured{Docs: []*logbook.Document{d}}
	}
	c := Compare([]Measured{run("a", "h264 240p25 1M", "h264 720p25 5M"), run("bb", "h264 720p25 5M", "h264 480p25 2M", "h264 1080p25 8M")})
	var loads []string
	for _, r := range c.Table.Rows[:4] {
		loads = append(loads, r[0].Text)
	}
	require.Equal(t, []string{"h264 240p25 1M", "h264 720p25 5M", "h264 480p25 2M", "h264 1080p25 8M"}, loads)
	require.Equal(t, verdict.Choppy, c.Table.Rows[1][1].Grade)
	require.Equal(t, verdict.Smooth, c.Table.Rows[1][2].Grade)
	require.Equal(t, "not tried", c.Table.Rows[0][2].Text)
	require.Contains(t, c.Sentences[0], "h264 720p25 5M was played from clips that are not the same")
	require.Equal(t, Cells("cores", "1", "2"), c.Differs.Rows[0])
}
