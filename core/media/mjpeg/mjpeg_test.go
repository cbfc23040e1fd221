package mjpeg

import (
	"context"
	"io"
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
	data, err := Encode(nil, ramp(n), 100)
	require.NoError(t, err)
	return data
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
	require.NoError(t, Carries(good))
	for _, change := range []func(*media.Format){
		func(f *media.Format) { f.Depth = 10 }, func(f *media.Format) { f.Chroma = picture.C422 },
		func(f *media.Format) { f.Interlaced = true }, func(f *media.Format) { f.Transfer = media.PQ },
	} {
		f := good
		change(&f)
		require.Error(t, Carries(f))
	}
}
