package browser

import (
	"bytes"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
)

// BenchmarkAgainstBrowser decodes the same 1080p streams in the browser and here, in turns, and reports frames a second of
// both and their ratio: two streams of the browser's own encoder, and what our clips are made of.
func BenchmarkAgainstBrowser(b *testing.B) {
	page := browser(b, b.TempDir())
	const codec, frames = "avc1.640028", 150
	browsers := func(megabits int, noise float64) [][]byte {
		made, err := page.Encode(Film{Codec: codec, Width: 1920, Height: 1080, Rate: 30, Bitrate: megabits * 1_000_000, Frames: frames, Mode: "realtime", Noise: noise})
		require.NoError(b, err)
		return made.Packets
	}
	for _, s := range []struct {
		name    string
		rate    float64
		packets [][]byte
	}{{"1080p 12M", 30, browsers(12, 0)}, {"1080p 40M", 30, browsers(40, 0.25)}, {"clip of 1080p 12M", 25, clipPackets(b, 12, frames, 25)}} {
		b.Run(s.name, func(b *testing.B) {
			var theirs, ours time.Duration
			rounds := 0
			for b.Loop() {
				d, err := page.Decode(codec, s.packets, false)
				require.NoError(b, err)
				require.Equal(b, frames, d.Frames)
				theirs += time.Duration(d.Seconds * float64(time.Second))
				start := time.Now()
				require.Len(b, decodeOurs(b, s.packets, runtime.NumCPU(), false), frames)
				ours += time.Since(start)
				rounds++
			}
			count := float64(rounds * frames)
			b.ReportMetric(float64(len(bytes.Join(s.packets, nil)))*8/frames*s.rate/1e6, "Mb/s")
			b.ReportMetric(count/theirs.Seconds(), "browser-frames/s")
			b.ReportMetric(count/ours.Seconds(), "our-frames/s")
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "ratio")
		})
	}
}

// clipPackets returns frames coded as those of a clip are.
func clipPackets(b *testing.B, megabits, frames, rate int) (packets [][]byte) {
	f := media.Format{Codec: "h264", Width: 1920, Height: 1080, Rate: media.Rate{Num: rate, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: int64(megabits) * 1_000_000}
	stage, err := scene.New(scene.Order{Format: f, Noise: scene.NoiseFor(f)})
	require.NoError(b, err)
	c, err := registry.Codec("h264")
	require.NoError(b, err)
	var toBytes media.Filter
	e, err := c.NewEncoder(media.EncoderSettings{Format: f, KeyEvery: 2 * rate, Preset: media.Fast}, func(p *media.Packet) error {
		list, err := toBytes(p)
		packets = append(packets, bytes.Clone(list[0].Data))
		return err
	})
	require.NoError(b, err)
	track, err := e.Track()
	require.NoError(b, err)
	toBytes, err = c.ToByteStream(track)
	require.NoError(b, err)
	drawer := stage.NewDrawer()
	for n := range frames {
		p := e.Picture()
		drawer.Draw(p, n)
		require.NoError(b, e.Encode(p, int64(n)))
	}
	require.NoError(b, e.Flush())
	return packets
}
