package verdict

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/tally"
)

func account(f tally.Frames) tally.Tally {
	if f.Speed == 0 {
		f.Speed = 1
	}
	return tally.Tally{Windows: []tally.Window{{Kind: tally.Settle, Frames: &tally.Frames{Due: 50, Dropped: 50, Freezes: 9, LongestFreezeMS: 2000}},
		{Kind: tally.Steady, Frames: &f}}}
}

func rate(v float64) *float64 { return &v }

func TestJudge(t *testing.T) {
	for name, c := range map[string]struct {
		frames tally.Frames
		buffer *tally.Buffer
		want   Grade
		reason string
	}{
		"perfect, whatever the start": {tally.Frames{Due: 1000, Shown: 1000, LongestFreezeMS: 50}, nil, Smooth, "0 of 1000 frames dropped"},
		"just within":                 {tally.Frames{Due: 1000, Shown: 998, Dropped: 2}, nil, Smooth, "2 of 1000"},
		"just without":                {tally.Frames{Due: 1000, Shown: 997, Dropped: 3}, nil, Marginal, "0.3 %, allowed 0.2 %"},
		"too many":                    {tally.Frames{Due: 1000, Shown: 979, Dropped: 21}, nil, Choppy, "2.1 %, allowed 2 %"},
		"a freeze":                    {tally.Frames{Due: 1000, Shown: 1000, Freezes: 1, LongestFreezeMS: 101}, nil, Marginal, "freeze of 101 ms"},
		"a long freeze":               {tally.Frames{Due: 1000, Shown: 1000, Freezes: 1, LongestFreezeMS: 501}, nil, Choppy, "freeze of 501 ms"},
		"a slow film, no freeze":      {tally.Frames{Due: 80, Shown: 80, LongestFreezeMS: 125}, nil, Smooth, "0 of 80"},
		"slow motion":                 {tally.Frames{Due: 1000, Shown: 1000, Speed: 0.98}, nil, Marginal, "0.98 of normal speed"},
		"very slow motion":            {tally.Frames{Due: 1000, Shown: 1000, Speed: 0.9}, nil, Choppy, "0.9 of normal speed"},
		"damage":                      {tally.Frames{Due: 1000, Shown: 1000, Damaged: 1}, nil, Choppy, "could not be decoded completely"},
		"wrong pictures":              {tally.Frames{Due: 1000, Shown: 1000, Wrong: 1}, nil, Failed, "wrong picture"},
		"nothing shown":               {tally.Frames{Due: 1000, Dropped: 1000}, nil, Failed, "none of the 1000"},
		"nothing due":                 {tally.Frames{}, nil, Failed, "no frame was due"},
		"a film might stall":          {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{BuildRate: rate(0.9), BuildRateError: 0.2}, Marginal, "0.90±0.20 of real time"},
		"a film would not stall":      {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{BuildRate: rate(1.1), BuildRateError: 0.2}, Smooth, "0 of 1000 frames dropped"},
		"a film would stall":          {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{BuildRate: rate(0.9), BuildRateError: 0.02}, Choppy, "0.90±0.02 of real time"},
		"one short stall":             {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{BuildRate: rate(1.2), Stalls: 1, StallS: 0.8}, Marginal, "1 stall of 0.8 s"},
		"nothing was to be fetched":   {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{}, Smooth, "0 of 1000"},
		"stalled all the time":        {tally.Frames{}, &tally.Buffer{Stalls: 1, StallS: 8}, Failed, "stalled all through"},
		"late start":                  {tally.Frames{Due: 1000, Shown: 1000}, &tally.Buffer{BuildRate: rate(1.2), StartDelayS: 11}, Failed, "within 10 s"},
	} {
		t.Run(name, func(t *testing.T) {
			t1 := account(c.frames)
			if t1.Buffer = c.buffer; c.buffer != nil {
				t1.StartDelayS = &c.buffer.StartDelayS
			}
			grade, reasons := Default().Judge(t1)
			require.Equal(t, c.want, grade)
			require.NotEmpty(t, reasons)
			require.Contains(t, reasons[0], c.reason)
		})
	}
}

func TestSet(t *testing.T) {
	c := Default()
	require.NoError(t, c.Set("smooth.dropped_pct", 5))
	require.NoError(t, c.Set("marginal.stalls", 3))
	require.Equal(t, 5.0, c.Smooth.DroppedPct)
	require.Equal(t, 3, c.Marginal.Stalls)
	require.ErrorContains(t, c.Set("smooth.frames", 5), "dropped_pct")
	require.ErrorContains(t, c.Set("perfect.speed", 5), "smooth.")
	for _, v := range []float64{-1, math.NaN(), math.Inf(1)} {
		require.Error(t, c.Set("smooth.speed", v), v)
	}
	require.ErrorContains(t, c.Set("smooth.stalls", 0.5), "whole number")
	require.NoError(t, c.Set("smooth.start_delay_s", 2))
	late := account(tally.Frames{Due: 100, Shown: 100})
	three := 3.0
	late.StartDelayS = &three
	grade, reasons := c.Judge(late)
	require.Equal(t, Marginal, grade)
	require.Contains(t, reasons[0], "started after 3.0 s (allowed 2 s)")
	grade, _ = c.Judge(account(tally.Frames{Due: 100, Shown: 96, Dropped: 4}))
	require.Equal(t, Smooth, grade)
}

func TestWorse(t *testing.T) {
	require.True(t, Failed.Worse(Choppy))
	require.True(t, Marginal.Worse(Smooth))
	require.False(t, Smooth.Worse(Smooth))
	require.False(t, Void.Worse(Smooth))
}

// Where a route cannot count frames, what it knows is judged, and the reasons say so.
func TestFramesThatWereNotCounted(t *testing.T) {
	c := Default()
	played := tally.Tally{Windows: []tally.Window{{Kind: tally.Steady, ToS: 8}}}
	grade, reasons := c.Judge(played)
	require.Equal(t, Smooth, grade)
	require.Equal(t, []string{"it played to its end", "frames were not counted"}, reasons)
	played.Buffer = &tally.Buffer{BuildRate: rate(1.5), MinLeadS: 4}
	grade, reasons = c.Judge(played)
	require.Equal(t, Smooth, grade)
	require.Contains(t, reasons, "no stall, at least 4.0 s buffered")
	for speed, want := range map[float64]Grade{1: Smooth, 0.98: Marginal, 0.5: Choppy, 0: Failed} {
		grade, reasons = c.Judge(tally.Tally{Speed: rate(speed)})
		require.Equal(t, want, grade, speed)
		if want != Failed {
			require.Contains(t, reasons, "frames were not counted")
		}
	}
	late := tally.Tally{Speed: rate(1), StartDelayS: rate(11)}
	grade, _ = c.Judge(late)
	require.Equal(t, Failed, grade)
}

// A stall that was short has not lasted "0.0 s".
func TestBriefTimes(t *testing.T) {
	for seconds, want := range map[float64]string{0: "under 1 ms", 0.0034: "3 ms", 0.0996: "100 ms", 0.1: "0.1 s", 12.34: "12.3 s"} {
		require.Equal(t, want, Brief(seconds))
	}
}
