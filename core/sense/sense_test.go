package sense

import (
	"context"
	"errors"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/clock"
)

// counting is a source whose value is the number of the sample.
type counting struct {
	n    float64
	fail bool
}

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

// A thread that spins for half a second is seen by the core, the process and
// the thread that it keeps busy.
func TestLocalSourcesSeeABusyThread(t *testing.T) {
	group := &Group{}
	group.Watch(os.Getpid())
	sources := Local(group)
	sample := func() map[string]float64 {
		values := map[string]float64{}
		for _, s := range sources {
			list, err := s.Sample(t.Context(), time.Now(), nil)
			require.NoError(t, err, s.Name())
			for _, r := range list {
				values[r.Key()] = r.Value
			}
		}
		return values
	}
	first := sample()
	require.NotContains(t, first, CPU, "a rate needs two samples")
	runtime.LockOSThread()
	for begun := time.Now(); time.Since(begun) < 500*time.Millisecond; {
	}
	values := sample()
	runtime.UnlockOSThread()
	require.Greater(t, values[CPU], 10.0)
	require.Greater(t, values[GroupCPU], 20.0)
	require.Greater(t, values[ThreadMax], 20.0)
	require.LessOrEqual(t, values[ThreadMax], 100.0)
	require.Greater(t, values[MemTotal], values[MemUsed])
	require.Greater(t, values[GroupMem], 1e6)
	require.Contains(t, values, "cpu_core_pct:0")
}
