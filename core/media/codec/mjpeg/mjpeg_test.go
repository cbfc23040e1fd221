package mjpeg

import (
	"context"
	"io"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// ramp is a small picture whose brightness is its number.
func ramp(n int) *picture.Picture {
	p := picture.New(64, 48, 8, picture.C420)
	for i := range p.Planes {
		for j := range p.Planes[i].Pix {
			p.Planes[i].Pix[j] = byte(n)
		}
	}
	return p
}

func encoded(t *testing.T, n int) []byte {
	return new(Encoder).Encode(nil, ramp(n), 100)
}

func TestDecodesInOrderOnAnyNumberOfThreads(t *testing.T) {
	for _, threads := range []int{1, 2, 5} {
		d, err := NewDecoder(media.Track{}, threads)
		require.NoError(t, err)
		go func() {
			for n := range 40 {
				p := media.Packet{Data: encoded(t, n*5), PTS: int64(n)}
				_ = d.Send(context.Background(), &p)
			}
			d.Drain()
		}()
		for n := range 40 {
			f, err := d.Receive(t.Context())
			require.NoError(t, err)
			require.EqualValues(t, n, f.PTS)
			require.InDelta(t, n*5, f.Planes[0].Pix[0], 1)
			f.Release()
		}
		_, err = d.Receive(t.Context())
		require.ErrorIs(t, err, io.EOF)
		d.Close()
	}
}

func TestDamagedPicturesAreErrors(t *testing.T) {
	good := encoded(t, 100)
	for name, data := range map[string][]byte{
		"empty": {}, "garbage": []byte("no picture"), "cut": good[:len(good)/2],
	} {
		d, err := NewDecoder(media.Track{}, 1)
		require.NoError(t, err)
		require.NoError(t, d.Send(t.Context(), &media.Packet{Data: data}))
		_, err = d.Receive(t.Context())
		var damaged *media.FormatError
		require.ErrorAs(t, err, &damaged, name)
		d.Close()
	}
}

func TestOtherSizeThanTheTrackIsRefused(t *testing.T) {
	d, err := NewDecoder(media.Track{Format: media.Format{Width: 32, Height: 32}}, 1)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Send(t.Context(), &media.Packet{Data: encoded(t, 1)}))
	_, err = d.Receive(t.Context())
	require.ErrorContains(t, err, "another size")
}

func TestSendEndsWithItsContext(t *testing.T) {
	d, err := NewDecoder(media.Track{}, 1)
	require.NoError(t, err)
	defer d.Close()
	ctx, cancel := context.WithCancel(t.Context())
	for range 2 { // as many as are in flight at once
		require.NoError(t, d.Send(ctx, &media.Packet{Data: encoded(t, 1)}))
	}
	cancel()
	require.ErrorIs(t, d.Send(ctx, &media.Packet{Data: encoded(t, 1)}), context.Canceled)
}

func TestCarries(t *testing.T) {
	good := media.Format{Width: 64, Height: 48, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Transfer: media.SDR}
	require.NoError(t, CheckFormat(good))
	for _, change := range []func(*media.Format){
		func(f *media.Format) { f.Depth = 10 }, func(f *media.Format) { f.Chroma = picture.C422 },
		func(f *media.Format) { f.Interlaced = true }, func(f *media.Format) { f.Transfer = media.PQ },
	} {
		f := good
		change(&f)
		require.Error(t, CheckFormat(f))
	}
}

// The encoder is judged by image/jpeg's decoder: at the highest quality the
// picture comes back nearly as it was, and less quality costs fewer bits.
func TestEncodedPictureComesBack(t *testing.T) {
	for _, size := range [][2]int{{64, 48}, {50, 34}, {426, 240}, {16, 16}} {
		p := picture.New(size[0], size[1], 8, picture.C420)
		random := rand.New(rand.NewPCG(1, 2))
		for i := range p.Planes {
			for j := range p.Planes[i].Pix {
				p.Planes[i].Pix[j] = byte(128 + 100*math.Sin(float64(j)/9) + 20*random.NormFloat64()/9)
			}
		}
		var e Encoder
		bytes, worst := math.MaxInt, 0
		for _, quality := range []int{100, 90, 50, 10, 1} {
			data := e.Encode(nil, p, quality)
			require.Less(t, len(data), bytes, "quality %d", quality)
			bytes = len(data)
			back := decoded(t, data)
			require.Equal(t, [2]int{p.Width, p.Height}, [2]int{back.Width, back.Height})
			mistake := largestDifference(p, back)
			require.GreaterOrEqual(t, mistake+2, worst)
			worst = mistake
			if quality == 100 {
				require.LessOrEqual(t, mistake, 3)
			}
		}
	}
}

func TestEncoderTakesExtremePictures(t *testing.T) {
	p := picture.New(64, 48, 8, picture.C420)
	for i := range p.Planes {
		for j := range p.Planes[i].Pix {
			p.Planes[i].Pix[j] = byte(255 * ((j ^ j/p.Planes[i].Stride) & 1)) // a chess board
		}
	}
	require.LessOrEqual(t, largestDifference(p, decoded(t, new(Encoder).Encode(nil, p, 100))), 3)
}

func decoded(t *testing.T, data []byte) *picture.Picture {
	d, err := NewDecoder(media.Track{}, 1)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Send(t.Context(), &media.Packet{Data: data}))
	f, err := d.Receive(t.Context())
	require.NoError(t, err)
	return f.Picture
}

func largestDifference(a, b *picture.Picture) (worst int) {
	for i := range a.Planes {
		w, h := a.Chroma.PlaneSize(i, a.Width, a.Height)
		for y := range h {
			for x := range w {
				d := int(a.Planes[i].Pix[y*a.Planes[i].Stride+x]) - int(b.Planes[i].Pix[y*b.Planes[i].Stride+x])
				worst = max(worst, d, -d)
			}
		}
	}
	return worst
}

func BenchmarkEncode1080p(b *testing.B) {
	p := picture.New(1920, 1080, 8, picture.C420)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range p.Planes {
		for j := range p.Planes[i].Pix {
			p.Planes[i].Pix[j] = byte(128 + 100*math.Sin(float64(j)/200) + random.NormFloat64()*4)
		}
	}
	var e Encoder
	var data []byte
	b.ReportAllocs()
	for b.Loop() {
		data = e.Encode(data[:0], p, 75)
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
}
