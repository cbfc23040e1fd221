package raw

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

func track(depth int, chroma picture.Chroma) media.Track {
	return media.Track{Codec: media.Raw, Format: media.Format{Codec: media.Raw, Width: 6, Height: 4, Depth: depth, Chroma: chroma}}
}

// Samples come out as they went in, of 8 bits and of 10 with the low byte first.
func TestSamplesAreKept(t *testing.T) {
	for _, c := range []struct {
		depth  int
		chroma picture.Chroma
		size   int
	}{{8, picture.C420, 6*4 + 2*3*2}, {8, picture.C444, 3 * 6 * 4}, {10, picture.C422, 2 * (6*4 + 2*3*4)}, {8, picture.C400, 6 * 4}} {
		tr := track(c.depth, c.chroma)
		require.EqualValues(t, c.size, tr.Format.FrameSize())
		data := make([]byte, c.size)
		for i := range data {
			data[i] = byte(i) & 3 // so that samples of two bytes are no more than 10 bits
		}
		d, err := Codec.NewDecoder(tr, 1)
		require.NoError(t, err)
		require.NoError(t, d.Send(t.Context(), &media.Packet{Data: data, PTS: 7}))
		f, err := d.Receive(t.Context())
		require.NoError(t, err)
		require.EqualValues(t, 7, f.PTS)
		if c.depth == 8 {
			require.Equal(t, data[5], f.Planes[0].Pix[5])
		} else {
			require.Equal(t, uint16(data[10])|uint16(data[11])<<8, f.Planes[0].Wide[5])
		}
		f.Release()
		d.Drain()
		_, err = d.Receive(t.Context())
		require.ErrorIs(t, err, io.EOF)
		d.Close()
	}
}

func TestWhatIsNotShownAndWhatDoesNotFit(t *testing.T) {
	d, err := Codec.NewDecoder(track(8, picture.C420), 1)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Send(t.Context(), &media.Packet{Hidden: true}))
	err = d.Send(t.Context(), &media.Packet{Data: make([]byte, 35), Offset: 99})
	require.EqualError(t, err, "damaged raw at byte 99: a picture of another size than the track's")
	ctx, cancel := context.WithCancel(t.Context())
	require.NoError(t, d.Send(ctx, &media.Packet{Data: make([]byte, 36)}))
	cancel()
	require.ErrorIs(t, d.Send(ctx, &media.Packet{Data: make([]byte, 36)}), context.Canceled, "nobody takes the picture before")
}
