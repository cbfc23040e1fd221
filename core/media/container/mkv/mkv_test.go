package mkv

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// codecs are those that the tests' files hold.
var codecs = media.Codecs{
	{Name: "h264", IDs: media.Identifiers{Matroska: []string{"V_MPEG4/ISO/AVC"}}},
	{Name: "vp9", IDs: media.Identifiers{Matroska: []string{"V_VP9"}}},
	{Name: "opus", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_OPUS"}}},
	{Name: "vorbis", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_VORBIS"}, NeedsConfig: true}},
	{Name: "pcm", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_PCM/INT/LIT"}}},
}

// memory is a file in memory.
type memory struct {
	data []byte
	at   int
}

func (m *memory) Write(p []byte) (int, error) {
	if more := m.at + len(p) - len(m.data); more > 0 {
		m.data = append(m.data, make([]byte, more)...)
	}
	m.at += copy(m.data[m.at:], p)
	return len(p), nil
}

func (m *memory) Seek(offset int64, _ int) (int64, error) {
	m.at = int(offset)
	return offset, nil
}

// film writes 60 frames of video, the second and third of every four shown in
// turn, and sound beside them.
func film(t *testing.T) []byte {
	m := &memory{}
	w, err := create(m, []media.Track{
		{Kind: media.Audio, Codec: "opus", Timescale: 48000, Channels: 2, Rate: 48000, Config: []byte("OpusHead")},
		{Kind: media.Video, Codec: "h264", Timescale: 25, Config: []byte{1, 2, 3},
			Format: media.Format{Width: 320, Height: 180, Rate: media.Rate{Num: 25, Den: 1}, Interlaced: true},
			Colour: media.Colour{Primaries: 1, Transfer: 1, Matrix: 1, FullRange: true}},
	}, codecs)
	require.NoError(t, err)
	for i := range 60 {
		require.NoError(t, w.WritePacket(&media.Packet{Track: 1, PTS: shown(i), DTS: int64(i), Duration: 1, Data: bytes.Repeat([]byte{byte(i)}, 300), Key: i%20 == 0}))
		require.NoError(t, w.WritePacket(&media.Packet{PTS: int64(i) * 1920, DTS: int64(i) * 1920, Duration: 1920, Data: []byte{0xAA, byte(i)}, Key: true}))
	}
	require.NoError(t, w.Close())
	return m.data
}

func shown(i int) int64 { return int64(i - i%4 + [4]int{0, 2, 1, 3}[i%4]) }

func openBytes(data []byte) (media.Demuxer, error) {
	return open(bytes.NewReader(data), int64(len(data)), codecs)
}

func TestRoundTrip(t *testing.T) {
	d, err := openBytes(film(t))
	require.NoError(t, err)
	tracks := d.Tracks()
	require.Len(t, tracks, 2)
	require.Equal(t, "opus", tracks[0].Codec)
	require.Equal(t, media.Audio, tracks[0].Kind)
	require.Equal(t, [2]int{2, 48000}, [2]int{tracks[0].Channels, tracks[0].Rate})
	require.Equal(t, "h264", tracks[1].Codec)
	require.Equal(t, []byte{1, 2, 3}, tracks[1].Config)
	require.Equal(t, [2]int{320, 180}, [2]int{tracks[1].Format.Width, tracks[1].Format.Height})
	require.True(t, tracks[1].Format.Interlaced)
	require.Equal(t, media.Rate{Num: 25, Den: 1}, tracks[1].Format.Rate)
	require.Equal(t, media.Colour{Primaries: 1, Transfer: 1, Matrix: 1, FullRange: true}, tracks[1].Colour)
	require.InDelta(t, 2.4, tracks[1].Duration.Seconds(), 1e-9)
	for range 2 {
		var p media.Packet
		video, sound := 0, 0
		for {
			err := d.ReadPacket(&p)
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			if p.Track == 0 {
				require.Equal(t, []byte{0xAA, byte(sound)}, p.Data)
				require.EqualValues(t, sound*40, p.PTS)
				sound++
				continue
			}
			require.Equal(t, bytes.Repeat([]byte{byte(video)}, 300), p.Data)
			require.Equal(t, shown(video)*40, p.PTS)
			require.EqualValues(t, video*40, p.DTS)
			require.EqualValues(t, 40, p.Duration)
			require.Equal(t, video%20 == 0, p.Key)
			video++
		}
		require.Equal(t, [2]int{60, 60}, [2]int{video, sound})
		require.NoError(t, d.Rewind())
	}
}

// A file that still grows, or was cut, is played as far as it goes.
func TestCutAnywhere(t *testing.T) {
	data := film(t)
	for cut := 0; cut < len(data); cut += 97 {
		d, err := openBytes(data[:cut])
		if err != nil {
			continue
		}
		var p media.Packet
		for n := 0; ; n++ {
			if err := d.ReadPacket(&p); err != nil {
				var broken *media.FormatError
				require.True(t, errors.Is(err, io.EOF) || errors.As(err, &broken), "cut at %d: %v", cut, err)
				break
			}
			require.Less(t, n, 120)
		}
	}
}

// blocks makes a file of one track whose only cluster holds these elements.
func blocks(elements func(b *builder)) []byte {
	return sound(3, []byte("<"), func(b *builder) {
		b.uint(idTimestamp, 1000)
		elements(b)
	})
}

// sound makes a file of one track, encoded with an algorithm and its settings, and one
// cluster.
func sound(algo uint64, settings []byte, cluster func(b *builder)) []byte {
	var b builder
	b.master(idEBML, func() {})
	b.id(idSegment)
	b.size8(1<<56 - 1)
	b.master(idTracks, func() {
		b.master(idTrackEntry, func() {
			b.uint(idTrackNumber, 1)
			b.uint(idTrackType, 2)
			b.bytes(idCodecID, []byte("A_PCM/INT/LIT"))
			b.uint(idDefaultDuration, 20e6)
			b.master(idEncodings, func() {
				b.master(idEncoding, func() {
					b.master(idCompression, func() {
						b.uint(idCompAlgo, algo)
						if settings != nil {
							b.bytes(idCompSettings, settings)
						}
					})
				})
			})
		})
	})
	b.id(idCluster)
	b.size8(1<<56 - 1)
	cluster(&b)
	return b
}

func TestLacing(t *testing.T) {
	want := []string{"<one", "<three", "<x", "<fourteen"}
	for name, lace := range map[string][]byte{
		"Xiph": append([]byte{0x81, 0, 5, 0x02, 3, 3, 5, 1}, "onethreexfourteen"...),
		"EBML": append([]byte{0x81, 0, 5, 0x06, 3, 0x83, 0xC1, 0xBB}, "onethreexfourteen"...), // 3, +2, -4
	} {
		t.Run(name, func(t *testing.T) {
			d, err := openBytes(blocks(func(b *builder) { b.bytes(idSimpleBlock, lace) }))
			require.NoError(t, err)
			require.Equal(t, want, packets(t, d, 1005))
		})
	}
	d, err := openBytes(blocks(func(b *builder) {
		b.master(idBlockGroup, func() {
			b.bytes(idBlock, append([]byte{0x81, 0, 0, 0x04, 3}, "aabbccdd"...))
			b.uint(idBlockDuration, 80)
			b.bytes(idReference, []byte{0xFF})
		})
	}))
	require.NoError(t, err)
	require.Equal(t, []string{"<aa", "<bb", "<cc", "<dd"}, packets(t, d, 1000))
}

// packets reads all packets, which follow one another by 20 ms from start.
func packets(t *testing.T, d media.Demuxer, start int64) (got []string) {
	var p media.Packet
	for {
		err := d.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			return got
		}
		require.NoError(t, err)
		require.EqualValues(t, 20, p.Duration)
		require.Equal(t, start+20*int64(len(got)), p.PTS)
		got = append(got, string(p.Data))
	}
}

func TestHostileElements(t *testing.T) {
	for name, data := range map[string][]byte{
		"no tracks":        append([]byte{0x1A, 0x45, 0xDF, 0xA3, 0x80, 0x18, 0x53, 0x80, 0x67, 0xFF}, 0x1F, 0x43, 0xB6, 0x75, 0xFF),
		"no segment":       {0x1A, 0x45, 0xDF, 0xA3, 0x80, 0xEC, 0x80},
		"broken lace":      blocks(func(b *builder) { b.bytes(idSimpleBlock, []byte{0x81, 0, 0, 0x02, 3, 255, 255}) }),
		"lace too long":    blocks(func(b *builder) { b.bytes(idSimpleBlock, []byte{0x81, 0, 0, 0x06, 1, 0x88, 1, 2}) }),
		"block too short":  blocks(func(b *builder) { b.bytes(idSimpleBlock, []byte{0x81}) }),
		"element too long": blocks(func(b *builder) { b.id(idSimpleBlock); b.size8(1 << 40) }),
		"no element":       blocks(func(b *builder) { *b = append(*b, 0, 0, 0) }),
		"late time":        blocks(func(b *builder) { b.uint(idTimestamp, 1<<63) }),
	} {
		t.Run(name, func(t *testing.T) {
			d, err := openBytes(data)
			var p media.Packet
			for err == nil {
				err = d.ReadPacket(&p)
			}
			var broken *media.FormatError
			require.ErrorAs(t, err, &broken)
		})
	}
}

func TestRefusesWhatItCannotWrite(t *testing.T) {
	var refused *media.UnsupportedError
	_, err := create(&memory{}, []media.Track{{Codec: "raw", Timescale: 25}}, codecs)
	require.ErrorAs(t, err, &refused)
	w, err := create(&memory{}, []media.Track{{Codec: "vp9", Timescale: 25}}, codecs)
	require.NoError(t, err)
	require.Error(t, w.WritePacket(&media.Packet{PTS: media.NoTime}))
	require.Error(t, w.WritePacket(&media.Packet{Track: 1}))
}
