package hevc

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
)

// corpus are streams of an independent encoder, each with the MD5 of every picture as that encoder
// reconstructed it.
func corpus(t testing.TB) []string {
	files, err := filepath.Glob("testdata/*.265")
	require.NoError(t, err)
	require.Len(t, files, 21)
	return files
}

// Every picture of every foreign stream is as its encoder reconstructed it, with any number of threads.
func TestForeignStreams(t *testing.T) {
	for _, file := range corpus(t) {
		for _, threads := range []int{1, 3} {
			t.Run(fmt.Sprint(filepath.Base(file), " ", threads), func(t *testing.T) {
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				d, err := NewDecoder(media.Track{}, threads)
				require.NoError(t, err)
				var got []string
				require.NoError(t, codectest.Decode(t, d, [][]byte{data}, func(f media.Frame) {
					require.False(t, f.Damaged)
					got = append(got, f.Picture.MD5())
				}))
				require.Equal(t, codectest.Checksums(t, file), got)
			})
		}
	}
}

// Of a damaged stream all pictures come whose headers are left, and those that lack something say so.
func TestDamagedStreams(t *testing.T) {
	for _, file := range corpus(t) {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		for i := len(data) / 3; i < len(data)-40; i += len(data) / 7 {
			for k := range 30 {
				data[i+k] = 0xA5
			}
		}
		got, damaged := decoded(t, [][]byte{data}, 1)
		again, _ := decoded(t, [][]byte{data}, 3)
		require.Equal(t, got, again, "%s with another number of threads", file)
		require.InDelta(t, len(codectest.Checksums(t, file)), len(got), 4, file)
		require.NotZero(t, damaged, file)
	}
}

// BenchmarkDecoder reports how many frames a second one and two threads decode.
func BenchmarkDecoder(b *testing.B) {
	for _, file := range []string{"main-640.265", "main10-640.265"} {
		data, err := os.ReadFile("testdata/" + file)
		require.NoError(b, err)
		for _, threads := range []int{1, 2} {
			b.Run(fmt.Sprint(file, " ", threads), func(b *testing.B) {
				frames := 0
				for b.Loop() {
					d, err := NewDecoder(media.Track{}, threads)
					require.NoError(b, err)
					require.NoError(b, codectest.Decode(b, d, [][]byte{data}, func(media.Frame) { frames++ }))
				}
				b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

// Whatever the bytes are, decoding ends, and what was damaged is said.
func FuzzDecode(f *testing.F) {
	for _, file := range []string{"main-intra", "main-b", "main-wpp", "main10-b", "main422-10", "main-lossless-cu", "main-weighted", "main-tskip-signhide"} {
		data, err := os.ReadFile("testdata/" + file + ".265")
		require.NoError(f, err)
		f.Add(data[:min(len(data), 6000)])
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := NewDecoder(media.Track{}, 2)
		require.NoError(t, err)
		_ = codectest.Decode(t, d, [][]byte{data}, func(media.Frame) {}) // an unsupported feature ends it
	})
}
