package mp4

import (
	"bytes"
	"encoding/binary"
	"io"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// codecs are those that the tests' files hold.
var codecs = media.Codecs{
	{Name: "mjpeg", IDs: media.Identifiers{MP4: []string{"jpeg"}, MP4Object: []byte{0x6C}}},
	{Name: "h264", IDs: media.Identifiers{MP4: []string{"avc1"}, MP4Config: "avcC"}},
	{Name: "hevc", IDs: media.Identifiers{MP4: []string{"hvc1", "hev1"}, MP4Config: "hvcC"}},
	{Name: "aac", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"mp4a"}, MP4Object: []byte{0x40}}},
	{Name: "opus", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"Opus"}, MP4Config: "dOps"}},
	{Name: "mp3", Kind: media.Audio, IDs: media.Identifiers{MP4Object: []byte{0x6B}}},
}

// memory is a file in memory.
type memory struct {
	data []byte
	at   int64
}

func (m *memory) Write(p []byte) (int, error) {
	m.data = slices.Concat(m.data[:min(m.at, int64(len(m.data)))], p, m.data[min(m.at+int64(len(p)), int64(len(m.data))):])
	m.at += int64(len(p))
	return len(p), nil
}

func (m *memory) Seek(offset int64, whence int) (int64, error) {
	m.at = offset
	return offset, nil
}

// film writes n packets whose bytes follow from their number.
func film(t testing.TB, n, announced int) []byte {
	m := &memory{}
	w, err := create(m, []media.Track{{Codec: "mjpeg", Timescale: 30000, Format: media.Format{Width: 640, Height: 360, Bitrate: 5e6}}}, announced, codecs)
	require.NoError(t, err)
	for i := range n {
		require.NoError(t, w.WritePacket(&media.Packet{
			Data: bytes.Repeat([]byte{byte(i)}, 100+i), PTS: int64(i) * 1001, Duration: 1001, Key: i%10 == 0,
		}))
	}
	require.NoError(t, w.Close())
	return m.data
}

func openBytes(data []byte) (media.Demuxer, error) {
	return open(bytes.NewReader(data), int64(len(data)), codecs)
}

func TestRoundTrip(t *testing.T) {
	for name, announced := range map[string]int{"announced": 2500, "more than announced": 0} {
		t.Run(name, func(t *testing.T) {
			data := film(t, 2500, announced)
			require.True(t, match(data))
			d, err := openBytes(data)
			require.NoError(t, err)
			require.Len(t, d.Tracks(), 1)
			track := d.Tracks()[0]
			require.Equal(t, "mjpeg", track.Codec)
			require.Equal(t, media.Video, track.Kind)
			require.Equal(t, 640, track.Format.Width)
			require.Equal(t, 360, track.Format.Height)
			require.EqualValues(t, 30000, track.Timescale)
			require.Equal(t, 2500, track.Packets)
			require.InDelta(t, 2500*1001/30000., track.Duration.Seconds(), 1e-6)
			for range 2 {
				var p media.Packet
				for i := range 2500 {
					require.NoError(t, d.ReadPacket(&p))
					require.Equal(t, bytes.Repeat([]byte{byte(i)}, 100+i), p.Data)
					require.EqualValues(t, i*1001, p.PTS)
					require.EqualValues(t, 1001, p.Duration)
					require.Equal(t, i%10 == 0, p.Key)
				}
				require.ErrorIs(t, d.ReadPacket(&p), io.EOF)
				require.NoError(t, d.Rewind())
			}
		})
	}
}

// The movie box is in front of the samples, so that playing can begin
// before the end of the file has arrived.
func TestMovieBoxComesFirst(t *testing.T) {
	data := film(t, 10, 10)
	require.Less(t, bytes.Index(data, []byte("moov")), bytes.Index(data, []byte("mdat")))
}

func TestTruncatedAnywhereIsAnErrorOrAnEarlyEnd(t *testing.T) {
	data := film(t, 40, 40)
	for cut := 0; cut < len(data); cut += 7 {
		d, err := openBytes(data[:cut])
		if err != nil {
			continue
		}
		var p media.Packet
		packets := 0
		for err == nil {
			if err = d.ReadPacket(&p); err == nil {
				packets++
			}
		}
		require.Less(t, packets, 40, "cut at %d", cut)
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken, "cut at %d", cut)
	}
}

func TestHostileSizes(t *testing.T) {
	data := film(t, 40, 40)
	at := func(kind string) int { return bytes.Index(data, []byte(kind)) - 4 }
	for name, change := range map[string]func(b []byte){
		"huge moov":       func(b []byte) { binary.BigEndian.PutUint32(b[at("moov"):], 0xFFFFFFF0) },
		"tiny trak":       func(b []byte) { binary.BigEndian.PutUint32(b[at("trak"):], 3) },
		"2^32-1 sizes":    func(b []byte) { binary.BigEndian.PutUint32(b[at("stsz")+16:], 0xFFFFFFFF) },
		"zero timescale":  func(b []byte) { binary.BigEndian.PutUint32(b[at("mdhd")+28:], 0) },
		"no chunks":       func(b []byte) { binary.BigEndian.PutUint32(b[at("co64")+12:], 0) },
		"chunk elsewhere": func(b []byte) { binary.BigEndian.PutUint64(b[at("co64")+16:], 1<<62) },
	} {
		t.Run(name, func(t *testing.T) {
			b := bytes.Clone(data)
			change(b)
			d, err := openBytes(b)
			if err == nil {
				var p media.Packet
				err = d.ReadPacket(&p)
			}
			var broken *media.FormatError
			require.ErrorAs(t, err, &broken)
		})
	}
}

func FuzzReader(f *testing.F) {
	f.Add(film(f, 3, 3))
	f.Add(film(f, 30, 0))
	f.Add([]byte("\x00\x00\x00\x08moov"))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := openBytes(data)
		if err != nil {
			return
		}
		var p media.Packet
		for range 1000 {
			if d.ReadPacket(&p) != nil {
				return
			}
		}
	})
}
