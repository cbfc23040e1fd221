package h264

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// BenchmarkDecoder decodes a stream of the corpus, or the raw stream that the
// variable STREAM names, on one and on two threads.
func BenchmarkDecoder(b *testing.B) {
	name := os.Getenv("STREAM")
	if name == "" {
		name = "testdata/high-640.264"
	}
	data, err := os.ReadFile(name)
	require.NoError(b, err)
	for _, threads := range []int{1, 2} {
		b.Run([]string{"", "one thread", "two threads"}[threads], func(b *testing.B) {
			frames := 0
			b.ReportAllocs()
			for b.Loop() {
				d, err := NewDecoder(media.Track{}, threads)
				require.NoError(b, err)
				require.NoError(b, decode(b, d, [][]byte{data}, func(media.Frame) { frames++ }))
			}
			b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
			b.ReportMetric(0, "ns/op")
		})
	}
}
