package browser

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/scene"
)

// BenchmarkQualityAgainstBrowser codes our scenes with the browser's h264
// encoder at real-time settings and with ours at the bitrate that came out
// there, and reports how near to the original both are: PSNR and SSIM of luma.
func BenchmarkQualityAgainstBrowser(b *testing.B) {
	dir := b.TempDir()
	page := browser(b, dir)
	for _, name := range scene.Names() {
		for _, bitrate := range []int{1_000_000, 3_000_000} {
			f := media.Format{Codec: h264.Name, Width: 1280, Height: 720, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Bitrate: int64(bitrate)}
			sources := draw(b, scene.Order{Scene: name, Format: f, Noise: scene.NoiseFor(f)}, 100)
			writeFrames(b, filepath.Join(dir, "frames.yuv"), sources)
			theirs, err := page.Encode(Film{Codec: "avc1.64001f", Width: f.Width, Height: f.Height, Rate: 25, Bitrate: bitrate,
				Frames: len(sources), Mode: "realtime", File: "frames.yuv"})
			require.NoError(b, err)
			bytes := 0
			for _, p := range theirs {
				bytes += len(p)
			}
			f.Bitrate = int64(bytes) * 8 / 4
			for _, effort := range []media.Preset{media.Fast, media.Good} {
				b.Run(fmt.Sprintf("%s %dk %s", name, bitrate/1000, [2]string{"fast", "good"}[effort]), func(b *testing.B) {
					var ours [][]byte
					var took time.Duration
					for b.Loop() {
						start := time.Now()
						ours = encodeOurs(b, f, effort, sources)
						took = time.Since(start)
					}
					bits := 0
					for _, p := range ours {
						bits += len(p)
					}
					theirPSNR, theirSSIM := compare(b, theirs, sources)
					ourPSNR, ourSSIM := compare(b, ours, sources)
					b.ReportMetric(0, "ns/op")
					b.ReportMetric(float64(bytes)*8/4e6, "browser-Mb/s")
					b.ReportMetric(float64(bits)*8/4e6, "our-Mb/s")
					b.ReportMetric(theirPSNR, "browser-dB")
					b.ReportMetric(ourPSNR, "our-dB")
					b.ReportMetric(theirSSIM, "browser-SSIM")
					b.ReportMetric(ourSSIM, "our-SSIM")
					b.ReportMetric(float64(len(sources))/took.Seconds(), "our-frames/s")
				})
			}
		}
	}
}

func draw(t testing.TB, o scene.Order, frames int) (list []*picture.Picture) {
	stage, err := scene.New(o)
	require.NoError(t, err)
	d := stage.NewDrawer()
	for n := range frames {
		p := picture.New(o.Format.Width, o.Format.Height, o.Format.Depth, o.Format.Chroma)
		d.Draw(p, n)
		list = append(list, p)
	}
	return list
}

func writeFrames(t testing.TB, path string, list []*picture.Picture) {
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	var row []byte
	for _, p := range list {
		for i := range p.Planes {
			_, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
			for y := range h {
				row = p.AppendRow(row[:0], i, y)
				_, err := f.Write(row)
				require.NoError(t, err)
			}
		}
	}
}

// encodeOurs returns our encoder's packets as a byte stream.
func encodeOurs(t testing.TB, f media.Format, effort media.Preset, sources []*picture.Picture) (packets [][]byte) {
	set := media.EncoderSettings{Format: f, KeyEvery: 50, Preset: effort}
	if effort == media.Good {
		set.BFrames = 1
	}
	var filter media.Filter
	e, err := h264.NewEncoder(set, func(p *media.Packet) error {
		list, err := filter(p)
		for _, q := range list {
			packets = append(packets, bytes.Clone(q.Data))
		}
		return err
	})
	require.NoError(t, err)
	track, err := e.Track()
	require.NoError(t, err)
	filter, err = h264.Codec.ToByteStream(track)
	require.NoError(t, err)
	for n, p := range sources {
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	return packets
}

// compare decodes packets and gives mean PSNR and SSIM of luma.
func compare(t testing.TB, packets [][]byte, sources []*picture.Picture) (psnr, ssim float64) {
	d, err := h264.NewDecoder(media.Track{}, 2)
	require.NoError(t, err)
	defer d.Close()
	go func() {
		defer d.Drain()
		for _, p := range packets {
			if d.Send(t.Context(), &media.Packet{Data: p, PTS: media.NoTime}) != nil {
				return
			}
		}
	}()
	n := 0
	for ; ; n++ {
		f, err := d.Receive(t.Context())
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		psnr += quality.PSNR(f.Picture, sources[n])
		ssim += quality.SSIM(f.Picture, sources[n])
		f.Release()
	}
	require.Equal(t, len(sources), n)
	return psnr / float64(n), ssim / float64(n)
}
