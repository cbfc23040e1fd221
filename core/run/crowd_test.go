package run_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run/crowd"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// crowdOn looks for the number of streams that a simulated device carries.
func crowdOn(t *testing.T, name string, change func(*crowd.Config), lines ...string) (*logbook.Document, *logbook.Book) {
	p, err := simulated.Named(name)
	require.NoError(t, err)
	c := crowd.Config{Config: config(device(t, p, 1)).Config, Mix: rungs(t, lines...), Most: 64, Reserve: 20}
	if change != nil {
		change(&c)
	}
	b := book(t)
	doc, err := crowd.Run(t.Context(), b, c)
	require.NoError(t, err)
	return doc, b
}

func TestCrowdFindsTheNumber(t *testing.T) {
	doc, b := crowdOn(t, "breakwater-n2", func(c *crowd.Config) { c.Need = 12 }, "h264 720p25 5M")
	r := doc.Crowd
	require.True(t, doc.Complete)
	require.True(t, r.Confirmed)
	require.Equal(t, verdict.CPU, r.Limiter)
	require.Equal(t, r.Highest+1, r.Next)
	require.True(t, *r.Met)
	require.InDelta(t, r.Highest, r.Predicted.Number, 3, "what two streams say of many")
	require.Equal(t, 2, r.Predicted.From)
	require.InDelta(t, float64(r.Highest)*0.78, *r.Comfortable, 1.5)
	require.NotNil(t, r.CostCPU)
	require.InDelta(t, 62e6, *r.CostMemory, 2e6)
	// The comfortable number leaves what it says; one more than the highest
	// is not smooth.
	alone, _ := crowdOn(t, "breakwater-n2", func(c *crowd.Config) { c.Mix[0].Streams, c.Most = *r.Comfortable, 1 }, "h264 720p25 5M")
	require.Equal(t, 1, alone.Crowd.Highest)
	require.Less(t, alone.Rungs[0].Attempts[0].Use[sense.CPU].P95, 81.0)
	require.Zero(t, alone.Crowd.Next)
	require.Empty(t, alone.Crowd.Limiter, "the device's limit was not reached")
	kept, err := b.Load(doc.ID)
	require.NoError(t, err)
	require.Equal(t, len(doc.Rungs), len(kept.Rungs))
	for i := range doc.Rungs {
		require.Equal(t, doc.Rungs[i].Load.String(), kept.Rungs[i].Load.String())
		require.Equal(t, len(doc.Rungs[i].Attempts), len(kept.Rungs[i].Attempts))
	}
	require.Equal(t, doc.Crowd, kept.Crowd)
}

// A mix keeps its proportions, and its streams begin mixed and apart.
func TestCrowdOfAMix(t *testing.T) {
	doc, _ := crowdOn(t, "breakwater-n5", func(c *crowd.Config) { c.Stagger = 100 * time.Millisecond }, "h264 720p25 5M x2", "h264 576i25 3M")
	require.Equal(t, verdict.Memory, doc.Crowd.Limiter)
	require.Equal(t, 3*doc.Crowd.Highest, doc.Crowd.Streams)
	for i, r := range doc.Rungs {
		require.Len(t, r.Mix, 2)
		require.Equal(t, 2*doc.Plan.Crowd.Numbers[i], r.Mix[0].Streams)
		require.Equal(t, doc.Plan.Crowd.Numbers[i], r.Mix[1].Streams)
	}
	require.NotEmpty(t, doc.Rungs[0].Attempts[0].Worst)
	p := route.Plan{Loads: rungs(t, "h264 720p25 5M x4", "h264 576i25 3M x2")}
	var order []string
	for _, l := range p.StreamLoads() {
		order = append(order, l.Size())
	}
	require.Len(t, order, 6)
	require.ElementsMatch(t, []string{"720p", "720p", "576i"}, order[:3], "the mix is there from the start")
}

func TestNeedThatIsNotMet(t *testing.T) {
	doc, _ := crowdOn(t, "skerry-s1", func(c *crowd.Config) { c.Need = 50 }, "h264 1080p25 10M")
	require.False(t, *doc.Crowd.Met)
	require.Less(t, doc.Crowd.Highest, 50)
}

func TestCrowdsThatCannotBe(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	for says, change := range map[string]func(*crowd.Config){
		"nothing to multiply": func(c *crowd.Config) { c.Mix = nil }, "at most 20000": func(c *crowd.Config) { c.Most = 1e6 },
		"a need of": func(c *crowd.Config) { c.Need = 99 }, "the reserve": func(c *crowd.Config) { c.Reserve = 100 }, "a minute apart": func(c *crowd.Config) { c.Stagger = time.Hour },
		"each rung must be held": func(c *crowd.Config) { c.Hold = 0 },
	} {
		c := crowd.Config{Config: config(device(t, p, 1)).Config, Mix: rungs(t, "h264 720p25 5M"), Most: 64}
		change(&c)
		_, err := crowd.Run(t.Context(), book(t), c)
		require.ErrorContains(t, err, says)
	}
}

// paced is a route to a server that carries so many streams in real time, runs
// ahead with fewer, and is busy for a while after each attempt.
type paced struct {
	clock    *clock.Virtual
	carries  float64
	lag      float64 // of our own viewers, in ms
	gives    int     // gives up at once at so many streams, 0: never
	busy     time.Time
	streams  int // of the last attempt
	attempts []time.Time
}

