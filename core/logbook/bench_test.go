package logbook

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkReadings reads a run of two hours with 60 quantities, four times a second.
func BenchmarkReadings(b *testing.B) {
	book, err := Open(filepath.Join(b.TempDir(), "book.db"))
	require.NoError(b, err)
	defer book.Close()
	d := NewWatch(time.Unix(1700000000, 0), "x")
	for i := range 2 * 3600 * 4 {
		for k := range 60 {
			d.Readings = append(d.Readings, Reading{AtS: float64(i) / 4, Kind: "system", Source: fmt.Sprintf("source%d", k/10), Quantity: fmt.Sprintf("quantity_%d_pct", k), Value: float64((i*k)%1000) / 10, Phase: Idle})
		}
	}
	require.NoError(b, book.Add(d))
	d.Readings = nil
	b.ReportAllocs()
	for b.Loop() {
		list, err := book.Readings(d)
		require.NoError(b, err)
		require.Len(b, list, 2*3600*4*60)
	}
}
