package browser

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
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
			bytes := sizeOf(theirs.Packets)
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
					theirPSNR, theirSSIM := compare(b, theirs.Packets, sources)
					ourPSNR, ourSSIM := compare(b, ours, sources)
					b.ReportMetric(0, "ns/op")
					b.ReportMetric(float64(bytes)*8/4e6, "browser-Mb/s")
					b.ReportMetric(float64(sizeOf(ours))*8/4e6, "our-Mb/s")
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

// BenchmarkEncodersAgainstBrowser codes the same frames with the browser's h264 encoder at real-time
// settings and with ours, at the bitrate that came out there, and reports frames a second of both, without
// drawing. Ours codes as many groups at a time as there are cores, as clips are made; how many cores
// the browser uses is its own choice.
func BenchmarkEncodersAgainstBrowser(b *testing.B) {
	dir := b.TempDir()
	page := browser(b, dir)
	for _, f := range []media.Format{
		{Codec: h264.Name, Width: 1920, Height: 1080, Rate: media.Rate{Num: 30, Den: 1}, Depth: 8, Bitrate: 12_000_000},
		{Codec: h264.Name, Width: 3840, Height: 2160, Rate: media.Rate{Num: 30, Den: 1}, Depth: 8, Bitrate: 40_000_000},
	} {
		const frames = 48
		sources := draw(b, scene.Order{Scene: "harbour", Format: f, Noise: scene.NoiseFor(f)}, frames)
		writeFrames(b, filepath.Join(dir, "frames.yuv"), sources)
		b.Run(fmt.Sprintf("%dp%.0f %dM", f.Height, f.Rate.Hz(), f.Bitrate/1_000_000), func(b *testing.B) {
			var theirs, ours time.Duration
			var film Encoded
			parts, rounds := make([][][]byte, runtime.NumCPU()), 0
			for b.Loop() {
				var err error
				film, err = page.Encode(Film{Codec: "avc1.640033", Width: f.Width, Height: f.Height, Rate: 30, Bitrate: int(f.Bitrate),
					Frames: frames, Mode: "realtime", File: "frames.yuv"})
				require.NoError(b, err)
				theirs += time.Duration(film.Seconds * float64(time.Second))
				same := f
				same.Bitrate = int64(8 * sizeOf(film.Packets) * 30 / frames)
				start, each := time.Now(), (frames+len(parts)-1)/len(parts)
				var groups sync.WaitGroup
				for i := range parts {
					groups.Go(func() { parts[i] = encodeOurs(b, same, media.Fast, sources[i*each:min((i+1)*each, frames)]) })
				}
				groups.Wait()
				ours += time.Since(start)
				rounds++
			}
			packets := slices.Concat(parts...)
			theirPSNR, _ := compare(b, film.Packets, sources)
			ourPSNR, _ := compare(b, packets, sources)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(rounds*frames)/theirs.Seconds(), "browser-frames/s")
			b.ReportMetric(float64(rounds*frames)/ours.Seconds(), "our-frames/s")
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "ratio")
			b.ReportMetric(float64(8*sizeOf(film.Packets)*30/frames)/1e6, "browser-Mb/s")
			b.ReportMetric(float64(8*sizeOf(packets)*30/frames)/1e6, "our-Mb/s")
			b.ReportMetric(theirPSNR, "browser-dB")
			b.ReportMetric(ourPSNR, "our-dB")
		})
	}
}

func sizeOf(packets [][]byte) (bytes int) {
	for _, p := range packets {
		bytes += len(p)
	}
	return bytes
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
