package run

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/standin"
	"vividstrain/core/search"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

func book(t testing.TB) *logbook.Book {
	b, err := logbook.Open(filepath.Join(t.TempDir(), "book.db"))
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

func device(t testing.TB, p *standin.Profile, seed uint64) *standin.Device {
	d, err := standin.New(p, standin.Options{Refresh: 60, Late: tally.Drop, Seed: seed, Start: time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)})
	require.NoError(t, err)
	return d
}

func config(r route.Route, columns ...load.Column) Config {
	return Config{Ladder: &load.Ladder{Name: "test", Columns: columns}, Route: r, Criteria: verdict.Default(),
		Hold: 10 * time.Second, Settle: 2 * time.Second, Baseline: 3 * time.Second}
}

func rungs(t testing.TB, lines ...string) (list []load.Load) {
	for _, line := range lines {
		l, err := load.Parse(line)
		require.NoError(t, err)
		list = append(list, l)
	}
	return list
}

// randomDevice is a device that decodes h264 on its cores, cool and with memory
// enough; use is how many cores' worth of work a load is.
func randomDevice(random *rand.Rand) (p *standin.Profile, use func(load.Load) float64) {
	p = &standin.Profile{
		Name: "Random", Cores: 1 + random.IntN(6), Threads: 8, Queue: 8, Noise: 3 * random.Float64(),
		Decode:  map[string]standin.Cost{"h264": {NSPerPixel: 2 + 20*random.Float64(), NSPerBit: 3 * random.Float64(), USPerFrame: 500 * random.Float64()}},
		Memory:  standin.Memory{Total: 64e9},
		Heat:    standin.Heat{RoomC: 20, DegreesPerWatt: 1, TimeConstantS: 30, ThrottleC: 90, MinClock: 0.5},
		Startup: standin.Startup{Seconds: random.Float64()},
	}
	cost := p.Decode["h264"]
	return p, func(l load.Load) float64 {
		frame := cost.NSPerPixel*float64(l.Width*l.Height) + cost.NSPerBit*float64(l.Bitrate)/l.Rate.Hz() + cost.USPerFrame*1e3
		return frame * 1e-9 * l.Rate.Hz() * float64(l.Streams)
	}
}

// The true limit of a device follows from its profile: a load is smooth if its
// work fits into the cores. Loads too near the limit to call are left out of
// the ladder.
func TestFindsTheTrueCeiling(t *testing.T) {
	all := rungs(t, "h264 240p25 1M", "h264 480p25 2M", "h264 720p25 5M", "h264 720p50 9M", "h264 1080p25 10M", "h264 1080p50 20M",
		"h264 1440p50 30M", "h264 2160p25 35M", "h264 2160p50 60M", "h264 2160p50 60M x2", "h264 2160p50 60M x4")
	for seed := range uint64(200) {
		p, use := randomDevice(rand.New(rand.NewPCG(seed, 7)))
		var ladder []load.Load
		truth := -1
		for _, l := range all {
			share := use(l) / float64(p.Cores)
			if share > 0.85 && share < 1.06 {
				continue
			}
			if ladder = append(ladder, l); share <= 0.85 {
				truth = len(ladder) - 1
			}
		}
		doc, err := Climb(t.Context(), book(t), config(device(t, p, seed), load.Column{Name: "h264", Rungs: ladder}))
		require.NoError(t, err)
		require.True(t, doc.Complete)
		if truth < 0 {
			require.Nil(t, doc.Ceiling.Load, "seed %d", seed)
			continue
		}
		require.NotNil(t, doc.Ceiling.Load, "seed %d: %s", seed, ladder[truth])
		require.Equal(t, ladder[truth].String(), doc.Ceiling.Load.String(), "seed %d", seed)
		require.True(t, doc.Ceiling.Confirmed)
		if doc.Ceiling.Next != nil {
			require.Equal(t, verdict.CPU, doc.Ceiling.Limiter, "seed %d: %s", seed, doc.Ceiling.Next.Load)
		}
	}
}

func TestBuiltInDevices(t *testing.T) {
	for name, want := range map[string]struct {
		ladder, ceiling string
		limiter         verdict.Limiter
	}{
		"skerry-s1":     {"lounge", "h264 1080p50 20M", verdict.Core},
		"skerry-s4":     {"lounge", "h264 2160p50 80M", ""},
		"breakwater-n2": {"lounge", "h264 2160p25 40M", verdict.CPU},
		"breakwater-n5": {"cabins", "h264 1080p25 8M x6", verdict.Memory},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := standin.Named(name)
			require.NoError(t, err)
			ladder, err := load.Named(want.ladder)
			require.NoError(t, err)
			c := config(device(t, p, 1), ladder.Columns...)
			c.Hold = 20 * time.Second
			doc, err := Climb(t.Context(), book(t), c)
			require.NoError(t, err)
			for _, r := range doc.Rungs {
				for _, a := range r.Attempts {
					t.Log(r.Load, a.Verdict, a.Reasons, a.Limiter, a.Evidence, fmt.Sprintf("%.0f", a.Use["cpu_pct"].Mean), a.Use["temp_c"].Max, a.Decode)
				}
			}
			require.NotNil(t, doc.Ceiling.Load)
			require.Equal(t, want.ceiling, doc.Ceiling.Load.String())
			require.Equal(t, want.limiter, doc.Ceiling.Limiter)
		})
	}
}

