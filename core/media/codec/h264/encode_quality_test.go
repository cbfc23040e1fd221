package h264

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/scene"
)

// BenchmarkQuality encodes a second of each scene at 720p with constant QPs on one thread, and
// reports bits, PSNR and speed.
func BenchmarkQuality(b *testing.B) {
	for _, name := range scene.Names() {
		for i := range 4 {
			effort, qp := media.Preset(i&1), 27+10*(i>>1)
			b.Run(fmt.Sprintf("%s %s QP %d", name, []string{"fast", "good"}[effort], qp), func(b *testing.B) {
				set := settings(func(s *media.EncoderSettings) {
					s.Format.Width, s.Format.Height, s.Preset, s.KeyEvery, s.QP = 1280, 720, effort, 60, qp
					if effort == media.Good {
						s.BFrames = 1
					}
				})
				stage, err := scene.New(scene.Order{Scene: name, Format: set.Format, Noise: 1})
				require.NoError(b, err)
				d := stage.NewDrawer()
				sources := make([]*picture.Picture, 28)
				for n := range sources {
					sources[n] = picture.New(1280, 720, 8, picture.C420)
					d.Draw(sources[n], n)
				}
				bits, db, frames := 0, 0.0, 0
				for b.Loop() {
					shown := 0
					e, err := NewEncoder(set, func(p *media.Packet) error { bits += 8 * len(p.Data); return nil })
					require.NoError(b, err)
					e.reconstructed = func(f *frame) {
						b.StopTimer()
						db += quality.PSNR(&f.Picture, sources[shown])
						shown++
						frames++
						b.StartTimer()
					}
					for n, p := range sources {
						require.NoError(b, e.Encode(p, int64(n)))
					}
					require.NoError(b, e.Flush())
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(float64(bits)/float64(frames)/1000, "kbit/frame")
				b.ReportMetric(db/float64(frames), "dB")
				b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
			})
		}
	}
}
