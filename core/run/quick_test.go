package run_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run/climb"
	"vividstrain/core/run/frontier"
)

// longLadder is 30 rungs. Those in order ask for more pixels and more bits than the one below; else
// large pictures at a low rate stand above smaller ones at a high rate.
func longLadder(t testing.TB, ordered bool) (column load.Column) {
	column.Name = "h264"
	for _, size := range []string{"240p", "360p", "480p", "720p", "1080p", "1440p", "2160p"} {
		for _, rate := range []int{12, 20, 25, 30} {
			column.Rungs = append(column.Rungs, rungs(t, fmt.Sprintf("h264 %s%d 1M", size, rate))...)
		}
	}
	column.Rungs = append(column.Rungs, rungs(t, "h264 2160p40 1M", "h264 2160p50 1M")...)
	if ordered {
		slices.SortStableFunc(column.Rungs, func(a, b load.Load) int { return cmp.Compare(a.PixelRate(), b.PixelRate()) })
	}
	for i := range column.Rungs {
		column.Rungs[i].Bitrate = media.RoundBitrate(0.15 * column.Rungs[i].PixelRate())
	}
	require.Len(t, column.Rungs, 30)
	return column
}

// quickly climbs on so many devices, step by step and with --quick, and
// returns the attempts of both and how often the ceilings differ.
func quickly(t testing.TB, devices uint64, ordered bool) (steps, quick, others int) {
	column := longLadder(t, ordered)
	for seed := range devices {
		random := rand.New(rand.NewPCG(seed, 5))
		p, _ := randomDevice(random)
		p.Noise = 0 // the same device answers the same
		climbed := func(quick bool) *logbook.Document {
			c := config(device(t, p, seed), column)
			c.Quick = quick
			doc, err := climb.Run(t.Context(), book(t), c)
			require.NoError(t, err)
			return doc
		}
		whole, short := climbed(false), climbed(true)
		steps, quick = steps+whole.Attempts(), quick+short.Attempts()
		if fmt.Sprint(whole.Ceiling.Load) != fmt.Sprint(short.Ceiling.Load) {
			others++
		}
	}
	return steps, quick, others
}

// A quick climb comes to the same ceiling with at most 40 % of the attempts.
func TestQuickClimbs(t *testing.T) {
	steps, quick, others := quickly(t, 25, true)
	require.Zero(t, others)
	require.Less(t, float64(quick), 0.4*float64(steps), "%d of %d attempts", quick, steps)
}

// BenchmarkQuick reports the same of 1000 devices, and how often it misses the ceiling where rungs are
// out of order.
func BenchmarkQuick(b *testing.B) {
	for b.Loop() {
		steps, quick, others := quickly(b, 1000, true)
		_, _, missed := quickly(b, 1000, false)
		b.ReportMetric(100*float64(quick)/float64(steps), "%attempts")
		b.ReportMetric(float64(others), "otherceilings")
		b.ReportMetric(float64(missed), "missedoutoforder")
	}
}

// Refining and mapping find the true frontier of a device: what is one step harder is not smooth
// when it is played on its own.
func TestFrontierIsTrue(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	p.Noise = 0
	smooth := func(l load.Load) bool {
		doc, err := climb.Run(t.Context(), book(t), config(device(t, p, 3), load.Column{Name: "a", Rungs: []load.Load{l}}))
		require.NoError(t, err)
		return doc.Ceiling.Load != nil
	}
	c := config(device(t, p, 1), load.Column{Name: "h264", Rungs: rungs(t, "h264 720p50 10M", "h264 2160p30 40M", "h264 2160p60 200M")})
	c.Refine = 0.1
	doc, err := climb.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, "h264 2160p30 40M", doc.Ceiling.Load.String())
	refined := doc.Ceiling.Columns[0].Refined
	require.Len(t, refined, 2, "the next rung has the same size")
	for _, r := range refined {
		require.True(t, smooth(r.Load), r.Load)
		if r.Next != nil {
			require.False(t, smooth(*r.Next), r.Next)
			if r.By == "bitrate" {
				require.InEpsilon(t, 1.1, float64(r.Next.Bitrate)/float64(r.Load.Bitrate), 0.02)
			}
		}
	}
	m := frontier.Config{Config: c.Config, Ladder: &load.Ladder{Name: "x", Columns: []load.Column{{Name: "h264", Rungs: rungs(t, "h264 1080p30 1M", "h264 1440p60 1M", "h264 2160p50 1M")}}}, Within: 0.2}
	m.Route = device(t, p, 2)
	mapped, err := frontier.Run(t.Context(), book(t), m)
	require.NoError(t, err)
	require.Len(t, mapped.Map, 9)
	limits := 0
	for _, f := range mapped.Map {
		require.True(t, f.Found)
		if f.Load != nil {
			require.True(t, smooth(*f.Load), f.Load)
		}
		if f.Next != nil {
			limits++
			require.False(t, smooth(*f.Next), f.Next)
			require.NotEmpty(t, f.Limiter)
		}
	}
	require.Positive(t, limits)
	require.Less(t, mapped.Attempts(), 40)
}
