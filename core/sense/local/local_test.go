package local

import (
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/cputime"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
)

// A thread that spins for half a second is seen by the core, the process and
// the thread that it keeps busy.
func TestLocalSourcesSeeABusyThread(t *testing.T) {
	group := &linux.Group{}
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
	require.NotContains(t, first, sense.CPU, "a rate needs two samples")
	runtime.LockOSThread()
	for begun := time.Now(); time.Since(begun) < 500*time.Millisecond; {
	}
	values := sample()
	runtime.UnlockOSThread()
	require.Greater(t, values[sense.CPU], 10.0)
	require.Greater(t, values[sense.GroupCPU], 20.0)
	require.Greater(t, values[sense.ThreadMax], 20.0)
	require.LessOrEqual(t, values[sense.ThreadMax], 100.0)
	require.Greater(t, values[sense.MemTotal], values[sense.MemUsed])
	require.Greater(t, values[sense.GroupMem], 1e6)
	require.Contains(t, values, "cpu_core_pct:0")
}

// BenchmarkLocal reads this computer as a climb does.
func BenchmarkLocal(b *testing.B) {
	group := &linux.Group{}
	group.Watch(os.Getpid())
	sources := Local(group)
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	now, n := time.Now(), 0
	begun := cputime.Thread()
	b.ReportAllocs()
	var list []sense.Reading
	for b.Loop() {
		now = now.Add(250 * time.Millisecond)
		for _, s := range sources {
			list, _ = s.Sample(b.Context(), now, list[:0])
		}
		n++
	}
	used := (cputime.Thread() - begun).Seconds() / float64(n)
	b.ReportMetric(100*4*used, "%core@4Hz")
	b.ReportMetric(100*20*used, "%core@20Hz")
}
