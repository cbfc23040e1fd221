package text

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

func number(n int) *int { return &n }

func rated(v float64) *float64 { return &v }

// crowded is the document of a crowd on a server.
func crowded(t *testing.T) *logbook.Document {
	l, err := load.Parse("h264 720p25 4M -> 240p 0.4M")
	require.NoError(t, err)
	d := logbook.NewWatch(time.Unix(1.8e9, 0), "test")
	d.Kind, d.Route.Kind, d.Complete = "crowd", "server", true
	d.Plan.Crowd = &logbook.CrowdPlan{Mix: []load.Load{l}, ReservePct: 20, Most: 9, Numbers: []int{1, 4, 2, 3}, Need: 3}
	d.FillRungs()
	for i, rate := range []float64{2.5, 0.6, 1.3, 0.9} {
		a := logbook.Attempt{Verdict: verdict.Smooth, Windows: []tally.Window{{}}, Buffer: &tally.Buffer{StartDelayS: 1.8, BuildRate: &rate, MinLeadS: 2.2},
			Use: sense.Use{sense.CPU: {Mean: 98, P95: 99}, sense.GroupCPU: {Mean: 120}, sense.GroupMem: {Mean: 6e7, Max: 6e7}}}
		if rate < 1 {
			a.Verdict, a.Buffer.Stalls, a.Buffer.StallS = verdict.Choppy, 1, 2.1
		}
		d.Rungs[i].Attempts = []logbook.Attempt{a}
	}
	met := false
	d.Crowd = &logbook.Crowd{Highest: 2, Streams: 2, Comfortable: number(1), Confirmed: true, Limiter: verdict.CPU, Evidence: "all cores at 98 %", Next: 3, NextVerdict: verdict.Choppy,
		Predicted: &logbook.Prediction{From: 1, Number: 2, Limiter: verdict.CPU}, Met: &met}
	return d
}

func TestCrowdIsDrawnByNumber(t *testing.T) {
	d := crowded(t)
	text := Style{Width: 140}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))
	lines := strings.Split(text, "\n")
	require.Contains(t, strings.Join(strings.Fields(text), " "), "crowd of h264 720p25 4M -> 240p 400k on this computer, route server")
	var first []string
	for _, line := range lines {
		if strings.Contains(line, "● ") || strings.Contains(line, "○ ") {
			first = append(first, strings.Fields(line)[0])
		}
	}
	require.Equal(t, []string{"1", "2", "3", "4"}, first)
	for _, words := range []string{"1, 2.1 s", "48 % of a core, 60 MB", "This computer plays 2 streams of h264 720p25 4M -> 240p 400k smoothly for every viewer.", "next 3 streams were choppy why the cores are full: all cores at 98 %",
		"comfortable 1 stream, which leaves 20 % of all cores free", "predicted 2 streams, from the readings at 1 stream, then the cores are full; found 2 streams", "need 3 streams: not met"} {
		require.Contains(t, strings.Join(strings.Fields(text), " "), words)
	}
	d.Crowd.Limiter, d.Crowd.Evidence = verdict.Viewer, "our own viewers woke up too late"
	require.Contains(t, strings.Join(strings.Fields(Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))), " "), "our own side was too slow, so the device's limit was not reached: our own viewers woke up too late")
	d.Crowd.Highest, d.Crowd.NextVerdict = 0, verdict.Failed
	require.Contains(t, Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})), "This computer does not even play 1 stream of h264 720p25 4M -> 240p 400k")
}

// A need is met with the reserve, without it, or it is not known whether; and what is
// comfortable is said where it is known, even beyond what was tried.
func TestNeedsAndComfort(t *testing.T) {
	yes, no := true, false
	for says, change := range map[string]func(*logbook.Crowd){
		"3 streams: met, with the reserve of 20 %":                                   func(c *logbook.Crowd) { c.Met, c.WithReserve = &yes, &yes },
		"3 streams: met, without the reserve of 20 %":                                func(c *logbook.Crowd) { c.Met, c.WithReserve = &yes, &no },
		"3 streams: met; whether the reserve of 20 % is left then is not known":      func(c *logbook.Crowd) { c.Met = &yes },
		"comfortable not known: no reading grows":                                    func(c *logbook.Crowd) { c.Comfortable, c.ComfortableWhy = nil, "no reading grows" },
		"5 streams by its readings (2 streams were tried), which leaves 20 % of all": func(c *logbook.Crowd) { c.Comfortable = number(5) },
		"why refused: 503 no more sessions":                                          func(c *logbook.Crowd) { c.Limiter, c.NextReason = verdict.Refused, "503 no more sessions" },
		"next larger numbers are still to be tried":                                  func(c *logbook.Crowd) { c.Next = 0 },
	} {
		d := crowded(t)
		change(d.Crowd)
		require.Contains(t, strings.Join(strings.Fields(Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))), " "), says)
	}
}

