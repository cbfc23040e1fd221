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

func TestAnswers(t *testing.T) {
	easy, hard, free, full := parsed(t, "h264 720p25 5M"), parsed(t, "h264 1080p25 10M"), 41.2, 0.4
	for want, c := range map[string]logbook.ColumnCeiling{
		"not tried yet.":          {},
		"no rung could be tried.": {LadderEnd: true, Untried: []load.Load{hard}},
		"Box plays no rung smoothly, not even h264 1080p25 10M. | next: h264 1080p25 10M failed | why: refused: it has no decoder for it": {
			Next: &logbook.Next{Load: hard, Verdict: verdict.Failed, Reason: "it refused: it has no decoder for it"}, Limiter: verdict.Refused, Evidence: "it gave up"},
		"Box plays up to h264 1080p25 10M smoothly, not confirmed by a second try. | then: harder rungs are still to be tried": {Load: &hard},
		"Box plays up to h264 1080p25 10M smoothly. | then: the ladder ends here; the device's limit was not reached (41 % of all cores is left); --ladder bitrate goes on with h264 1080p25 20M": {
			Load: &hard, LadderEnd: true, Confirmed: true, Headroom: &free, HeadroomOf: verdict.CPU},
		"Box plays up to h264 1080p25 10M smoothly. | then: the ladder ends here, near the device's limit (0 % of all cores is left); --ladder bitrate goes on with h264 1080p25 20M": {
			Load: &hard, LadderEnd: true, Confirmed: true, Headroom: &full, HeadroomOf: verdict.CPU},
		"Box plays up to h264 1080p25 10M smoothly, not confirmed: h264 720p25 5M could not be tried. | then: no harder rung could be tried": {Load: &hard, LadderEnd: true, Untried: []load.Load{easy}},
		"Box plays no rung smoothly, not even h264 1080p25 10M. | next: h264 1080p25 10M was marginal | why: not known; nothing that was measured reached its limit": {
			Next: &logbook.Next{Load: hard, Verdict: verdict.Marginal}, Limiter: verdict.Unknown, Evidence: "nothing that was measured reached its limit"},
		"Box plays up to h264 720p25 5M smoothly. | next: h264 1080p25 10M was choppy: 9 of 90 frames dropped | why: one core is full: one thread": {
			Load: &easy, Confirmed: true, Next: &logbook.Next{Load: hard, Verdict: verdict.Choppy, Reason: "9 of 90 frames dropped"}, Limiter: verdict.Core, Evidence: "one thread"},
	} {
		d := &logbook.Document{Kind: "climb", Device: logbook.Device{Name: "Box"}, Ceiling: &logbook.Ceiling{Columns: []logbook.ColumnCeiling{c}}, Rungs: []logbook.Rung{{Load: parsed(t, "h264 240p25 1M"), Attempts: []logbook.Attempt{{}}}}}
		require.Equal(t, want, joined(climbAnswer(d)))
	}
}