func (*paced) Options() map[string]string                               { return map[string]string{} }
func (*paced) Device() route.Device                                     { return route.Device{Name: "paced"} }
func (*paced) Traits() route.Traits                                     { return route.Traits{Counts: true, Buffers: true, Virtual: true} }
func (p *paced) Clock() clock.Clock                                     { return p.clock }
func (p *paced) Sources() []sense.Source                                { return []sense.Source{p} }
func (*paced) Check(load.Load) error                                    { return nil }
func (*paced) Prepare(context.Context, load.Load, func(int, int)) error { return nil }
func (*paced) Kind() string                                             { return "test" }

func (*paced) Name() string { return "paced" }
func (p *paced) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	cpu := 2.0
	if now.Before(p.busy) {
		cpu = 97
	}
	list = append(list, sense.Reading{Quantity: sense.CPU, Value: cpu}, sense.Reading{Quantity: sense.ViewerLag, Value: p.lag})
	if p.gives > 0 {
		used := 1e7
		if now.Before(p.busy) {
			used = min(2e7*float64(p.streams), 1e8)
		}
		list = append(list, sense.Reading{Quantity: sense.GroupMemLimit, Value: 1e8}, sense.Reading{Quantity: sense.GroupCharged, Value: used},
			sense.Reading{Quantity: sense.MemTotal, Value: 1e8}, sense.Reading{Quantity: sense.MemFree, Value: 1e8 - used}, sense.Reading{Quantity: sense.MemUsed, Value: used})
	}
	return list, nil
}

func (p *paced) Play(ctx context.Context, plan route.Plan, _ func(route.Live)) (route.Result, error) {
	n := plan.Streams()
	p.attempts = append(p.attempts, p.clock.Now())
	result := route.Result{Began: p.clock.Now(), Decode: route.Unknown}
	p.streams = n
	if p.gives > 0 && n >= p.gives {
		p.busy = p.clock.Now().Add(5 * time.Second)
		result.Failure = "503 Service Unavailable: no memory"
		return result, nil
	}
	p.busy = p.clock.Now().Add(plan.Hold + 7*time.Second)
	for range n {
		rate := p.carries / float64(n)
		b := &tally.Buffer{BuildRate: &rate, MinLeadS: 3}
		if rate < 1 {
			b.Stalls, b.StallS, b.MinLeadS = 2, 3, 0
		}
		result.Streams = append(result.Streams, tally.Tally{Buffer: b, Windows: []tally.Window{{Kind: tally.Steady, ToS: plan.Hold.Seconds(), Frames: &tally.Frames{Due: 100, Shown: 100, Speed: 1}}}})
	}
	return result, p.clock.Sleep(ctx, plan.Hold)
}

// A server that runs ahead of few viewers is busy with them; how many it carries
// is told by the rate at which media came. And the next attempt waits until it is
// quiet.
func TestCrowdOnAServerThatRunsAhead(t *testing.T) {
	p := &paced{clock: clock.NewVirtual(time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)), carries: 5.5}
	c := crowd.Config{Config: config(p).Config, Mix: rungs(t, "h264 720p25 5M"), Most: 64, Reserve: 20}
	c.Rest = time.Minute
	doc, err := crowd.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, 5, doc.Crowd.Highest)
	require.Equal(t, 4, *doc.Crowd.Comfortable)
	require.Equal(t, 5, doc.Crowd.Predicted.Number)
	require.Equal(t, verdict.CPU, doc.Crowd.Limiter)
	for i := 1; i < len(p.attempts); i++ {
		require.GreaterOrEqual(t, p.attempts[i].Sub(p.attempts[i-1]), c.Hold+7*time.Second, "attempt %d", i)
	}
}

// Where our own side is late, nothing is said of the device.
func TestOurOwnSideIsNamed(t *testing.T) {
	p := &paced{clock: clock.NewVirtual(time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)), carries: 1.5, lag: 80}
	doc, err := crowd.Run(t.Context(), book(t), crowd.Config{Config: config(p).Config, Mix: rungs(t, "h264 720p25 5M"), Most: 4, Reserve: 20})
	require.NoError(t, err)
	require.Equal(t, verdict.Viewer, doc.Crowd.Limiter)
	require.Contains(t, doc.Crowd.Evidence, "woke up too late, by 80 ms")
}

// A server that gives up at once is read for a moment, so that it is known why.
func TestServersThatGiveUpAtOnce(t *testing.T) {
	p := &paced{clock: clock.NewVirtual(time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)), carries: 50, gives: 5}
	c := crowd.Config{Config: config(p).Config, Mix: rungs(t, "h264 720p25 5M"), Most: 8, Reserve: 20}
	c.Rest = time.Minute
	doc, err := crowd.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, 4, doc.Crowd.Highest)
	require.Equal(t, verdict.Memory, doc.Crowd.Limiter)
	require.Contains(t, doc.Crowd.Evidence, "100 MB in use of the 100 MB")
	require.Equal(t, 4, doc.Crowd.Highest)
	require.Equal(t, 4, *doc.Crowd.Comfortable, "20 MB of 100 MB are left")
}

// few is a route that cannot have many streams.
type few struct{ route.Route }

func (r few) Traits() route.Traits {
	t := r.Route.Traits()
	t.Streams, t.StreamsWhy = 5, "the quay has five bollards"
	return t
}

func TestCrowdIsBoundByTheRoute(t *testing.T) {
	p, err := simulated.Named("breakwater-n5")
	require.NoError(t, err)
	c := crowd.Config{Config: config(few{device(t, p, 1)}).Config, Mix: rungs(t, "h264 360p25 1M x2"), Most: 64}
	doc, err := crowd.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.Equal(t, 2, doc.Crowd.Highest)
	require.True(t, doc.Ceiling.LadderEnd)
	require.Contains(t, doc.Notes, "more were not tried: the quay has five bollards")
	c.Need = 3
	_, err = crowd.Run(t.Context(), book(t), c)
	require.ErrorContains(t, err, "five bollards")
}
