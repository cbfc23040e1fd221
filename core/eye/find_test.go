package eye

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/scene"
)

// drawn returns a screen of a size with frame number n of a film on it, scaled to width x height at x, y.
// All else is noise of a brightness.
func drawn(t *testing.T, n, screenWidth, screenHeight, x, y, width, height, around int) *Image {
	format := media.Format{Codec: "h264", Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: 1e6}
	stage, err := scene.New(scene.Order{Format: format, Clip: 4321})
	require.NoError(t, err)
	p, scaled := picture.New(640, 360, 8, picture.C420), picture.New(width, height, 8, picture.C420)
	stage.NewDrawer().Draw(p, n)
	picture.NewScaler(picture.Shape{Width: 640, Height: 360, Depth: 8, Chroma: picture.C420}, picture.Shape{Width: width, Height: height, Depth: 8, Chroma: picture.C420}, picture.AllRows).Scale(scaled, p)
	m := &Image{make([]byte, 4*screenWidth*screenHeight), screenWidth, screenHeight, 4 * screenWidth, 4, 1}
	r := rand.New(rand.NewPCG(uint64(n), 2))
	for j := range screenHeight {
		for i := range screenWidth {
			v := byte(r.IntN(around + 1))
			if i >= x && j >= y && i < x+width && j < y+height {
				v = scaled.Planes[0].Pix[(j-y)*scaled.Planes[0].Stride+i-x]
			}
			m.Pix[j*m.Stride+4*i+1] = v
		}
	}
	return m
}

func TestMarksAreFound(t *testing.T) {
	for i, c := range [][6]int{{1280, 720, 0, 0, 1280, 720}, {1280, 800, 0, 40, 1280, 720}, {800, 600, 120, 80, 480, 270}, {1920, 1080, 600, 300, 640, 360}, {400, 300, 30, 20, 236, 132}} {
		n := 1000*i + 77
		m := drawn(t, n, c[0], c[1], c[2], c[3], c[4], c[5], 90)
		p, mark, ok := Find(m)
		require.True(t, ok, "%v", c)
		require.Equal(t, scene.Mark{Frame: n, Clip: 4321}, mark)
		require.InDelta(t, c[2], p.X, 2)
		require.InDelta(t, c[4], p.Width, 4)
		again, ok := readRow(m, p.Strip, p.X, p.Y+p.Height, p.Width) // the lower one
		require.True(t, ok)
		require.Equal(t, mark, again)
	}
}

func TestNoMarks(t *testing.T) {
	m := drawn(t, 1, 640, 360, 0, 0, 2, 2, 255)
	_, _, ok := Find(m)
	require.False(t, ok, "noise")
	for y := range m.Height { // a dark window with light edges is no frame 0
		for x := range m.Width {
			m.Pix[y*m.Stride+4*x+1] = 20
			if x < 20 || x >= m.Width-20 {
				m.Pix[y*m.Stride+4*x+1] = 240
			}
		}
	}
	_, _, ok = Find(m)
	require.False(t, ok, "edges")
}

func FuzzFind(f *testing.F) {
	f.Add([]byte{255, 0, 255, 0, 128}, 100)
	f.Fuzz(func(t *testing.T, data []byte, width int) {
		if width < 1 || width > 512 || len(data) == 0 {
			return
		}
		m := &Image{make([]byte, 4*width*64), width, 64, 4 * width, 4, 1}
		for i := range width * 64 {
			m.Pix[4*i+1] = data[i%len(data)]
		}
		if p, _, ok := Find(m); ok && (p.X < 0 || p.X+p.Width > width || p.Y+p.Height >= 64) {
			t.Fatalf("%+v", p)
		}
		FindAnywhere(m)
	})
}
