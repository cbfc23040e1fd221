package browser

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkAgainstBrowser decodes the same 1080p streams in the browser and
// here, in turns, and reports frames a second of both and their ratio.
func BenchmarkAgainstBrowser(b *testing.B) {
	page := browser(b, b.TempDir())
	for megabits, noise := range map[int]float64{12: 0, 40: 0.25} {
		film := Film{Codec: "avc1.640028", Width: 1920, Height: 1080, Rate: 30, Bitrate: megabits * 1_000_000, Frames: 150, Mode: "realtime", Noise: noise}
		made, err := page.Encode(film)
		require.NoError(b, err)
		packets := made.Packets
		bytes := 0
		for _, p := range packets {
			bytes += len(p)
		}
		b.Run(fmt.Sprintf("1080p %dM", megabits), func(b *testing.B) {
			var theirs, ours time.Duration
			rounds := 0
			for b.Loop() {
				d, err := page.Decode(film.Codec, packets, false)
				require.NoError(b, err)
				require.Equal(b, film.Frames, d.Frames)
				theirs += time.Duration(d.Seconds * float64(time.Second))
				start := time.Now()
				require.Len(b, decodeOurs(b, packets, runtime.NumCPU(), false), film.Frames)
				ours += time.Since(start)
				rounds++
			}
			frames := float64(rounds * film.Frames)
			b.ReportMetric(float64(bytes)*8/float64(film.Frames)*float64(film.Rate)/1e6, "Mb/s")
			b.ReportMetric(frames/theirs.Seconds(), "browser-frames/s")
			b.ReportMetric(frames/ours.Seconds(), "our-frames/s")
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "ratio")
		})
	}
}
