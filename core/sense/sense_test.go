package sense

import (
	"context"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/clock"
)

// counting is a source whose value is the number of the sample.
type counting struct {
	n    float64
	fail bool
}

func (*counting) Kind() string { return System }

func (*counting) Name() string { return "counting" }

func (c *counting) Sample(_ context.Context, _ time.Time, list []Reading) ([]Reading, error) {
	c.n++
	if c.fail {
		return list, errors.New("gone")
	}
	return append(list, Reading{CPU, "", c.n}, Reading{CPUCore, "1", 10 * c.n}), nil
}

func TestSamplerReadsAtItsRateAndStops(t *testing.T) {
	start := time.Unix(0, 0)
	v := clock.NewVirtual(start)
	var got []Sample
	s := Start(t.Context(), v, 250*time.Millisecond, []Source{&counting{}, &counting{fail: true}}, func(s Sample) {
		s.Readings = append([]Reading(nil), s.Readings...)
		got = append(got, s)
	})
	require.NoError(t, v.Sleep(t.Context(), 2*time.Second))
	s.Stop()
	require.NoError(t, v.Sleep(t.Context(), 2*time.Second))
	require.Len(t, got, 8)
	require.Equal(t, start.Add(250*time.Millisecond), got[0].At)
	require.Equal(t, "cpu_core_pct:1", got[7].Readings[1].Key())

	use := Summarise(got, start.Add(500*time.Millisecond), start.Add(1500*time.Millisecond))
	require.Equal(t, Stat{Mean: 3.5, P95: 5, Max: 5, Min: 2, First: 2, Last: 5, N: 4}, use[CPU])
	require.Equal(t, 35.0, use["cpu_core_pct:1"].Mean)
}

// failing fails from one sample to another.
type failing struct{ n, from, to int }

func (*failing) Kind() string { return System }

func (*failing) Name() string { return "failing" }

func (f *failing) Sample(_ context.Context, _ time.Time, list []Reading) ([]Reading, error) {
	if f.n++; f.n >= f.from && f.n < f.to {
		return list, errors.New("the cable is out")
	}
	return append(list, Reading{CPU, "", 1}), nil
}

// A source that fails leaves a gap with its reason, and comes back.
func TestGaps(t *testing.T) {
	start := time.Unix(0, 0)
	v := clock.NewVirtual(start)
	n := 0
	s := Start(t.Context(), v, time.Second, []Source{&failing{from: 3, to: 5}, &counting{fail: true}}, func(Sample) { n++ })
	require.NoError(t, v.Sleep(t.Context(), 6*time.Second))
	require.Equal(t, 4, n)
	require.Equal(t, []Gap{
		{Source: Identity{System, "counting"}, From: start.Add(time.Second), Reason: "gone"},
		{Source: Identity{System, "failing"}, From: start.Add(3 * time.Second), To: start.Add(5 * time.Second), Reason: "the cable is out"}}, s.Gaps())
	require.Equal(t, 6, s.Costs()[1].Samples)
}

// slow is a source that takes longer than the interval; poll makes it a Poller.
type slow struct {
	name  string
	takes time.Duration
}

func (s *slow) Kind() string { return System }

func (s *slow) Name() string { return s.name }

func (s *slow) Sample(ctx context.Context, now time.Time, list []Reading) ([]Reading, error) {
	return append(list, Reading{Temperature, "", 1}), clock.Real{}.Sleep(ctx, s.takes)
}

type poller struct{ slow }

func (*poller) Every() (interval, timeout time.Duration) { return time.Second, 500 * time.Millisecond }

// Neither a meter that never answers nor a file that takes long keeps the
// others waiting.
func TestSlowSourcesAreReadOnTheirOwn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		seen := map[string]int{}
		s := Start(t.Context(), clock.Real{}, 250*time.Millisecond, []Source{&counting{}, &slow{"slow", 100 * time.Millisecond}, &poller{slow{"hanging", time.Hour}}}, func(s Sample) {
			mu.Lock()
			seen[s.Source.Name]++
			mu.Unlock()
		})
		time.Sleep(10*time.Second + time.Millisecond)
		mu.Lock()
		require.Equal(t, 40, seen["counting"])
		require.InDelta(t, 3+9, seen["slow"], 2, "three times with the others, then once a second")
		mu.Unlock()
		gaps := s.Gaps()
		require.Len(t, gaps, 1)
		require.Equal(t, "hanging", gaps[0].Source.Name)
		require.Equal(t, "it did not answer in time", gaps[0].Reason)
		s.Stop()
	})
}

// A source that was slow while the device was saturated is read with the others again.
func TestSlowSourcesComeBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		seen := map[string]int{}
		source := &slow{name: "slow", takes: 100 * time.Millisecond}
		s := Start(t.Context(), clock.Real{}, 250*time.Millisecond, []Source{&counting{}, source}, func(s Sample) {
			mu.Lock()
			defer mu.Unlock()
			if seen[s.Source.Name]++; s.Source.Name == "slow" && seen[s.Source.Name] == 10 {
				source.takes = 0 // from the next one on, by who reads it
			}
		})
		time.Sleep(20*time.Second + time.Millisecond)
		mu.Lock()
		before := seen["slow"]
		mu.Unlock()
		time.Sleep(10 * time.Second)
		mu.Lock()
		require.Equal(t, 40, seen["slow"]-before, "at the pace of the others")
		mu.Unlock()
		s.Stop()
	})
}

// A meter reads real time: in virtual time it is not asked at all.
func TestMetersAreNotReadInVirtualTime(t *testing.T) {
	v := clock.NewVirtual(time.Unix(0, 0))
	seen := map[string]int{}
	s := Start(t.Context(), v, 250*time.Millisecond, []Source{&counting{}, &poller{slow{"plug", 0}}}, func(s Sample) { seen[s.Source.Name]++ })
	require.NoError(t, v.Sleep(t.Context(), time.Hour))
	s.Stop()
	require.Equal(t, map[string]int{"counting": 4 * 3600}, seen)
}

// Two sources of one quantity are both kept, and named where they disagree.
func TestTwoSourcesOfOneQuantity(t *testing.T) {
	at := time.Unix(0, 0)
	sample := func(source string, rank int, v float64) Sample {
		return Sample{at, Identity{System, source}, rank, []Reading{{CPU, "", v}, {MemUsed, "", v}}}
	}
	use := Summarise([]Sample{sample("nas", 7, 60), sample("cpu", 0, 40)}, at, at.Add(1))
	require.Equal(t, 40.0, use[CPU].Mean)
	require.Equal(t, 60.0, use[CPU+"@nas"].Mean)
	require.Equal(t, []string{"cpu_pct is 40 % here but 60 % by nas"}, use.Disagreements())
	require.Empty(t, Summarise([]Sample{sample("nas", 7, 49), sample("cpu", 0, 40)}, at, at.Add(1)).Disagreements())
	alone := Summarise([]Sample{sample("nas", 7, 60)}, at, at.Add(1))
	require.Equal(t, 60.0, alone[CPU].Mean)
}

func TestTrace(t *testing.T) {
	trace := Trace{Length: 3}
	for v := range 5 {
		trace.Add(Sample{Readings: []Reading{{CPU, "", float64(v)}, {CPUCore, "1", 1}}})
	}
	require.Equal(t, []float64{2, 3, 4}, trace.Values(CPU))
	require.Empty(t, trace.Values(GPU))
}
