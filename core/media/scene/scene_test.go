package scene

import (
	"bytes"
	"image"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

var fps25 = media.Rate{Num: 25, Den: 1}

func drawn(w, h int, rate media.Rate, frame int) *picture.Picture {
	return drawnOf("harbour", w, h, rate, frame)
}

func drawnOf(name string, w, h int, rate media.Rate, frame int) *picture.Picture {
	s, err := New(Order{Scene: name, Format: media.Format{Width: w, Height: h, Rate: rate, Depth: 8}})
	if err != nil {
		panic(err)
	}
	p := picture.New(w, h, 8, picture.C420)
	s.NewDrawer().Draw(p, frame)
	return p
}

func asImage(p *picture.Picture) *image.YCbCr {
	return &image.YCbCr{Y: p.Planes[0].Pix, Cb: p.Planes[1].Pix, Cr: p.Planes[2].Pix,
		YStride: p.Planes[0].Stride, CStride: p.Planes[1].Stride, Rect: image.Rect(0, 0, p.Width, p.Height),
		SubsampleRatio: image.YCbCrSubsampleRatio420}
}

func TestStripsSurviveTheWorstCompression(t *testing.T) {
	for _, size := range [][2]int{{64, 36}, {284, 160}, {426, 240}, {1920, 1080}} {
		for _, frame := range []int{0, 1, 255, 4096, 123456, frameMask} {
			p := drawn(size[0], size[1], fps25, frame)
			n, ok := ReadNumber(p)
			require.True(t, ok, "%v", size)
			require.Equal(t, frame, n)
			if size[0] < 284 {
				continue // cells narrower than a block
			}
			var b bytes.Buffer
			require.NoError(t, jpeg.Encode(&b, asImage(p), &jpeg.Options{Quality: 1}))
			m, err := jpeg.Decode(&b)
			require.NoError(t, err)
			y := m.(*image.YCbCr)
			p.Planes[0] = picture.Plane{Pix: y.Y, Stride: y.YStride}
			n, ok = ReadNumber(p)
			require.True(t, ok, "%v frame %d", size, frame)
			require.Equal(t, frame, n)
		}
	}
}

func TestDamagedStripIsNotRead(t *testing.T) {
	p := drawn(426, 240, fps25, 77)
	for y := range 240 {
		for x := 100; x < 140; x++ {
			p.Planes[0].Pix[y*p.Planes[0].Stride+x] = byte(x * 97)
		}
	}
	n, ok := ReadNumber(p)
	require.False(t, ok && n != 77)
	_, ok = ReadNumber(picture.New(16, 16, 8, picture.C420))
	require.False(t, ok)
}

// Shrunk to the same small size, the pictures of all sizes look alike; the next
// second does not.
func TestSameContentAtEverySize(t *testing.T) {
	small := func(p *picture.Picture) []float64 {
		const w, h = 32, 18
		out := make([]float64, w*h)
		for i := range out {
			x0, y0, n := i%w*p.Width/w, i/w*p.Height/h, 0
			for y := y0; y < y0+p.Height/h; y++ {
				for x := x0; x < x0+p.Width/w; x++ {
					out[i] += float64(p.Planes[0].Pix[y*p.Planes[0].Stride+x])
					n++
				}
			}
			out[i] /= float64(n)
		}
		return out
	}
	distance := func(a, b []float64) (sum float64) {
		for i := range a {
			sum += math.Abs(a[i]-b[i]) / float64(len(a))
		}
		return sum
	}
	reference := small(drawn(1280, 720, fps25, 50))
	require.Less(t, distance(reference, small(drawn(640, 360, fps25, 50))), 3.0)
	require.Less(t, distance(reference, small(drawn(3840, 2160, fps25, 50))), 3.0)
	// Only the frame number and its strips differ at another rate.
	require.Less(t, distance(reference, small(drawn(1280, 720, media.Rate{Num: 50, Den: 1}, 100))), 9.0)
	require.Greater(t, distance(reference, small(drawn(1280, 720, fps25, 65))), 9.0)
}

func TestEachFrameIsNew(t *testing.T) {
	seen := map[string]int{}
	for frame := range 60 {
		sum := drawn(320, 180, fps25, frame).MD5()
		require.NotContains(t, seen, sum)
		seen[sum] = frame
	}
	require.Equal(t, drawn(320, 180, fps25, 7).MD5(), drawn(320, 180, fps25, 7).MD5())
}

func BenchmarkDraw(b *testing.B) {
	for _, name := range Names() {
		for _, size := range [][2]int{{1920, 1080}, {3840, 2160}} {
			f := media.Format{Width: size[0], Height: size[1], Rate: fps25, Depth: 8}
			b.Run(name+" "+f.Size(), func(b *testing.B) {
				s, err := New(Order{Scene: name, Format: f, Noise: 3})
				require.NoError(b, err)
				d, p := s.NewDrawer(), picture.New(size[0], size[1], 8, picture.C420)
				b.ReportAllocs()
				for i := 0; b.Loop(); i++ {
					d.Draw(p, i)
				}
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
			})
		}
	}
}

// TestMain lets a developer look at frames: SCENE_PNG=/tmp/ go test.
func TestMain(m *testing.M) {
	if dir := os.Getenv("SCENE_PNG"); dir != "" {
		for _, name := range Names() {
			f, err := os.Create(dir + name + ".png")
			if err == nil {
				err = png.Encode(f, asImage(drawnOf(name, 1280, 720, fps25, 33)))
			}
			if err != nil {
				panic(err)
			}
		}
	}
	os.Exit(m.Run())
}

func BenchmarkStage(b *testing.B) {
	for b.Loop() {
		_, err := New(Order{Format: media.Format{Width: 3840, Height: 2160, Rate: fps25, Depth: 8}})
		require.NoError(b, err)
	}
}
