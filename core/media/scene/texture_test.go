package scene

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

func stage(t *testing.T, o Order) *Stage {
	s, err := New(o)
	require.NoError(t, err)
	return s
}

// A texture goes on for ever to both sides and moves by quarters of a column.
func TestTexturesGoOn(t *testing.T) {
	s := stage(t, Order{Format: media.Format{Width: 200, Height: 100, Rate: fps25}})
	x := newTexture(s, 3, 2, func(l line, row int) {
		l.each(func(u float64) float64 { return 100*math.Sin(math.Pi*u) + float64(row) })
	})
	require.Equal(t, 200, x.period)
	for _, u := range []float64{0, 0.3, 1.99, 2, 7.37, -0.01, -3.2} {
		for row := -3; row < 6; row++ {
			got := x.at(s, row, u)
			require.GreaterOrEqual(t, len(got), s.width)
			for i := 0; i < s.width; i += 17 {
				want := 100*math.Sin(math.Pi*(u+float64(i)/100)) + float64((row+3)%3)
				require.InDelta(t, want, float64(got[i]), 2.2, "u %g, row %d, column %d", u, row, i)
			}
		}
	}
	a, b := x.at(s, 0, 0.5), x.at(s, 0, 0.5035)
	require.NotEqual(t, a[:s.width], b[:s.width], "a quarter of a column is another phase")
}

// Smooth noise is smooth, repeats, and fills its range.
func TestSmoothNoise(t *testing.T) {
	render := func(v float64) []float32 {
		l := newLine(4000, 4)
		l.smooth(100, 40, v, 5, 7)
		return l.values
	}
	row := render(1.3)
	least, most := float32(0), float32(0)
	for i, v := range row {
		least, most = min(least, v), max(most, v)
		require.InDelta(t, v, row[(i+1)%len(row)], 4, "at %d", i)
	}
	require.Less(t, least, float32(-40))
	require.Greater(t, most, float32(40))
	require.Equal(t, row, render(6.3), "rows repeat after high cells")
	require.NotEqual(t, row, render(2.3))
	before, behind := render(4.9999), render(5)
	for i, v := range before {
		require.InDelta(t, v, behind[i], 0.1, "a seam at %d", i)
	}
}

// The more bits there are for a sample, the more noise; never beyond its range.
func TestNoiseGrowsWithTheBitrate(t *testing.T) {
	last := -1.0
	for bitrate := int64(100_000); bitrate < 2_000_000_000; bitrate *= 2 {
		n := NoiseFor(media.Format{Width: 1920, Height: 1080, Rate: fps25, Bitrate: bitrate})
		require.GreaterOrEqual(t, n, last)
		require.LessOrEqual(t, n, 120.0)
		last = n
	}
	require.Equal(t, 120.0, last)
	require.Zero(t, NoiseFor(media.Format{}))
	f := media.Format{Width: 1920, Height: 1080, Rate: fps25, Bitrate: 300_000_000}
	tall := f
	tall.Chroma = picture.C422
	require.Less(t, NoiseFor(tall), NoiseFor(f), "chroma takes its share")
}

// A frame is the same whatever was drawn before, and whoever draws it; the
// smallest pictures can be drawn, too.
func TestFramesStandAlone(t *testing.T) {
	for _, name := range Names() {
		s := stage(t, Order{Scene: name, Format: media.Format{Width: 320, Height: 180, Rate: fps25, Depth: 8}, Noise: 5})
		p := picture.New(320, 180, 8, picture.C420)
		a, b := s.NewDrawer(), s.NewDrawer()
		a.Draw(p, 12)
		want := p.MD5()
		for _, frame := range []int{400, 3, 13} {
			a.Draw(p, frame)
			require.NotEqual(t, want, p.MD5())
		}
		a.Draw(p, 12)
		require.Equal(t, want, p.MD5())
		b.Draw(p, 12)
		require.Equal(t, want, p.MD5())
		for _, size := range [][2]int{{16, 16}, {32, 18}, {64, 200}, {500, 20}} {
			tiny := stage(t, Order{Scene: name, Format: media.Format{Width: size[0], Height: size[1], Rate: fps25, Depth: 8, Interlaced: size[1]%4 == 0}})
			p := picture.New(size[0], size[1], 8, picture.C420)
			for frame := range 40 {
				tiny.NewDrawer().Draw(p, 7*frame)
			}
		}
	}
}
