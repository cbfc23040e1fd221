package registry

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/scene"
)

// BenchmarkCodecs codes the same pictures at the same bitrate with each codec that codes groups, on one
// thread, and decodes them on one and two: frames a second, and the encoder's PSNR.
func BenchmarkCodecs(b *testing.B) {
	for _, size := range []struct {
		width, height int
		bitrate       int64
	}{{1280, 720, 4e6}, {1920, 1080, 12e6}, {3840, 2160, 40e6}} {
		for _, depth := range []int{8, 10} {
			for _, name := range []string{"h264", "hevc"} {
				f := media.Format{Codec: name, Width: size.width, Height: size.height, Rate: media.Rate{Num: 25, Den: 1}, Depth: depth, Chroma: picture.C420, Bitrate: size.bitrate}
				b.Run(fmt.Sprintf("%s %d bit %dp", name, depth, size.height), func(b *testing.B) { benchmarkCodec(b, f) })
			}
		}
	}
}

func benchmarkCodec(b *testing.B, f media.Format) {
	const frames = 25
	codec, err := Codec(f.Codec)
	require.NoError(b, err)
	stage, err := scene.New(scene.Order{Format: f})
	require.NoError(b, err)
	sources, drawer := make([]*picture.Picture, frames), stage.NewDrawer()
	for n := range sources {
		sources[n] = picture.New(f.Width, f.Height, f.Depth, f.Chroma)
		drawer.Draw(sources[n], n)
	}
	var track media.Track
	var packets [][]byte
	b.Run("encode", func(b *testing.B) {
		for b.Loop() {
			packets = packets[:0]
			e, err := codec.NewEncoder(media.EncoderSettings{Format: f, KeyEvery: frames}, func(p *media.Packet) error {
				filter, err := codec.ToByteStream(track)
				require.NoError(b, err)
				list, err := filter(p)
				require.NoError(b, err)
				packets = append(packets, append([]byte(nil), list[0].Data...))
				return nil
			})
			require.NoError(b, err)
			track, err = e.Track()
			require.NoError(b, err)
			for n, p := range sources {
				require.NoError(b, e.Encode(p, int64(n)))
			}
			require.NoError(b, e.Flush())
		}
		report(b, frames*b.N)
		db, n := 0.0, 0
		d, err := codec.NewDecoder(media.Track{}, 1)
		require.NoError(b, err)
		require.NoError(b, codectest.Decode(b, d, packets, func(f media.Frame) {
			db += quality.PSNR(f.Picture, sources[n])
			n++
		}))
		b.ReportMetric(db/float64(n), "dB")
	})
	for _, threads := range []int{1, 2} {
		b.Run(fmt.Sprintf("decode %d", threads), func(b *testing.B) {
			for b.Loop() {
				d, err := codec.NewDecoder(media.Track{}, threads)
				require.NoError(b, err)
				require.NoError(b, codectest.Decode(b, d, packets, func(media.Frame) {}))
			}
			report(b, frames*b.N)
		})
	}
}

// report reports frames a second.
func report(b *testing.B, frames int) {
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
	b.ReportMetric(0, "ns/op")
}