func TestMixIsNamedByItsTimes(t *testing.T) {
	d := crowded(t)
	d.Plan.Crowd.Mix = append(d.Plan.Crowd.Mix, d.Plan.Crowd.Mix[0])
	d.Crowd.Next, d.Crowd.Limiter, d.Crowd.Evidence, d.Plan.Crowd.Most = 0, "", "", 2
	text := strings.Join(strings.Fields(Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))), " ")
	require.Contains(t, text, "smoothly for every viewer. tries")
}

func TestViewersAreDrawn(t *testing.T) {
	require.Empty(t, Style{}.Viewers(nil))
	var list []tally.Standing
	for i := range 12 {
		list = append(list, tally.Standing{Played: 10 * time.Second, Fetched: time.Duration(10+i) * time.Second, Film: 40 * time.Second, Waits: i == 0})
	}
	lines := Style{}.Viewers(list)
	require.Len(t, lines, maxViewers+1)
	require.Contains(t, lines[0], "viewer 1")
	require.Contains(t, lines[0], "0.0 s buffered, waits")
	require.Contains(t, lines[7], "7.0 s buffered, plays")
	require.Contains(t, lines[8], "and 4 with more buffered")
	require.Equal(t, 5+3, strings.Count(lines[7], "━"), "17 and 10 of 40 s in bars of 12")
	for _, line := range lines[:8] {
		require.LessOrEqual(t, len([]rune(line)), 80)
	}
}

func TestWhatAServerSentIsDrawn(t *testing.T) {
	d := crowded(t)
	d.Kind, d.Plan.Crowd, d.Crowd = "climb", nil, nil
	a := &d.Rungs[0].Attempts[0]
	a.Delivered = &tally.Delivered{Treatment: "converted", Bitrate: 4.04e5, Notes: []string{"segments do not last as long as the playlist says"}}
	a.Buffer.Jumps = []tally.Seek{{Kind: tally.Forward, DelayS: 0.71}, {Kind: tally.Back, DelayS: 0.3}, {Kind: tally.Forward, DelayS: 1.2}, {Kind: tally.Forward, DelayS: 0.9}}
	yes, no := true, false
	a.Buffer.Jumps[0].BeganAnew, a.Buffer.Jumps[0].ShownBy = &yes, tally.ByTimeStamps
	a.Buffer.Jumps[2].BeganAnew, a.Buffer.Jumps[2].ShownBy = &no, tally.ByReadings
	text := strings.Join(strings.Fields(Style{Width: 140}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))), " ")
	for _, words := range []string{"arrived", "converted 404 kb/s", "Note: h264 720p25 4M -> 240p 400k: segments do not last as long as the playlist says.", "Jumps, to the first picture after each: load jumps number median worst server began anew h264 720p25 4M -> 240p 400k forward 3 900 ms 1200 ms 1 of 2 (time stamps, readings) back 1 300 ms 300 ms -"} {
		require.Contains(t, text, words)
	}
}

func TestConversionIsDrawn(t *testing.T) {
	r := &transcode.Report{In: media.Track{Codec: "h264", Format: media.Format{Codec: "h264", Width: 1920, Height: 1080, Rate: media.Rate{Num: 30, Den: 1}, Depth: 10}, Colour: media.Colour{Transfer: 18}},
		Goal: media.Format{Width: 1280, Height: 720, Rate: media.Rate{Num: 30, Den: 1}}, Took: 5 * time.Second, Media: 10 * time.Second, Bytes: 5e6, Speed: 2, CPU: 8 * time.Second, MemPeak: 1e8,
		Stats:   transcode.Stats{Frames: 300, Decode: 3 * time.Second, Scale: time.Second, Tone: time.Second, Encode: 2500 * time.Millisecond},
		Buffers: []tally.Buffer{{StartDelayS: 1.2, BuildRate: rated(1000), MinLeadS: 8, Stalls: 1, StallS: 0.5}}, Left: []string{"opus"}}
	require.Equal(t, "h264 1080p30 10bit hlg", SourceWords(r.In))
	text := Style{}.Conversion(transcode.Job{File: "films/night.mp4", Out: "small.ts", Copies: 2}, r)
	for _, words := range []string{"began after 1.2 s, 1 stall (0.5 s), least lead 8.0 s, build rate >100", "opus", "the rest     0.50 s", "map tones    1.00 s   3.33 ms   12 %", "Written to small.ts."} {
		require.Contains(t, text, words)
	}
}
