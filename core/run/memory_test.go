package run_test

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
)

// heaps runs ten attempts of a duration each and one more that confirms the last, in virtual time, and
// returns the memory in use after each, in bytes.
func heaps(t testing.TB, hold time.Duration) (list []float64) {
	p, err := simulated.Named("breakwater-n5")
	require.NoError(t, err)
	var lines []string
	for i := range 10 {
		lines = append(lines, fmt.Sprintf("h264 360p25 %dk", 500+i))
	}
	c := config(device(t, p, 1), load.Column{Name: "h264", Rungs: rungs(t, lines...)})
	c.Hold = hold
	c.Watch = func(e run.Event) {
		if e.Kind == run.Ended {
			runtime.GC()
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			list = append(list, float64(m.HeapAlloc))
		}
	}
	doc, err := climb.Run(t.Context(), book(t), c)
	require.NoError(t, err)
	require.True(t, doc.Complete)
	return list
}

// Long attempts take no more memory than short ones, and the tenth no more than the first: readings go
// to the logbook, and an account holds sums. What grows is the document, by a few kilobytes an attempt.
func TestMemoryStaysFlat(t *testing.T) {
	short, long := heaps(t, 10*time.Second), heaps(t, 10*time.Minute)
	require.GreaterOrEqual(t, len(long), 10)
	const each, noise = 10e3, 100e3
	require.Less(t, long[len(long)-1]-long[0], each*float64(len(long))+noise)
	require.InDelta(t, short[len(short)-1], long[len(long)-1], noise)
}

// BenchmarkADay plays for a day of virtual time.
func BenchmarkADay(b *testing.B) {
	for b.Loop() {
		list := heaps(b, 140*time.Minute)
		b.ReportMetric(list[0]/1e6, "MB-after-the-first")
		b.ReportMetric(list[len(list)-1]/1e6, "MB-after-the-last")
	}
}