// stopper lets a device play some attempts and then stops the run in the next.
type stopper struct {
	route.Route
	left int
}

var errPulled = errors.New("the plug was pulled")

func (s *stopper) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	if s.left--; s.left < 0 {
		return route.Result{}, errPulled
	}
	return s.Route.Play(ctx, p, live)
}

func TestResumeGoesOnAndFailsTheAttemptItStoppedIn(t *testing.T) {
	p, err := standin.Named("breakwater-n2")
	require.NoError(t, err)
	ladder, err := load.Named("lounge")
	require.NoError(t, err)
	b := book(t)
	doc, err := Climb(t.Context(), b, config(&stopper{device(t, p, 1), 3}, ladder.Columns[0]))
	require.ErrorIs(t, err, errPulled)
	require.False(t, doc.Complete)
	doc, err = b.Load(doc.ID)
	require.NoError(t, err)
	require.False(t, doc.Complete)
	require.Equal(t, 3, doc.Attempts())

	doc, err = Resume(t.Context(), b, doc, Config{Route: device(t, p, 1)})
	require.NoError(t, err)
	require.True(t, doc.Complete)
	require.Len(t, doc.ResumedAt, 1)
	stopped := doc.Rungs[3].Attempts[0]
	require.Equal(t, verdict.Failed, stopped.Verdict)
	require.Equal(t, []string{"the run stopped in it"}, stopped.Reasons)
	again, err := b.Load(doc.ID)
	require.NoError(t, err)
	require.True(t, again.Complete)
	require.Equal(t, doc.Attempts(), again.Attempts())
	_, err = Resume(t.Context(), b, again, Config{Route: device(t, p, 1)})
	require.ErrorContains(t, err, "nothing to resume")
}

func TestOutOfOrderIsNamed(t *testing.T) {
	p, err := standin.Named("skerry-s1")
	require.NoError(t, err)
	// h264 1440p is beyond the block and slow on the cores; 1080p is not.
	column := load.Column{Name: "odd", Rungs: rungs(t, "h264 720p25 5M", "h264 1440p50 6M", "h264 1080p50 20M")}
	doc, err := Climb(t.Context(), book(t), config(device(t, p, 1), column))
	require.NoError(t, err)
	require.Len(t, doc.Notes, 1)
	require.Contains(t, doc.Notes[0], "h264 1440p50 6M")
	require.Equal(t, "h264 720p25 5M", doc.Ceiling.Load.String())
}

func TestWhatCannotWorkIsRefusedBeforeMeasuring(t *testing.T) {
	p, err := standin.Named("skerry-s1")
	require.NoError(t, err)
	good := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	for name, change := range map[string]func(*Config){
		"hold":       func(c *Config) { c.Hold = 0 },
		"settle":     func(c *Config) { c.Settle = c.Hold },
		"baseline":   func(c *Config) { c.Baseline = -1 },
		"conversion": func(c *Config) { c.Ladder.Columns[0].Rungs = rungs(t, "h264 720p25 5M -> 360p 1M") },
	} {
		c := good
		c.Ladder = &load.Ladder{Name: "x", Columns: []load.Column{good.Ladder.Columns[0]}}
		change(&c)
		b := book(t)
		_, err := Climb(t.Context(), b, c)
		require.Error(t, err, name)
		entries, err := b.Runs()
		require.NoError(t, err)
		require.Empty(t, entries)
	}
}

func TestEveryEventIsSeen(t *testing.T) {
	p, err := standin.Named("skerry-s1")
	require.NoError(t, err)
	c := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	seen := map[EventKind]int{}
	c.Watch = func(e Event) { seen[e.Kind]++ }
	doc, err := Climb(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, search.Confirm, doc.Rungs[0].Attempts[1].Purpose)
	require.Equal(t, 2, seen[Ended])
	require.Equal(t, 2, seen[Baseline])
	require.Greater(t, seen[Playing], 10)
	require.Len(t, doc.Baseline.Readings, 12*(p.Cores+8))
}

// BenchmarkClimb is a stand-in climb of 40 rungs, each of which is smooth, held
// for 30 s, logbook included.
func BenchmarkClimb(b *testing.B) {
	p, _ := randomDevice(rand.New(rand.NewPCG(1, 1)))
	var list []load.Load
	for i := range 40 {
		l, err := load.Parse(fmt.Sprintf("h264 240p25 %dk", 400+10*i))
		require.NoError(b, err)
		list = append(list, l)
	}
	for b.Loop() {
		c := config(device(b, p, 1), load.Column{Name: "a", Rungs: list})
		c.Hold = 30 * time.Second
		doc, err := Climb(b.Context(), book(b), c)
		require.NoError(b, err)
		require.Equal(b, 41, doc.Attempts())
	}
	b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms/climb")
}
