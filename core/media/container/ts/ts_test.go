package ts

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// codecs are those that the tests' streams hold.
var codecs = media.Codecs{
	{Name: "h264", IDs: media.Identifiers{TS: []byte{0x1B}}},
	{Name: "aac", Kind: media.Audio, IDs: media.Identifiers{TS: []byte{0x0F, 0x11}}},
}

// memory is a file in memory.
type memory struct{ bytes.Buffer }

func (*memory) Seek(int64, int) (int64, error) { return 0, errors.New("a stream is written in one go") }

// film writes video of 50 frames a second, of which every second is shown after
// the next one, and sound.
func film(t *testing.T, frames int) []byte {
	m := &memory{}
	w, err := create(m, []media.Track{{Kind: media.Video, Codec: "h264", Timescale: 50}, {Kind: media.Audio, Codec: "aac", Timescale: 48000}}, codecs)
	require.NoError(t, err)
	for i := range frames {
		require.NoError(t, w.WritePacket(&media.Packet{PTS: int64(i + 1 - i%2*2 + 1), DTS: int64(i), Key: i%25 == 0, Data: picture(i)}))
		require.NoError(t, w.WritePacket(&media.Packet{Track: 1, PTS: int64(i) * 960, DTS: int64(i) * 960, Key: true, Data: []byte{0xFF, 0xF1, byte(i)}}))
	}
	require.NoError(t, w.Close())
	return m.Bytes()
}

// picture is a packet of 1 to 1000 bytes.
func picture(i int) []byte {
	return append([]byte{0, 0, 0, 1}, bytes.Repeat([]byte{byte(i + 1)}, 1+i*37%1000)...)
}

func openBytes(data []byte) (media.Demuxer, error) {
	return open(bytes.NewReader(data), int64(len(data)), codecs)
}

func TestRoundTrip(t *testing.T) {
	data := film(t, 100)
	require.Zero(t, len(data)%188)
	timed := []byte{} // each packet with a time in front
	for i := 0; i < len(data); i += 188 {
		timed = append(append(timed, 0, 0, 0, byte(i)), data[i:i+188]...)
	}
	for name, data := range map[string][]byte{"188": data, "192": timed} {
		t.Run(name, func(t *testing.T) {
			require.Positive(t, packetSize(data[:media.SniffLen]))
			d, err := openBytes(data)
			require.NoError(t, err)
			require.Len(t, d.Tracks(), 2)
			require.Equal(t, "h264", d.Tracks()[0].Codec)
			require.Equal(t, media.Audio, d.Tracks()[1].Kind)
			for range 2 {
				seen := [2]int{}
				var p media.Packet
				for {
					err := d.ReadPacket(&p)
					if errors.Is(err, io.EOF) {
						break
					}
					require.NoError(t, err)
					i := seen[p.Track]
					seen[p.Track]++
					if p.Track == 0 {
						require.Equal(t, picture(i), p.Data)
						require.EqualValues(t, i*1800, p.DTS)
						require.EqualValues(t, (i+1-i%2*2+1)*1800, p.PTS)
						require.Equal(t, i%25 == 0, p.Key)
					} else {
						require.Equal(t, []byte{0xFF, 0xF1, byte(i)}, p.Data)
					}
				}
				require.Equal(t, [2]int{100, 100}, seen)
				require.NoError(t, d.Rewind())
			}
		})
	}
}

func TestClockWrapsAround(t *testing.T) {
	require.Equal(t, int64(wrap+5), unwrap(5, wrap-10))
	require.Equal(t, int64(wrap-10), unwrap(wrap-10, wrap+5))
	require.Equal(t, int64(3*wrap+7), unwrap(7, 3*wrap-1))
	require.Equal(t, int64(100), unwrap(100, 90))
}

// Packets that were lost or damaged on the way take their pictures with them,
// not the rest.
func TestDamage(t *testing.T) {
	data := film(t, 100)
	for i := len(data) / 2; i < len(data)/2+2000; i++ {
		data[i] = 0x55
	}
	d, err := openBytes(data)
	require.NoError(t, err)
	var p media.Packet
	n := 0
	for d.ReadPacket(&p) == nil {
		n++
	}
	require.Greater(t, n, 80)
}

func TestNoStream(t *testing.T) {
	for _, data := range [][]byte{nil, []byte("G"), bytes.Repeat([]byte{0x47}, 100), bytes.Repeat([]byte{0x47, 0x1F, 0xFF, 0x10}, 470)} {
		_, err := openBytes(data)
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken)
	}
	require.Zero(t, packetSize([]byte("GIF89a, but a film?")))
	_, err := openBytes(bytes.Repeat(append([]byte{0x47, 0x1F, 0xFF, 0x10}, make([]byte, 184)...), 10))
	require.EqualError(t, err, "damaged ts at byte 1880: there is no program map: the file is truncated or not a transport stream")
}

// Of a file that is damaged throughout nothing comes, and it is said how far it was read.
func TestMostlyBroken(t *testing.T) {
	data := film(t, 30)
	junk := append([]byte{0x55}, make([]byte, 187)...)
	d, err := openBytes(append(data, bytes.Repeat(junk, 12000)...))
	require.NoError(t, err)
	var p media.Packet
	for err == nil {
		err = d.ReadPacket(&p)
	}
	if !errors.Is(err, io.EOF) {
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken)
		require.Greater(t, broken.Offset, int64(len(data)))
	}
}

// The track's packets are those of the program; what else is in the stream is passed over.
func TestOtherStreamsArePassedOver(t *testing.T) {
	data := film(t, 30)
	null := append([]byte{0x47, 0x1F, 0xFF, 0x10}, bytes.Repeat([]byte{0xFF}, 184)...)
	mixed := []byte{}
	for i := 0; i < len(data); i += 188 {
		mixed = append(append(mixed, data[i:i+188]...), null...)
	}
	count := func(data []byte) (n int) {
		d, err := openBytes(data)
		require.NoError(t, err)
		var p media.Packet
		for d.ReadPacket(&p) == nil {
			n++
		}
		return n
	}
	require.Equal(t, 60, count(data))
	require.Equal(t, 60, count(mixed))
}
