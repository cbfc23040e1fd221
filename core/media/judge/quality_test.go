package judge

import (
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/h264"
	"vividstrain/core/media/picture"
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
			for _, effort := range []h264.Effort{h264.Fast, h264.Good} {
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

// encodeOurs gives our encoder's packets as a byte stream.
func encodeOurs(t testing.TB, f media.Format, effort h264.Effort, sources []*picture.Picture) (packets [][]byte) {
	set := h264.Settings{Format: f, KeyEvery: 50, Effort: effort}
	if effort == h264.Good {
		set.BFrames = 1
	}
	var convert func(dst []byte, p *media.Packet) []byte
	e, err := h264.NewEncoder(set, func(p *media.Packet) error {
		packets = append(packets, convert(nil, p))
		return nil
	})
	require.NoError(t, err)
	track, err := e.Track()
	require.NoError(t, err)
	convert, err = h264.ByteStream(track)
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
		p, s := distance(&f.Planes[0], &sources[n].Planes[0], f.Width, f.Height)
		psnr += p
		ssim += s
		f.Release()
	}
	require.Equal(t, len(sources), n)
	return psnr / float64(n), ssim / float64(n)
}

// distance is PSNR in dB, and SSIM over windows of 8x8 samples (Z. Wang et al.,
// Image Quality Assessment: From Error Visibility to Structural Similarity, 2004).
func distance(a, b *picture.Plane, w, h int) (psnr, ssim float64) {
	const c1, c2 = 0.01 * 255 * 0.01 * 255, 0.03 * 255 * 0.03 * 255
	squares, windows := 0.0, 0
	for y := 0; y+8 <= h; y += 8 {
		for x := 0; x+8 <= w; x += 8 {
			var sa, sb, saa, sbb, sab float64
			for j := range 8 {
				p, q := a.Pix[(y+j)*a.Stride+x:][:8], b.Pix[(y+j)*b.Stride+x:][:8]
				for i := range p {
					u, v := float64(p[i]), float64(q[i])
					sa, sb, saa, sbb, sab = sa+u, sb+v, saa+u*u, sbb+v*v, sab+u*v
				}
			}
			squares += saa + sbb - 2*sab
			ma, mb := sa/64, sb/64
			va, vb, cov := saa/64-ma*ma, sbb/64-mb*mb, sab/64-ma*mb
			ssim += (2*ma*mb + c1) * (2*cov + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
			windows++
		}
	}
	return 10 * math.Log10(255*255/max(squares/float64(64*windows), 1e-9)), ssim / float64(windows)
}
