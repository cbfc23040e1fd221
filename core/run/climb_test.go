package run_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
	"vividstrain/core/run/crowd"
	"vividstrain/core/run/kinds"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

func book(t testing.TB) *logbook.Book {
	b, err := logbook.Open(filepath.Join(t.TempDir(), "book.db"))
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

func device(t testing.TB, p *simulated.Profile, seed uint64) *simulated.Device {
	d, err := simulated.New(p, simulated.Options{Refresh: 60, Late: tally.Drop, Seed: seed, Start: time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)})
	require.NoError(t, err)
	return d
}

func config(r route.Route, columns ...load.Column) climb.Config {
	return climb.Config{Ladder: &load.Ladder{Name: "test", Columns: columns}, Config: run.Config{Route: r, Criteria: verdict.Default(),
		Hold: 10 * time.Second, Settle: 2 * time.Second, Baseline: 3 * time.Second}}
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
func randomDevice(random *rand.Rand) (p *simulated.Profile, use func(load.Load) float64) {
	p = &simulated.Profile{
		Name: "Random", Cores: 1 + random.IntN(6), Threads: 8, Queue: 8, Noise: 3 * random.Float64(),
		Decode:  map[string]simulated.Cost{"h264": {NSPerPixel: 2 + 20*random.Float64(), NSPerBit: 3 * random.Float64(), USPerFrame: 500 * random.Float64()}},
		Memory:  simulated.Memory{Total: 64e9},
		Heat:    simulated.Heat{RoomC: 20, DegreesPerWatt: 1, TimeConstantS: 30, ThrottleC: 90, MinClock: 0.5},
		Startup: simulated.Startup{Seconds: random.Float64()},
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
	logs := book(t)
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
		doc, err := climb.Run(t.Context(), logs, config(device(t, p, seed), load.Column{Name: "h264", Rungs: ladder}))
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
			p, err := simulated.Named(name)
			require.NoError(t, err)
			ladder, err := load.Named(want.ladder)
			require.NoError(t, err)
			c := config(device(t, p, 1), ladder.Columns...)
			c.Hold = 20 * time.Second
			doc, err := climb.Run(t.Context(), book(t), c)
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

// stopper lets a device play some attempts and then has something happen in the next.
type stopper struct {
	route.Route
	left int
	then func()
}

func (s *stopper) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	if s.left--; s.left < 0 {
		s.then()
		return route.Result{}, ctx.Err()
	}
	return s.Route.Play(ctx, p, live)
}

// stopped makes a run that is killed, or that its user stops, in an attempt.
func stopped(t *testing.T, b *logbook.Book, kill bool, run func(ctx context.Context, stop func(left int, r route.Route) route.Route)) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	defer func() {
		if kill {
			require.NotNil(t, recover())
		}
	}()
	run(ctx, func(left int, r route.Route) route.Route {
		return &stopper{r, left, func() {
			if kill {
				panic("the plug was pulled")
			}
			cancel()
		}}
	})
}

// The attempt in which a run was stopped or killed says nothing about the device: it is
// made again. Killed in it a second time, the rung is what kills it.
func TestResumeGoesOn(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	ladder, err := load.Named("lounge")
	require.NoError(t, err)
	whole, err := climb.Run(t.Context(), book(t), config(device(t, p, 1), ladder.Columns[0]))
	require.NoError(t, err)
	newest := func(b *logbook.Book) *logbook.Document {
		id, err := b.Find("")
		require.NoError(t, err)
		doc, err := b.Load(id)
		require.NoError(t, err)
		require.False(t, doc.Complete)
		return doc
	}
	for _, kill := range []bool{false, true} {
		b := book(t)
		stopped(t, b, kill, func(ctx context.Context, stop func(int, route.Route) route.Route) {
			_, err := climb.Run(ctx, b, config(stop(3, device(t, p, 1)), ladder.Columns[0]))
			require.ErrorIs(t, err, context.Canceled)
		})
		doc := newest(b)
		require.Equal(t, 3, doc.Counted())
		stopped(t, b, false, func(ctx context.Context, stop func(int, route.Route) route.Route) {
			_, err = run.Resume(ctx, b, doc, run.Config{Route: stop(1, device(t, p, 1))}, kinds.All)
			require.ErrorIs(t, err, context.Canceled)
		})
		doc, err := run.Resume(t.Context(), b, newest(b), run.Config{Route: device(t, p, 1)}, kinds.All)
		require.NoError(t, err)
		require.True(t, doc.Complete)
		require.Len(t, doc.ResumedAt, 2)
		first := doc.Rungs[3].Attempts[0]
		require.Equal(t, verdict.Void, first.Verdict)
		require.Equal(t, map[bool]verdict.VoidCause{false: verdict.VoidStopped, true: verdict.VoidKilled}[kill], first.Void)
		require.Equal(t, whole.Ceiling.Load.String(), doc.Ceiling.Load.String())
		require.True(t, doc.Ceiling.Confirmed)
		require.Equal(t, whole.Counted(), doc.Counted())
		again, err := b.Load(doc.ID)
		require.NoError(t, err)
		require.True(t, again.Complete)
		require.Equal(t, doc.Attempts(), again.Attempts())
		_, err = run.Resume(t.Context(), b, again, run.Config{Route: device(t, p, 1)}, kinds.All)
		require.ErrorContains(t, err, "nothing to resume")
	}
	b := book(t)
	stopped(t, b, true, func(ctx context.Context, stop func(int, route.Route) route.Route) {
		climb.Run(ctx, b, config(stop(2, device(t, p, 1)), ladder.Columns[0]))
	})
	stopped(t, b, true, func(ctx context.Context, stop func(int, route.Route) route.Route) {
		run.Resume(ctx, b, newest(b), run.Config{Route: stop(0, device(t, p, 1))}, kinds.All)
	})
	doc, err := run.Resume(t.Context(), b, newest(b), run.Config{Route: device(t, p, 1)}, kinds.All)
	require.NoError(t, err)
	twice := doc.Rungs[2].Attempts
	require.Equal(t, []verdict.Grade{verdict.Void, verdict.Failed}, []verdict.Grade{twice[0].Verdict, twice[1].Verdict})
	require.Contains(t, twice[1].Reasons[0], "twice")
}

// A crowd is resumed like a climb.
func TestCrowdsAreResumed(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	streams := func(r route.Route) crowd.Config {
		return crowd.Config{Config: config(r).Config, Mix: rungs(t, "h264 720p25 5M"), Most: 64, Reserve: 20, Need: 12}
	}
	whole, err := crowd.Run(t.Context(), book(t), streams(device(t, p, 1)))
	require.NoError(t, err)
	b := book(t)
	stopped(t, b, false, func(ctx context.Context, stop func(int, route.Route) route.Route) {
		doc, err := crowd.Run(ctx, b, streams(stop(4, device(t, p, 1))))
		require.ErrorIs(t, err, context.Canceled)
		require.False(t, doc.Ceiling.LadderEnd, "the limit was not reached, but not since the ladder ended")
	})
	id, err := b.Find("")
	require.NoError(t, err)
	doc, err := b.Load(id)
	require.NoError(t, err)
	doc, err = run.Resume(t.Context(), b, doc, run.Config{Route: device(t, p, 1)}, kinds.All)
	require.NoError(t, err)
	require.True(t, doc.Complete)
	require.Equal(t, whole.Crowd.Highest, doc.Crowd.Highest)
	require.Equal(t, whole.Counted(), doc.Counted())
	require.True(t, *doc.Crowd.Met)
	require.NotNil(t, doc.Crowd.WithReserve)
}

// faulty is a route that lacks some loads.
type faulty struct {
	route.Route
	check, prepare, play map[string]error // by load
	use                  func(load string, n int) []sense.Reading
	tries                map[string]int
	playing              string
}

func (f *faulty) Check(l load.Load) error { return f.check[l.String()] }

func (f *faulty) Prepare(_ context.Context, l load.Load, _ func(int, int)) error {
	return f.prepare[l.String()]
}

func (f *faulty) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	line := p.Loads[0].String()
	if f.tries == nil {
		f.tries = map[string]int{}
	}
	f.playing = line
	f.tries[line]++
	if err := f.play[line]; err != nil {
		return route.Result{}, err
	}
	return f.Route.Play(ctx, p, live)
}

