package h264

import (
	"os"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/nal"
)

// split returns the pictures of a stream, each with what is before it.
func split(data []byte) (packets [][]byte) {
	var packet []byte
	seen := false // a slice of the picture
	for unit := range nal.ByteStream(data) {
		slice := unit[0]&31 == nalSlice || unit[0]&31 == nalIDR
		if seen && (!slice || unit[1]&0x80 != 0) { // first_mb_in_slice is 0
			packets, packet, seen = append(packets, packet), nil, false
		}
		packet = append(append(packet, 0, 0, 1), unit...)
		seen = seen || slice
	}
	return append(packets, packet)
}

// BenchmarkDecoder decodes a stream of the corpus, or the raw stream that the
// variable STREAM names, on one and on two threads. Allocations are those of the
// whole program, starting a decoder for each round included.
func BenchmarkDecoder(b *testing.B) {
	name := os.Getenv("STREAM")
	if name == "" {
		name = "testdata/high-640.264"
	}
	data, err := os.ReadFile(name)
	require.NoError(b, err)
	packets := split(data)
	for _, threads := range []int{1, 2} {
		b.Run([]string{"", "one thread", "two threads"}[threads], func(b *testing.B) {
			frames := 0
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			for b.Loop() {
				d, err := NewDecoder(media.Track{}, threads)
				require.NoError(b, err)
				require.NoError(b, codectest.Decode(b, d, packets, func(media.Frame) { frames++ }))
			}
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(after.Mallocs-before.Mallocs)/float64(frames), "allocs/frame")
			b.ReportMetric(float64(after.Sys)/1e6, "MB")
			b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
			b.ReportMetric(0, "ns/op")
		})
	}
}
