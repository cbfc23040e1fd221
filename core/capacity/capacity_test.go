package capacity_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/capacity"
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

func rungs(t testing.TB, lines ...string) (list []load.Load) {
	for _, line := range lines {
		l, err := load.Parse(line)
		require.NoError(t, err)
		list = append(list, l)
	}
	return list
}

func on(t testing.TB, p *simulated.Profile, seed uint64) run.Config {
	d, err := simulated.New(p, simulated.Options{Refresh: 60, Late: tally.Drop, Seed: seed, Start: time.Unix(1700000000, 0)})
	require.NoError(t, err)
	return run.Config{Route: d, Criteria: verdict.Default(), Hold: 6 * time.Second, Settle: 2 * time.Second, Baseline: 4 * time.Second}
}

// random is a simulated device like those that are sold, with or without a decoder block.
func random(seed uint64) *simulated.Profile {
	r := rand.New(rand.NewPCG(seed, 7))
	p := &simulated.Profile{Name: fmt.Sprintf("Box %d", seed), Cores: 2 + 2*r.IntN(4), Threads: 2, Queue: 8, Idle: 0.05 + 0.1*r.Float64(), Noise: 1 + 3*r.Float64(),
		Decode: map[string]simulated.Cost{"h264": {NSPerPixel: 4 + 8*r.Float64(), NSPerBit: 3 + 6*r.Float64(), USPerFrame: 80 + 200*r.Float64()}},
		Memory: simulated.Memory{Total: 64e9, Used: 500e6, PerStream: 30e6, Pictures: 12},
		Heat:   simulated.Heat{RoomC: 22, DegreesPerWatt: 1, TimeConstantS: 30, ThrottleC: 95, MinClock: 0.5}, Power: simulated.Power{IdleW: 3, CoreW: 2}}
	if seed%3 == 0 {
		p.Blocks = []simulated.Block{{Name: "video", Streams: 1000, Takes: []simulated.Takes{{Codec: "h264", Depth: 8, Width: 4096, Height: 2304}},
			Cost: simulated.Cost{NSPerPixel: 0.8 + r.Float64(), NSPerBit: 0.3 + 0.4*r.Float64(), USPerFrame: 100 + 100*r.Float64()}}}
	}
	return p
}

// climbed is what a climb on a device came to.
func climbed(t testing.TB, p *simulated.Profile, seed uint64, loads []load.Load) *logbook.Document {
	d, err := climb.Run(t.Context(), book(t), climb.Config{Config: on(t, p, seed), Ladder: &load.Ladder{Name: "x", Columns: []load.Column{{Name: "h264", Rungs: loads}}}})
	require.NoError(t, err)
	return d
}

func book(t testing.TB) *logbook.Book {
	b, err := logbook.Open(filepath.Join(t.TempDir(), "book.db"))
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

// plays reports whether a device plays so many streams.
func plays(t testing.TB, p *simulated.Profile, l load.Load, n int) bool {
	c := on(t, p, 99)
	l.Streams = n
	result, err := c.Route.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: c.Hold, Settle: c.Settle}, func(route.Live) {})
	require.NoError(t, err)
	for _, s := range result.Streams {
		if grade, _ := c.Criteria.Judge(s); grade != verdict.Smooth {
			return false
		}
	}
	return result.Failure == ""
}

// truths compares what is said to fit with what does, on so many devices from one climb each. It
// returns the mean error, and the share of devices where the truth is in the stated range.
func truths(t testing.TB, seeds uint64) (mean, inRange float64) {
	ladder := rungs(t, "h264 240p25 500k", "h264 480p25 1.5M", "h264 720p25 4M", "h264 720p50 6M", "h264 1080p25 8M", "h264 1080p50 16M", "h264 2160p25 30M")
	asked := rungs(t, "h264 576p25 3M", "h264 720p25 4M", "h264 1080p25 8M")
	for seed := range seeds {
		p := random(seed)
		m, err := capacity.Fit([]*logbook.Document{climbed(t, p, seed, ladder)})
		require.NoError(t, err)
		l := asked[seed%3]
		a, err := m.Fits([]load.Load{l}, 0, capacity.Scale{})
		require.NoError(t, err)
		require.Positive(t, a.Times)
		truth := a.Times
		for truth > 0 && !plays(t, p, l, truth) {
			truth--
		}
		for plays(t, p, l, truth+1) {
			truth++
		}
		mean += math.Abs(float64(a.Times-truth)) / float64(max(1, truth)) / float64(seeds)
		if truth >= a.Low && truth <= a.High {
			inRange += 1 / float64(seeds)
		}
	}
	return mean, inRange
}

// The number of streams that is said to fit is near the one that does.
func TestCapacityIsTrue(t *testing.T) {
	mean, inRange := truths(t, 30)
	require.Less(t, mean, 0.1)
	require.Greater(t, inRange, 0.9)
}

// BenchmarkCapacity reports the same of 200 devices.
func BenchmarkCapacity(b *testing.B) {
	for b.Loop() {
		mean, inRange := truths(b, 200)
		b.ReportMetric(100*mean, "%error")
		b.ReportMetric(100*inRange, "%inrange")
	}
}

// What was not measured is said, and what would make the answer surer; a device without readings
// has no answer.
func TestLimitsAreSaid(t *testing.T) {
	p := random(1)
	d := climbed(t, p, 1, rungs(t, "h264 240p25 500k", "h264 480p25 1.5M", "h264 720p25 4M"))
	m, err := capacity.Fit([]*logbook.Document{d})
	require.NoError(t, err)
	small, err := m.Fits(rungs(t, "h264 480p25 1.5M"), 0.2, capacity.Scale{})
	require.NoError(t, err)
	require.Empty(t, small.Limits)
	large, err := m.Fits(rungs(t, "h264 2160p25 30M"), 0, capacity.Scale{})
	require.NoError(t, err)
	require.Contains(t, large.Limits[0], "nothing as large or fast as 2160p25 was smooth")
	require.Equal(t, "h264 2160p25 30M", large.Surer[0].String())
	whole, err := m.Fits(rungs(t, "h264 480p25 1.5M"), 0, capacity.Scale{})
	require.NoError(t, err)
	require.Greater(t, whole.Times, small.Times, "a reserve costs streams")
	faster, err := m.Fits(rungs(t, "h264 480p25 1.5M"), 0, capacity.Scale{Cores: 2 * m.Cores, Faster: 1.5})
	require.NoError(t, err)
	require.InEpsilon(t, 3, float64(faster.Times)/float64(whole.Times), 0.1)
	_, err = m.Fits(rungs(t, "mjpeg 480p25 4M"), 0, capacity.Scale{})
	require.ErrorContains(t, err, "no load like mjpeg 8 bit")
	require.InDelta(t, 1, m.Units(rungs(t, capacity.Unit)[0])[capacity.Cores], 1e-9)
	require.Greater(t, m.Units(rungs(t, "h264 1080p50 16M")[0])[capacity.Cores], 1.8)
	d.Rungs[0].Attempts, d.Rungs[1].Attempts, d.Rungs[2].Attempts = nil, nil, nil
	_, err = capacity.Fit([]*logbook.Document{d})
	require.ErrorIs(t, err, capacity.ErrNothing)
}