func (f *faulty) Sources() []sense.Source { return append(f.Route.Sources(), f) }

func (*faulty) Kind() string { return "test" }

func (*faulty) Name() string { return "others" }

func (f *faulty) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	if f.use == nil {
		return list, nil
	}
	return append(list, f.use(f.playing, f.tries[f.playing])...), nil
}

// Whatever goes wrong with a rung is that rung's: the climb goes on over it, and a ceiling
// above it is unconfirmed and names it.
func TestNothingThatGoesWrongWithARungEndsTheRun(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	lines := []string{"h264 240p25 1M", "h264 480p25 2M", "h264 720p25 5M", "h264 720p50 9M", "h264 1080p25 10M", "h264 2160p25 30M", "h264 2160p50 40M", "h264 2160p50 80M", "h264 2160p60 200M"}
	f := &faulty{Route: device(t, p, 1),
		check:   map[string]error{lines[0]: errors.New("h264 is not carried out")},
		prepare: map[string]error{lines[2]: errors.New("cannot have 5Mb/s with this scene")},
		play: map[string]error{lines[3]: &route.UnfitError{Unfit: route.NoAddress, Err: errors.New("404 Not Found")},
			lines[4]: &route.UnfitError{Unfit: route.TooShort, Err: errors.New("one segment")}}}
	b := book(t)
	doc, err := climb.Run(t.Context(), b, config(f, load.Column{Name: "a", Rungs: rungs(t, lines...)}))
	require.NoError(t, err)
	require.True(t, doc.Complete)
	causes := map[int]verdict.VoidCause{0: verdict.VoidCodec, 2: verdict.VoidClip, 3: verdict.VoidAddress, 4: verdict.VoidShort}
	for i, r := range doc.Rungs {
		if causes[i] == "" {
			continue
		}
		require.Len(t, r.Attempts, 1, "no other attempt would help")
		require.Equal(t, verdict.Void, r.Attempts[0].Verdict)
		require.Equal(t, causes[i], r.Attempts[0].Void)
		require.NotNil(t, r.Attempts[0].Windows)
	}
	require.Equal(t, "h264 2160p25 30M", doc.Ceiling.Load.String())
	require.False(t, doc.Ceiling.Confirmed)
	require.Len(t, doc.Ceiling.Untried, 4)
	require.Contains(t, strings.Join(doc.Notes, "\n"), "h264 720p25 5M was not tried: cannot have 5Mb/s with this scene")
	kept, err := b.Load(doc.ID)
	require.NoError(t, err)
	require.Equal(t, doc.Attempts(), kept.Attempts())
	all := map[string]error{lines[0]: errors.New("no such codec"), lines[1]: errors.New("nor this")}
	_, err = climb.Run(t.Context(), b, config(&faulty{Route: device(t, p, 1), check: all}, load.Column{Name: "a", Rungs: rungs(t, lines[:2]...)}))
	require.ErrorContains(t, err, "no such codec", "where no rung is left there is nothing to do")
}

