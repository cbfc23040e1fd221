package mkv

import (
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// What a file says of its colours and light comes back as it was, in the order that each
// side has: the file lists red, green, blue, the record green, blue, red.
func TestColourAndLight(t *testing.T) {
	want := media.Track{Kind: media.Video, Codec: "vp9", Timescale: 1000, Format: media.Format{Width: 64, Height: 64, Rate: media.Rate{Num: 24000, Den: 1001}},
		Colour: media.Colour{Primaries: 9, Transfer: 16, Matrix: 9},
		HDR: &media.HDR{Primaries: [3][2]uint16{{13250, 34500}, {7500, 3000}, {34000, 16000}}, White: [2]uint16{15635, 16450},
			MaxLuminance: 10_000_000, MinLuminance: 50, MaxCLL: 1000, MaxFALL: 400}}
	m := &memory{}
	w, err := create(m, []media.Track{want}, codecs)
	require.NoError(t, err)
	require.NoError(t, w.WritePacket(&media.Packet{Data: []byte{1}, Duration: 42, Key: true}))
	require.NoError(t, w.Close())
	d, err := openBytes(m.data)
	require.NoError(t, err)
	got := d.Tracks()[0]
	require.Equal(t, want.Colour, got.Colour)
	require.Equal(t, want.HDR, got.HDR)
	require.Equal(t, want.Format.Rate, got.Format.Rate)
}

// Numbers beyond their range are held at its ends.
func TestMasteringOutOfRange(t *testing.T) {
	for i, v := range map[int]float64{0: 7, 3: -1, 6: 2, 8: 1e12, 9: -3} {
		var h media.HDR
		require.NotPanics(t, func() { setMastering(&h, i, v) })
	}
	var h media.HDR
	setMastering(&h, 0, 7)
	require.EqualValues(t, 65535, h.Primaries[2][0])
	setMastering(&h, 8, 1e12)
	require.EqualValues(t, uint32(1<<32-1), h.MaxLuminance)
	setMastering(&h, 9, -3)
	require.Zero(t, h.MinLuminance)
}

// A compressed track is refused by name; one that is stripped of nothing is read.
func TestEncodings(t *testing.T) {
	track := func(algo uint64) []byte {
		return sound(algo, nil, func(b *builder) {
			b.uint(idTimestamp, 0)
			b.bytes(idSimpleBlock, []byte{0x81, 0, 0, 0x80, 'x'})
			b.bytes(idSimpleBlock, []byte{0x85, 0, 0, 0x80, 'y'}) // of a track that is not described
		})
	}
	_, err := openBytes(track(0))
	var refused *media.UnsupportedError
	require.ErrorAs(t, err, &refused)
	d, err := openBytes(track(3))
	require.NoError(t, err)
	var p media.Packet
	require.NoError(t, d.ReadPacket(&p))
	require.Equal(t, "x", string(p.Data))
	require.True(t, errors.Is(d.ReadPacket(&p), io.EOF))
}
