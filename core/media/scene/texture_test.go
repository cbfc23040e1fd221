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

// A row is kept as whole numbers within bounds, each phase apart, and goes on as it
// began, however its length and the picture's fit into vectors.
func TestRowsAreKept(t *testing.T) {
	for _, size := range [][2]int{{1, 3}, {7, 7}, {8, 40}, {61, 20}, {64, 64}} {
		period, width := size[0], size[1]
		x := &texture{period: period}
		for p := range x.rows {
			x.rows[p] = make([][]int8, 1)
		}
		values := make([]float32, phases*period)
		for i := range values {
			values[i] = float32(400*unit(uint32(i)) - 200)
		}
		x.keep(0, values, width)
		for p, rows := range x.rows {
			require.Len(t, rows[0], period+width)
			for i, got := range rows[0] {
				v := values[phases*(i%period)+p]
				require.EqualValues(t, max(-127, min(math.Trunc(float64(v)), 127)), got, "%v: phase %d, column %d of %v", size, p, i, v)
			}
		}
	}
}

// Smooth noise follows its formula at every sample, also where cells are narrower than
// samples.
func TestSmoothNoiseFollowsItsFormula(t *testing.T) {
	for _, c := range []struct{ samples, wide int }{{100, 7}, {64, 64}, {30, 45}, {9, 1}} {
		l := newLine(c.samples, 4)
		l.smooth(50, c.wide, 0, 3, 99) // on a row of the lattice
		point := func(i int) float64 { return 50 * (2*unit(99+uint32(i%c.wide)*7919) - 1) }
		for i, got := range l.values {
			u := float64(i) * float64(c.wide) / float64(c.samples)
			a := u - math.Floor(u)
			a = a * a * (3 - 2*a)
			want := (1-a)*point(int(u)) + a*point(int(u)+1)
			require.InDelta(t, want, got, 0.01, "%+v at %d", c, i)
		}
	}
}

// brightness is that of the street at u and at the height up, as its plan has it.
func brightness(u, up float64, seed uint32) float32 {
	number := math.Floor(u / 0.11)
	inside := u/0.11 - number
	n := hash(uint32(number) + seed)
	roof := 0.06 + 0.22*float64(n&255)/255
	if up > roof {
		if n>>8&3 == 0 && inside > 0.48 && inside < 0.52 && up < roof+0.04 {
			return 90
		}
		return noHouse
	}
	storey, column := up*70, inside*8
	if column-math.Floor(column) > 0.45 && inside > 0.06 && inside < 0.94 && storey-math.Floor(storey) > 0.4 &&
		hash(n+uint32(column)*37+uint32(storey)*4099)&3 == 0 {
		return 120
	}
	return -100 + 12*float32(n>>10&3)
}

func TestStreetFollowsItsPlan(t *testing.T) {
	const span = 4.4
	for _, height := range []int{120, 433} {
		s := &Stage{height: height}
		street := newStreet(s, span, 5)
		seen := map[float32]int{}
		for row := range int(townHeight * float64(height)) {
			up := (float64(row) + 0.5) / float64(height)
			l := newLine(len(street.kinds), span)
			street.draw(l, up)
			for i, got := range l.values {
				want := brightness(float64(i)/float64(len(l.values))*span, up, 5)
				require.Equal(t, want, got, "height %d, row %d, place %d", height, row, i)
				seen[got]++
			}
		}
		require.Contains(t, seen, float32(90), "a mast")
		require.Contains(t, seen, float32(120), "a window")
		require.Contains(t, seen, float32(noHouse), "the sky")
	}
}

func TestRowsAreFilled(t *testing.T) {
	for n := range 40 {
		row := make([]uint16, n+1)
		repeat(row[:n], 777)
		for i, v := range row {
			require.EqualValues(t, map[bool]int{true: 777, false: 0}[i < n], v)
		}
	}
}