// Where others take the computer, an attempt that is not smooth is void and made again,
// three times at most; one that is smooth all the same counts.
func TestOthersMakeAttemptsVoid(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	easy, hard, harder := "h264 720p25 5M", "h264 2160p50 80M", "h264 2160p60 200M"
	climb := func(use func(string, int) []sense.Reading) *logbook.Document {
		doc, err := climb.Run(t.Context(), book(t), config(&faulty{Route: device(t, p, 1), use: use}, load.Column{Name: "a", Rungs: rungs(t, easy, hard, harder)}))
		require.NoError(t, err)
		require.True(t, doc.Complete)
		return doc
	}
	doc := climb(func(line string, n int) []sense.Reading {
		if line == hard && n == 1 {
			return []sense.Reading{{Quantity: sense.CPUSteal, Value: 49}}
		}
		return []sense.Reading{{Quantity: sense.OthersCPU, Value: 60}, {Quantity: sense.OtherCPU, Label: "backup 77", Value: 99}}[:map[bool]int{true: 2}[line == easy]]
	})
	require.Equal(t, verdict.Smooth, doc.Rungs[0].Attempts[0].Verdict)
	require.Equal(t, verdict.VoidHost, doc.Rungs[1].Attempts[0].Void)
	require.Contains(t, doc.Rungs[1].Attempts[0].Reasons[0], "host of this virtual machine took 49 %")
	require.Equal(t, verdict.Choppy, doc.Rungs[1].Attempts[1].Verdict)
	require.GreaterOrEqual(t, doc.Rungs[1].Attempts[1].Started.Sub(doc.Rungs[1].Attempts[0].Ended), 5*time.Second)
	require.True(t, doc.Ceiling.Confirmed)
	require.Contains(t, strings.Join(doc.Notes, "\n"), "an attempt at h264 2160p50 80M was void: the host")
	doc = climb(func(line string, _ int) []sense.Reading {
		return []sense.Reading{{Quantity: sense.OthersCPU, Value: 60}, {Quantity: sense.OtherCPU, Label: "backup 77", Value: 99}}
	})
	require.Len(t, doc.Rungs[1].Attempts, 3)
	require.Contains(t, doc.Rungs[1].Attempts[2].Reasons[0], `"backup 77" 99 % of one`)
	require.Equal(t, easy, doc.Ceiling.Load.String())
	require.Nil(t, doc.Ceiling.Next)
	require.True(t, doc.Ceiling.LadderEnd)
	require.False(t, doc.Ceiling.Confirmed, "rungs above could not be tried")
}

