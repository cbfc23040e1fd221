package screen

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/picture"
)

// flat is a picture of one colour.
func flat(width, height int, y, cb, cr byte) *picture.Picture {
	p := picture.New(width, height, 8, picture.C420)
	for i, v := range [3]byte{y, cb, cr} {
		for k := range p.Planes[i].Pix {
			p.Planes[i].Pix[k] = v
		}
	}
	return p
}

func TestColoursAreConverted(t *testing.T) {
	for _, c := range []struct{ y, cb, cr, blue, green, red byte }{
		{16, 128, 128, 0, 0, 0}, {235, 128, 128, 255, 255, 255}, {126, 128, 128, 128, 128, 128}, {0, 128, 128, 0, 0, 0}, {255, 128, 128, 255, 255, 255},
		{81, 90, 240, 0, 0, 255}, {41, 240, 110, 255, 0, 0}, // red and blue of BT.601
	} {
		var p painter
		pix := make([]byte, 4*64*32)
		p.paint(pix, 64, 32, flat(64, 32, c.y, c.cb, c.cr))
		for i, want := range [3]byte{c.blue, c.green, c.red} {
			require.InDelta(t, want, pix[4*100+i], 2, "%+v", c)
		}
	}
}

func TestPicturesFit(t *testing.T) {
	var p painter
	pix := make([]byte, 4*100*100)
	for i := range pix {
		pix[i] = 99
	}
	p.paint(pix, 100, 100, flat(64, 32, 235, 128, 128))
	at := func(x, y int) byte { return pix[4*(100*y+x)] }
	require.Equal(t, []byte{0, 0, 255, 255}, []byte{at(50, 10), at(50, 90), at(50, 50), at(1, 50)})
	p = painter{native: true}
	p.paint(pix, 100, 100, flat(64, 32, 235, 128, 128))
	require.Equal(t, []byte{255, 0, 0}, []byte{at(50, 50), at(10, 50), at(50, 30)})
	p.paint(pix, 100, 100, flat(200, 100, 235, 128, 128)) // too large: it is scaled all the same
	require.Equal(t, byte(255), at(1, 50))
}

// The fast way gives the same colours.
func TestFastPainting(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 200 {
		n := 2 + 2*r.IntN(60)
		luma, cb, cr := make([]byte, n), make([]byte, n/2), make([]byte, n/2)
		for _, list := range [][]byte{luma, cb, cr} {
			for i := range list {
				list[i] = byte(r.IntN(256))
			}
		}
		for k := range matrices {
			plain, fast := make([]byte, 4*n), make([]byte, 4*n)
			paintRow(plain, luma, cb, cr, &matrices[k])
			done := paintFast(fast, luma, cb, cr, &matrices[k])
			require.Equal(t, plain[:4*done], fast[:4*done])
			require.Equal(t, make([]byte, 4*(n-done)), fast[4*done:])
		}
	}
}

func BenchmarkPaint(b *testing.B) {
	var p painter
	pix, picture := make([]byte, 4*1920*1080), flat(1920, 1080, 100, 90, 200)
	for b.Loop() {
		p.paint(pix, 1920, 1080, picture)
	}
}