// joined is an answer on one line.
func joined(lines []Line) string {
	var parts []string
	for _, l := range lines {
		text := l.Text
		if l.About != "" {
			text = l.About + ": " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " | ")
}

// Every number of an answer is the document's.
func TestAnswersGiveTheEvidence(t *testing.T) {
	l := parsed(t, "h264 720p25 5M")
	smooth := logbook.Attempt{Verdict: verdict.Smooth, Frames: &tally.Frames{Due: 450, Shown: 450}, Use: sense.Use{
		sense.CPU: {Mean: 41, N: 9}, sense.BlockUse: {Mean: 62, N: 9}, sense.ThreadMax: {Mean: 12, N: 9}, sense.MemFree: {Mean: 6.3e8, N: 9}, sense.Temperature: {Mean: 61, N: 9}, sense.WallPower: {Mean: 8.14, N: 9}}}
	d := &logbook.Document{Kind: "climb", Complete: true, Device: logbook.Device{Name: "Box"}, Rungs: []logbook.Rung{{Load: l, Attempts: []logbook.Attempt{smooth, smooth}}},
		Baseline: logbook.Baseline{Readings: []logbook.Reading{{Quantity: sense.Temperature, Value: 40}, {Quantity: sense.WallPower, Value: 5}}},
		Criteria: verdict.Default(), Notes: []string{"it is warm", "out of order: y"}, Doubts: []verdict.Doubt{{What: "it is warm", Remedy: "let it cool"}},
		Ceiling: &logbook.Ceiling{Columns: []logbook.ColumnCeiling{{Column: "h264", Load: &l, Confirmed: true}, {Column: "hevc"}}}}
	d.Ceiling.Load = &l
	require.Equal(t, "h264: Box plays up to h264 720p25 5M smoothly. | tries: 2 of 2 smooth; 0 of 900 frames dropped: below 0.33 % at 95 %, if drops were independent"+
		" | left: 38 % of the decoder, 59 % of all cores, 88 % of the busiest core, 630 MB of memory, at 61 °C (21 above idle), at 8.14 W (3.1 above idle)"+
		" | then: harder rungs are still to be tried | hevc: not tried yet. | doubt: it is warm; let it cool", joined(Answer(d)))
	require.Equal(t, []string{"Note: out of order: y."}, NewRun(d, nil, false, Choice{}).Notes)
	d.Rungs[0].Attempts = d.Rungs[0].Attempts[:1]
	d.Rungs[0].Attempts[0].Frames = &tally.Frames{Due: 60, Shown: 60, Hidden: 60}
	d.Gaps = []logbook.Gap{{Source: "plug", Reason: "it did not answer"}}
	text := joined(Answer(d))
	require.Contains(t, text, "only 60 frames were judged: use a longer --hold")
	require.Contains(t, text, "plug could not be read (it did not answer)")
	require.Contains(t, NewRun(d, nil, false, Choice{}).Notes[1], "a screen of 60 Hz can show 60 of the 120 frames")
}

// What did not move gets no column, what ran out does; the choice is the user's.
func TestFieldsThatMatter(t *testing.T) {
	l := parsed(t, "h264 720p25 5M")
	attempt := func(heat, link float64, limiter verdict.Limiter) logbook.Attempt {
		return logbook.Attempt{Verdict: verdict.Smooth, Decode: "hardware", Limiter: limiter, Frames: &tally.Frames{Due: 100, Shown: 100},
			Use: sense.Use{sense.CPU: {Mean: 40, N: 1}, sense.Temperature: {Mean: heat, Max: heat, N: 1}, sense.NetLink + ":eth0": {Mean: link, N: 1}, sense.EncodeUse: {N: 1}}}
	}
	d := &logbook.Document{Kind: "climb", Rungs: []logbook.Rung{{Load: l, Attempts: []logbook.Attempt{attempt(50, 40, ""), attempt(51, 40, verdict.Network)}}}}
	require.Equal(t, []string{"load", "verdict", "dropped", "decoded by", "all cores", "link"}, NewRun(d, nil, false, Choice{}).Rungs.Head)
	d.Rungs[0].Attempts[1] = attempt(60, 40, "")
	require.Equal(t, []string{"load", "verdict", "dropped", "decoded by", "all cores", "degrees"}, NewRun(d, nil, false, Choice{}).Rungs.Head)
	wide := NewRun(d, nil, false, Choice{All: true}).Rungs
	require.Equal(t, []string{"load", "verdict", "dropped", "decoded by", "freeze", "all cores", "encoder", "link", "degrees"}, wide.Head)
	require.Empty(t, wide.Optional)
	named := NewRun(d, nil, false, Choice{Names: []string{"degrees", "noise"}}).Rungs
	require.Equal(t, Cells("51 °C", "-"), append(Cells("51 °C"), named.Rows[0][3]))
	require.Equal(t, "50 °C", named.Rows[0][2].Text)
}

// Promises stand beside what was done, of each device for itself.
func TestPromises(t *testing.T) {
	yes, no := true, false
	part := func(device string, did verdict.Grade, smooth *bool) logbook.DevicePart {
		return logbook.DevicePart{Device: device, Verdict: did, Promise: &tally.Promise{Supported: true, Smooth: smooth}}
	}
	attempt := logbook.Attempt{Verdict: verdict.Choppy, Devices: []logbook.DevicePart{part("left", verdict.Smooth, &no), part("right", verdict.Choppy, &yes)}}
	d := &logbook.Document{Rungs: []logbook.Rung{{Load: parsed(t, "h264 720p25 5M"), Attempts: []logbook.Attempt{attempt, attempt}}}}
	table := promises(d)
	require.Equal(t, "device", table.Head[9])
	require.Len(t, table.Rows, 2)
	for i, want := range [][]string{{"not smooth", "better than it says", "left"}, {"smooth", "a false promise", "right"}} {
		require.Equal(t, want, []string{table.Rows[i][6].Text, table.Rows[i][8].Text, table.Rows[i][9].Text})
	}
	d.Rungs[0].Attempts = []logbook.Attempt{{Verdict: verdict.Smooth, Promise: &tally.Promise{Supported: true, Smooth: &yes, Efficient: &yes}}}
	require.Equal(t, "smooth, efficient", promises(d).Rows[0][6].Text)
}

func TestDevicesAreDescribed(t *testing.T) {
	require.Equal(t, "Boxmaker One, 4 cores, 8.0 GB, Debian 13, arm64, power mode balanced, bios 1.4, price 189EUR", deviceLine(logbook.Device{
		Spec:  map[string]string{"product": "Boxmaker One", "cores": "4", "memory_bytes": "8000000000", "system": "Debian 13, arm64", "power_mode": "balanced"},
		Facts: map[string]string{"price": "189EUR", "bios": "1.4"}}))
	require.Equal(t, "1 core", deviceLine(logbook.Device{Spec: map[string]string{"cores": "1"}}))
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
	rows := NewRun(d, nil, false, Choice{}).Rungs.Rows
	require.Equal(t, append([]Cell{{Text: l.String()}, {Grade: verdict.Smooth}}, Cells("not counted", "-")...), rows[0])
	require.Equal(t, "10 of 100", rows[1][2].Text)
	require.Equal(t, "250 ms", rows[1][3].Text)
	require.Equal(t, "-", rows[2][2].Text)
	require.Contains(t, AttemptLine(&d.Rungs[0].Attempts[2]), "it died")
	late := logbook.Attempt{Verdict: verdict.Failed, Reasons: []string{"it did not start within 10 s"}, Buffer: &tally.Buffer{}, Windows: make([]tally.Window, 1)}
	require.Equal(t, "  it did not start within 10 s", AttemptLine(&late))
}

func TestStatesOfARun(t *testing.T) {
	d := &logbook.Document{ID: "x", Kind: "climb", Started: time.Unix(0, 0), Plan: logbook.Plan{BaselineS: 2}, Baseline: logbook.Baseline{CPUPct: 3, MemUsed: 1e9}}
	require.Equal(t, Interrupted, NewRun(d, nil, false, Choice{}).State)
	require.Equal(t, Running, NewRun(d, nil, true, Choice{}).State)
	d.Complete = true
	r := NewRun(d, nil, false, Choice{})
	require.Equal(t, Complete, r.State)
	require.Equal(t, 3., *r.IdleCPUPct)
	require.Empty(t, r.Rungs.Rows)
	require.Empty(t, r.Answer, "nothing was tried")
	d.Kind = "a kind from a later version"
	require.Equal(t, "rung", NewRun(d, nil, false, Choice{}).Rung)
}

// A conversion says whether it is fast enough to watch, and what films take.
func TestConversions(t *testing.T) {
	d := logbook.NewDocument("convert", time.Unix(0, 0), "x")
	d.Device.Name = "Box"
	d.Conversion = &logbook.Conversion{File: "films/night.mp4", Source: "h264 1080p30", Goal: "720p 4M", Copies: 1, Library: "films", Films: 14, LibraryS: 21 * 3600,
		Tries: []logbook.ConversionTry{{TookS: 5, MediaS: 10, Speed: 2.1, Bytes: 5e6, BitrateBPS: 4e6, CPUPct: 160, PeakBytes: 1e8}, {TookS: 5, MediaS: 10, Speed: 2}}}
	require.Equal(t, "Box converts h264 1080p30 -> 720p 4M at 2.00 times real time: fast enough to watch. | to spare: 50 % of its speed | tries: 2, from 2.00 to 2.10 times real time"+
		" | film: a film of two hours takes 1 h 0 min | library: 14 films of 21 h 0 min together (films) take 10 h 30 min", joined(Answer(d)))
	r := NewRun(d, nil, false, Choice{})
	require.Equal(t, Cells("1", "5.0 s", "10.0 s", "2.10 x", "4 Mb/s", "160 %", "100 MB"), r.Rungs.Rows[0])
	require.Empty(t, r.How)
	d.Conversion.AheadS, d.Conversion.LengthS, d.Conversion.Tries[1].Speed = 10, 600, 1.01
	require.Equal(t, "Box converts h264 1080p30 -> 720p 4M, held to 10 s ahead of its viewer. | tries: 2, from 1.01 to 2.10 times real time", joined(Answer(d)))
	d.Conversion.Tries, d.Conversion.Films = []logbook.ConversionTry{{Speed: 0.5}}, 0
	require.Equal(t, "Box converts h264 1080p30 -> 720p 4M at 0.50 times real time: too slow to watch. | short by: a factor of 2.10 | film: a film of two hours takes 4 h 0 min", joined(Answer(d)))
	rows := Runs([]logbook.Entry{{Document: *d}}, false, time.Unix(7200, 0)).Rows
	require.Equal(t, []string{"2 h", "convert", "Box", "night.mp4 -> 720p 4M", "0.50 x real time"}, texts(rows[0][1:6]))
	for s, want := range map[float64]string{45: "45 s", 80: "1 min 20 s", 120: "2 min", 700: "12 min", 7500: "2 h 5 min", 200000: "2 days 7 h"} {
		require.Equal(t, want, Span(s))
	}
}

func texts(cells []Cell) (list []string) {
	for _, c := range cells {
		list = append(list, c.Text)
	}
	return list
}

// Runs of the same show how often each ceiling was found, and what varied.
func TestSpread(t *testing.T) {
	easy, hard := parsed(t, "h264 720p25 5M"), parsed(t, "h264 1080p25 10M")
	one := func(id string, top *load.Load, g verdict.Grade, cpu float64) *logbook.Document {
		smooth := logbook.Attempt{Verdict: verdict.Smooth, Frames: &tally.Frames{Due: 100, Shown: 100}, Use: sense.Use{sense.CPU: {Mean: cpu / 2, N: 1}, sense.GroupCPU: {Mean: cpu, N: 1}}}
		other := smooth
		other.Verdict = g
		return &logbook.Document{ID: id, Kind: "climb", Device: logbook.Device{Name: "Box"}, Ceiling: &logbook.Ceiling{Load: top},
			Rungs: []logbook.Rung{{Load: easy, Attempts: []logbook.Attempt{smooth}}, {Load: hard, Attempts: []logbook.Attempt{other}}}}
	}
	docs := []*logbook.Document{one("x-1", &hard, verdict.Smooth, 50), one("x-2", &hard, verdict.Smooth, 60), one("x-3", &easy, verdict.Choppy, 75)}
	lines, table := Spread(docs)
	require.Equal(t, "Box plays up to h264 1080p25 10M in 2 of 3 runs, up to h264 720p25 5M in 1 of 3 runs. | spread: the ceiling varied: see the table"+
		" | varied: h264 1080p25 10M (smooth 2, choppy 1) | varied: a frame of h264 720p25 5M cost 1.5 times as much CPU in one run as in another", joined(lines))
	require.Equal(t, []string{"x-3", "h264 720p25 5M", "-", "-", "38 %", "0"}, texts(table.Rows[2]))
	lines, _ = Spread(docs[:1])
	require.Contains(t, joined(lines), "the ceiling was the same in every run")
}

// What was put between a server and its viewers is said.
func TestNetworksAreDescribed(t *testing.T) {
	d := logbook.NewDocument("climb", time.Unix(0, 0), "x")
	require.Empty(t, between(d))
	d.Route.Options = map[string]string{"link": "2M,20M@20s/viewer", "delay_s": "0.04", "loss_bps": "4.13e+06", "loss_pct": "0.5"}
	require.Equal(t, []string{"Note: between server and viewers there was a link of 2 Mb/s, then 20 Mb/s from 20s on for each viewer, and a round trip of 40 ms, and 0.5 % of lost packets, with which a connection carries at most 4.13 Mb/s."}, between(d))
	d.Route.Options = map[string]string{"link": "6M"}
	require.Equal(t, []string{"Note: between server and viewers there was a link of 6 Mb/s shared by all viewers."}, between(d))
}
