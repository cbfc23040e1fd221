package y4m

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/raw"
	"vividstrain/core/media/picture"
)

func openText(text string) (media.Demuxer, error) {
	return open(bytes.NewReader([]byte(text)), int64(len(text)))
}

func TestPicturesComeOutAsTheyAre(t *testing.T) {
	const first, second = "abcdefgh12XY", "hgfedcba34ZW" // 4x2 and two of 2x1
	for header, want := range map[string]media.Format{
		"W4 H2 F30000:1001 Ip C420jpeg XNOTE": {Codec: "raw", Width: 4, Height: 2, Rate: media.Rate{Num: 30000, Den: 1001}, Depth: 8, Transfer: media.SDR},
		"W2 H1 F25:1 It C422p10":              {Codec: "raw", Width: 2, Height: 1, Rate: media.Rate{Num: 25, Den: 1}, Depth: 10, Chroma: picture.C422, Interlaced: true, Transfer: media.SDR},
	} {
		d, err := openText(magic + header + "\nFRAME\n" + first[:want.FrameSize()] + "FRAME Ixyz\n" + second[:want.FrameSize()])
		require.NoError(t, err)
		track := d.Tracks()[0]
		require.Equal(t, want, track.Format)
		decoder, err := raw.Codec.NewDecoder(track, 1)
		require.NoError(t, err)
		var p media.Packet
		for i, text := range []string{first, second} {
			require.NoError(t, d.ReadPacket(&p))
			require.EqualValues(t, i*want.Rate.Den, p.PTS)
			require.NoError(t, decoder.Send(t.Context(), &p))
			f, err := decoder.Receive(t.Context())
			require.NoError(t, err)
			var got []byte
			for plane := range f.Planes {
				_, h := want.Chroma.PlaneSize(plane, want.Width, want.Height)
				for y := range h {
					got = f.AppendRow(got, plane, y)
				}
			}
			require.Equal(t, text[:want.FrameSize()], string(got))
			f.Release()
		}
		require.ErrorIs(t, d.ReadPacket(&p), io.EOF)
		decoder.Drain()
		_, err = decoder.Receive(t.Context())
		require.ErrorIs(t, err, io.EOF)
		decoder.Close()
	}
}

func TestBadHeaders(t *testing.T) {
	for _, text := range []string{"", "\n", magic, magic + "W4", magic + "W0 H2\n", magic + "W99999 H99999\n", magic + "W4 Hx\n",
		magic + "W4 H2 F0:1\n", magic + "W4 H2 F9999999999:1\n", magic + "W4 H2\nPICTURE\n", magic + "W4 H2\nFRAME\nabc"} {
		d, err := openText(text)
		var p media.Packet
		for err == nil {
			err = d.ReadPacket(&p)
		}
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken, "%q", text)
	}
	_, err := openText(magic + "W4 H2 C410\n")
	var refused *media.UnsupportedError
	require.True(t, errors.As(err, &refused))
}