// Where segments are long, a rung is held for three of them.
func TestHoldGrowsWithSegments(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	l := &longSegments{Route: device(t, p, 1), need: 30 * time.Second}
	doc, err := climb.Run(t.Context(), book(t), config(l, load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")}))
	require.NoError(t, err)
	require.Len(t, doc.Rungs[0].Attempts, 2)
	require.Equal(t, 1, l.vain, "the second attempt knows it from the first")
	a := doc.Rungs[0].Attempts[0]
	require.Equal(t, 30.0, a.HoldS)
	require.Equal(t, 700, a.Frames.Due)
	require.Equal(t, verdict.Smooth, a.Verdict)
	require.Equal(t, "held for 30 s instead of 10 s, since segments are long: all rungs", doc.Notes[0])
	l.need = time.Hour
	doc, err = climb.Run(t.Context(), book(t), config(l, load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")}))
	require.NoError(t, err)
	require.Equal(t, verdict.VoidShort, doc.Rungs[0].Attempts[0].Void)
	slow := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p2 5M")})
	doc, err = climb.Run(t.Context(), book(t), slow)
	require.NoError(t, err)
	require.Equal(t, verdict.VoidShort, doc.Rungs[0].Attempts[0].Void)
	require.Contains(t, doc.Rungs[0].Attempts[0].Reasons[0], "16 frames are due")
}

type longSegments struct {
	route.Route
	need time.Duration
	vain int // plays that were too short
}

func (l *longSegments) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	if p.Hold < l.need {
		l.vain++
		return route.Result{}, &route.ShortHoldError{Need: l.need}
	}
	return l.Route.Play(ctx, p, live)
}

// away is a route to a device that is out of reach from one look to another.
type away struct {
	route.Route
	looks, from, to int
	fail            int // attempts that fail from the first on, -1: none
}

func (a *away) Reach(context.Context) error {
	if a.looks++; a.looks >= a.from && a.looks < a.to {
		return errors.New("nothing answers there")
	}
	return nil
}

func (a *away) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	if a.fail--; a.fail == 0 {
		return route.Result{Failure: "the server closed the connection"}, nil
	}
	return a.Route.Play(ctx, p, live)
}

func TestDevicesThatAreOutOfReach(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	climb := func(a *away) (*logbook.Document, *logbook.Book, error) {
		a.Route = device(t, p, 1)
		b := book(t)
		doc, err := climb.Run(t.Context(), b, config(a, load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M", "h264 1080p25 8M", "h264 1080p50 12M")}))
		return doc, b, err
	}
	doc, b, err := climb(&away{from: 1, to: 1000})
	require.ErrorContains(t, err, "nothing answers")
	require.Nil(t, doc)
	entries, err := b.Runs(logbook.Filter{})
	require.NoError(t, err)
	require.Empty(t, entries, "that says nothing about a device")
	doc, _, err = climb(&away{from: 2, to: 6, fail: 2})
	require.NoError(t, err)
	require.True(t, doc.Complete, "it came back")
	require.Equal(t, verdict.Failed, doc.Rungs[1].Attempts[0].Verdict)
	doc, _, err = climb(&away{from: 2, to: 1000, fail: 2})
	require.ErrorContains(t, err, "did not come back")
	require.False(t, doc.Complete)
	require.Equal(t, 2, doc.Attempts(), "what was measured is there")
	require.NotNil(t, doc.Rungs[1].Attempts[0].Windows)
}

// What is read while clips are made, or at rest, is no idle reading; a run whose baseline
// was interrupted reads it again.
func TestPhases(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	b := book(t)
	d := device(t, p, 1)
	making := &faulty{Route: d, prepare: map[string]error{}}
	c := config(&busyMaker{making}, load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	c.Rest = 5 * time.Second
	doc, err := climb.Run(t.Context(), b, c)
	require.NoError(t, err)
	kept, err := b.Load(doc.ID)
	require.NoError(t, err)
	require.Equal(t, len(doc.Baseline.Readings), len(kept.Baseline.Readings))
	require.Equal(t, len(doc.After.Readings), len(kept.After.Readings))
	all, err := b.Readings(kept)
	require.NoError(t, err)
	phases := map[logbook.Phase]int{}
	for _, r := range all {
		phases[r.Phase]++
	}
	for _, phase := range []logbook.Phase{logbook.Idle, logbook.Preparing, logbook.Trying, logbook.Resting, logbook.Afterward} {
		require.NotZero(t, phases[phase], phase)
	}
	require.Len(t, phases, 5)

	b = book(t)
	ctx, cancel := context.WithCancel(t.Context())
	c = config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	c.Watch = func(e run.Event) {
		if e.Kind == run.Baseline {
			cancel()
		}
	}
	_, err = climb.Run(ctx, b, c)
	require.ErrorIs(t, err, context.Canceled)
	id, err := b.Find("")
	require.NoError(t, err)
	doc, err = b.Load(id)
	require.NoError(t, err)
	doc, err = run.Resume(t.Context(), b, doc, run.Config{Route: device(t, p, 1)}, kinds.All)
	require.NoError(t, err)
	require.Len(t, doc.Baseline.Readings, 12*(p.Cores+7))
}

// busyMaker takes a while to make a clip.
type busyMaker struct{ route.Route }

func (m *busyMaker) Prepare(ctx context.Context, _ load.Load, _ func(int, int)) error {
	return m.Route.Clock().Sleep(ctx, 2*time.Second)
}

// On the way from hardware to software decoding it is the decoder block that limits: the
// headroom at the ceiling is its own, and the sentence says so.
func TestDecodingThatFallsBackToTheCores(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	doc, err := climb.Run(t.Context(), book(t), config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M", "h264 1080p50 20M", "h264 1440p50 30M")}))
	require.NoError(t, err)
	require.Equal(t, "h264 1080p50 20M", doc.Ceiling.Load.String())
	require.Equal(t, verdict.Core, doc.Ceiling.Limiter)
	require.Contains(t, doc.Ceiling.Evidence, "from h264 1440p50 30M on the decoder block is not used; one thread at")
	require.Equal(t, verdict.GPUDecode, doc.Ceiling.HeadroomOf)
	require.Less(t, *doc.Ceiling.Headroom, 60.0)
}

func TestOutOfOrderIsNamed(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	// h264 1440p is beyond the block and slow on the cores; 1080p is not.
	column := load.Column{Name: "odd", Rungs: rungs(t, "h264 720p25 5M", "h264 1440p50 6M", "h264 1080p50 20M")}
	doc, err := climb.Run(t.Context(), book(t), config(device(t, p, 1), column))
	require.NoError(t, err)
	require.Len(t, doc.Notes, 1)
	require.Contains(t, doc.Notes[0], "h264 1440p50 6M")
	require.Equal(t, "h264 720p25 5M", doc.Ceiling.Load.String())
}

// After a rung that was choppy, the same with more frames, bits or streams is not tried, unless all rungs are: it could
// not be better.
func TestMoreOfWhatWasChoppyIsNotTried(t *testing.T) {
	profile := &simulated.Profile{
		Name: "Random", Cores: 2, Threads: 8, Queue: 8,
		Decode: map[string]simulated.Cost{"h264": {NSPerPixel: 20, NSPerBit: 1}},
		Memory: simulated.Memory{Total: 64e9},
		Heat:   simulated.Heat{RoomC: 20, DegreesPerWatt: 1, TimeConstantS: 30, ThrottleC: 90, MinClock: 0.5},
	}
	column := load.Column{Name: "h264", Rungs: rungs(t, "h264 720p25 4M", "h264 2160p25 40M", "h264 2160p50 60M", "h264 2160p50 60M x2", "h264 2160p25 10bit 40M")}
	for all, tried := range map[bool][]int{false: {2, 2, 0, 0, 0}, true: {2, 2, 1, 1, 1}} {
		c := config(device(t, profile, 1), column)
		c.All = all
		doc, err := climb.Run(t.Context(), book(t), c)
		require.NoError(t, err)
		for i, r := range doc.Rungs {
			require.Len(t, r.Attempts, tried[i], r.Load)
		}
		require.Equal(t, "h264 720p25 4M", doc.Ceiling.Load.String())
		require.True(t, doc.Ceiling.Confirmed)
		require.Equal(t, "h264 2160p25 40M", doc.Ceiling.Next.Load.String())
	}
}

func TestWhatCannotWorkIsRefusedBeforeMeasuring(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	good := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	for name, change := range map[string]func(*climb.Config){
		"hold":       func(c *climb.Config) { c.Hold = 0 },
		"settle":     func(c *climb.Config) { c.Settle = c.Hold },
		"baseline":   func(c *climb.Config) { c.Baseline = -1 },
		"conversion": func(c *climb.Config) { c.Ladder.Columns[0].Rungs = rungs(t, "h264 720p25 5M -> 360p 1M") },
	} {
		c := good
		c.Ladder = &load.Ladder{Name: "x", Columns: []load.Column{good.Ladder.Columns[0]}}
		change(&c)
		b := book(t)
		_, err := climb.Run(t.Context(), b, c)
		require.Error(t, err, name)
		entries, err := b.Runs(logbook.Filter{})
		require.NoError(t, err)
		require.Empty(t, entries)
	}
}

func TestEveryEventIsSeen(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	c := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	seen := map[run.EventKind]int{}
	c.Watch = func(e run.Event) { seen[e.Kind]++ }
	doc, err := climb.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, search.Confirm, doc.Rungs[0].Attempts[1].Purpose)
	require.Equal(t, 2, seen[run.Ended])
	require.Equal(t, 2, seen[run.Baseline])
	require.Greater(t, seen[run.Playing], 10)
	require.Len(t, doc.Baseline.Readings, 12*(p.Cores+8))
}

// BenchmarkClimb is a simulated climb of 40 rungs, each of which is smooth, held
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
		doc, err := climb.Run(b.Context(), book(b), c)
		require.NoError(b, err)
		require.Equal(b, 41, doc.Attempts())
	}
	b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms/climb")
}
