package mp4

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// plan is a film as other programs lay it out: what our own writer never writes.
type plan struct {
	sizes   []uint32 // of samples; one for all where constant is set
	count   uint32   // of samples, where the size is constant
	times   [][2]uint32
	shifts  [][2]uint32
	chunks  []uint32    // offsets from the first byte of samples
	toChunk [][3]uint32 // stsc
	keys    []uint32    // stss; nil: there is none
	entry   func(b *builder)
	sound   bool
	data    []byte
}

// file writes the samples first and the movie box behind them, with boxes of version 0.
func (p *plan) file() []byte {
	var b builder
	b.box("ftyp", func() { b.text("qt  ", "\x00\x00\x00\x00", "qt  ") })
	b.box("wide", func() {})
	b.box("mdat", func() { b = append(b, p.data...) })
	first := uint32(len(b) - len(p.data))
	b.box("moov", func() {
		b.full("mvhd", 0, 0, func() {
			b.zeros(8)
			b.u32(600)
			b.zeros(80)
		})
		b.box("trak", func() {
			b.full("tkhd", 0, 3, func() {
				b.zeros(8)
				b.u32(7) // its number
				b.zeros(68)
			})
			b.box("mdia", func() {
				b.full("mdhd", 0, 0, func() {
					b.zeros(8)
					b.u32(1000)
					b.u32(4000)
					b.u32(0)
				})
				b.full("hdlr", 0, 0, func() {
					b.text("mhlr")
					if p.sound {
						b.text("soun")
					} else {
						b.text("vide")
					}
					b.zeros(13)
				})
				b.box("minf", func() { b.box("stbl", func() { p.tables(&b, first) }) })
			})
		})
	})
	return b
}

func (p *plan) tables(b *builder, first uint32) {
	b.full("stsd", 0, 0, func() {
		b.u32(1)
		p.entry(b)
	})
	pairs := func(kind string, list [][2]uint32) {
		if list == nil {
			return
		}
		b.full(kind, 0, 0, func() {
			b.u32(uint32(len(list)))
			for _, v := range list {
				b.u32(v[0])
				b.u32(v[1])
			}
		})
	}
	pairs("stts", p.times)
	pairs("ctts", p.shifts)
	words := func(list []uint32, more uint32) {
		b.u32(uint32(len(list)))
		for _, v := range list {
			b.u32(v + more)
		}
	}
	if p.keys != nil {
		b.full("stss", 0, 0, func() { words(p.keys, 0) })
	}
	b.full("stsc", 0, 0, func() {
		b.u32(uint32(len(p.toChunk)))
		for _, v := range p.toChunk {
			for _, v := range v {
				b.u32(v)
			}
		}
	})
	b.full("stsz", 0, 0, func() {
		if p.count > 0 {
			b.u32(p.sizes[0])
			b.u32(p.count)
			return
		}
		b.u32(0)
		words(p.sizes, 0)
	})
	b.full("stco", 0, 0, func() { words(p.chunks, first) })
}

// jpeg is a sample entry of motion JPEG as older films have it.
func jpeg(b *builder) {
	b.box("jpeg", func() {
		b.zeros(6)
		b.u16(1)
		b.visualEntry(&media.Track{Format: media.Format{Width: 320, Height: 240}})
	})
}

// all reads every packet.
func all(t *testing.T, d media.Demuxer) (list []media.Packet) {
	t.Helper()
	for {
		var p media.Packet
		err := d.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			return list
		}
		require.NoError(t, err)
		list = append(list, p)
	}
}

func TestChunksOfSeveralSamplesInAnyOrder(t *testing.T) {
	p := &plan{
		data:    []byte("aaabbddddeeffffc"), // the second chunk lies last
		sizes:   []uint32{3, 2, 1, 4, 2, 4},
		times:   [][2]uint32{{2, 40}, {1, 80}, {3, 20}},
		shifts:  [][2]uint32{{1, 0}, {2, 60}, {3, 0xFFFFFFEC}}, // -20, which version 0 has in practice
		toChunk: [][3]uint32{{1, 2, 1}, {2, 1, 1}, {3, 3, 1}},
		chunks:  []uint32{0, 15, 5},
		keys:    []uint32{1, 4},
		entry:   jpeg,
	}
	d, err := openBytes(p.file())
	require.NoError(t, err)
	track := d.Tracks()[0]
	require.Equal(t, 7, track.ID)
	require.Equal(t, "mjpeg", track.Codec)
	require.Equal(t, [2]int{320, 240}, [2]int{track.Format.Width, track.Format.Height})
	require.Equal(t, 4*time.Second, track.Duration)
	list := all(t, d)
	var texts []string
	var dts, pts, lengths []int64
	var keys []bool
	for _, p := range list {
		texts = append(texts, string(p.Data))
		dts, pts, lengths, keys = append(dts, p.DTS), append(pts, p.PTS), append(lengths, p.Duration), append(keys, p.Key)
	}
	require.Equal(t, []string{"aaa", "bb", "c", "dddd", "ee", "ffff"}, texts)
	require.Equal(t, []int64{0, 40, 80, 160, 180, 200}, dts)
	require.Equal(t, []int64{0, 100, 140, 140, 160, 180}, pts)
	require.Equal(t, []int64{40, 40, 80, 20, 20, 20}, lengths)
	require.Equal(t, []bool{true, false, false, true, false, false}, keys)
}

func TestSamplesOfOneSize(t *testing.T) {
	p := &plan{data: bytes.Repeat([]byte("wave"), 50), sizes: []uint32{4}, count: 50, times: [][2]uint32{{50, 80}},
		toChunk: [][3]uint32{{1, 20, 1}}, chunks: []uint32{0, 80, 160}, entry: jpeg}
	d, err := openBytes(p.file())
	require.NoError(t, err)
	list := all(t, d)
	require.Len(t, list, 50)
	for i, p := range list {
		require.Equal(t, "wave", string(p.Data))
		require.EqualValues(t, 80*i, p.PTS)
		require.True(t, p.Key, "where no list says which are keys, all are")
	}
}

func TestPlacesAreFoundByKeyFrames(t *testing.T) {
	p := &plan{data: bytes.Repeat([]byte{0}, 100), sizes: []uint32{1}, count: 100, times: [][2]uint32{{100, 40}},
		toChunk: [][3]uint32{{1, 100, 1}}, chunks: []uint32{0}, keys: []uint32{1, 26, 51, 76}, entry: jpeg}
	d, err := openBytes(p.file())
	require.NoError(t, err)
	for pts, want := range map[int64]int64{-5: 0, 0: 0, 999: 0, 1000: 1000, 2960: 2000, 3000: 3000, 1 << 40: 3000} {
		require.NoError(t, d.(media.Seeker).SeekTo(0, pts))
		var p media.Packet
		require.NoError(t, d.ReadPacket(&p))
		require.Equal(t, want, p.PTS, "going to %d", pts)
		require.True(t, p.Key)
	}
}

// Older films state how their sound is coded in longer entries.
func TestSoundEntriesOfOlderFilms(t *testing.T) {
	for version, more := range map[uint16]int{0: 0, 1: 16, 2: 36} {
		p := &plan{sound: true, data: []byte("s"), sizes: []uint32{1}, count: 1, times: [][2]uint32{{1, 1024}}, toChunk: [][3]uint32{{1, 1, 1}}, chunks: []uint32{0},
			entry: func(b *builder) {
				b.box("mp4a", func() {
					b.zeros(6)
					b.u16(1)
					b.u16(version)
					b.zeros(6)
					b.u16(6)
					b.u16(16)
					b.zeros(4)
					b.u32(44100 << 16)
					b.zeros(more)
					b.descriptor(0x40, 5, 0, []byte{0x12, 0x30})
				})
			}}
		d, err := openBytes(p.file())
		require.NoError(t, err, version)
		track := d.Tracks()[0]
		require.Equal(t, media.Audio, track.Kind)
		require.Equal(t, "aac", track.Codec)
		require.Equal(t, 6, track.Channels)
		require.Equal(t, 44100, track.Rate)
		require.Equal(t, []byte{0x12, 0x30}, track.Config, "version %d", version)
	}
}

func TestDescriptorsWithAllTheirParts(t *testing.T) {
	inner := []byte{4, 0x80, 0x80, 0x80, 17, 0x6C, 0x11, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 5, 2, 8, 9} // a length of four bytes
	for name, head := range map[string][]byte{
		"plain":                   {0, 1, 0},
		"depends on another":      {0, 1, 0x80, 0, 5},
		"with an address":         {0, 1, 0x40, 3, 'u', 'r', 'l'},
		"with a clock":            {0, 1, 0x20, 0, 9},
		"with all of those":       {0, 1, 0xE0, 0, 5, 1, 'u', 0, 9},
		"with an address too far": {0, 1, 0x40, 200},
	} {
		body := append(bytes.Clone(head), inner...)
		object, config := decoderConfig(append([]byte{3, byte(len(body))}, body...))
		if name == "with an address too far" {
			require.Zero(t, object, name)
			continue
		}
		require.EqualValues(t, 0x6C, object, name)
		require.Equal(t, []byte{8, 9}, config, name)
	}
	for cut := range 12 {
		require.NotPanics(t, func() { decoderConfig(append([]byte{3, 25, 0, 1, 0}, inner...)[:cut]) })
	}
}

func TestTablesThatDoNotAgree(t *testing.T) {
	good := plan{data: []byte("abcd"), sizes: []uint32{1, 1, 1, 1}, times: [][2]uint32{{4, 40}},
		toChunk: [][3]uint32{{1, 2, 1}}, chunks: []uint32{0, 2}, entry: jpeg}
	for name, c := range map[string]struct {
		change func(p *plan)
		says   string
	}{
		"fewer chunks than samples": {func(p *plan) { p.chunks = p.chunks[:1] }, "fewer chunks than 4 samples need"},
		"a chunk without samples":   {func(p *plan) { p.toChunk[0][1] = 0 }, "chunk 1 holds no samples"},
		"chunks from the second on": {func(p *plan) { p.toChunk[0][0] = 2 }, "chunk 1 holds no samples"},
		"a sample beyond the end":   {func(p *plan) { p.sizes[3] = 1 << 20 }, "is beyond the end"},
	} {
		p := good
		p.sizes, p.chunks, p.toChunk = slices.Clone(p.sizes), slices.Clone(p.chunks), slices.Clone(p.toChunk)
		c.change(&p)
		d, err := openBytes(p.file())
		for err == nil {
			var packet media.Packet
			err = d.ReadPacket(&packet)
		}
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken, name)
		require.ErrorContains(t, err, c.says, name)
	}
}

// What fragments leave out is said by their track's head or by the movie box.
func TestFragmentsThatSayLittle(t *testing.T) {
	var b builder
	b.fileType()
	b.movie([]*trackWriter{{ids: &codecs[0].IDs, Track: media.Track{Kind: media.Video, Codec: "mjpeg", Timescale: 1000, Format: media.Format{Width: 64, Height: 64}}}}, true)
	at := bytes.LastIndex(b, []byte("trex")) + 4
	for i, v := range []uint32{40, 3, sampleNotSync} { // duration, size, flags
		copy(b[at+12+4*i:], []byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)})
	}
	samples := uint64(len(b) + 8)
	b.box("mdat", func() { b.text("aaabbbccc", "ddddd", "xyz") })
	fragment := func(head func(), run func()) {
		b.box("moof", func() {
			b.full("mfhd", 0, 0, func() { b.u32(1) })
			b.box("traf", func() {
				head()
				run()
			})
		})
	}
	// All by the movie box, at a place in the file.
	fragment(func() {
		b.full("tfhd", 0, tfhdBase, func() {
			b.u32(1)
			b.u64(samples)
		})
	}, func() {
		b.full("trun", 0, trunFirstFlags, func() {
			b.u32(3)
			b.u32(0) // the first is a key frame
		})
	})
	// All by the fragment, and a time of version 0.
	fragment(func() {
		b.full("tfhd", 0, tfhdBase|tfhdDescription|tfhdDuration|tfhdSize|tfhdFlags, func() {
			b.u32(1)
			b.u64(samples + 9)
			b.u32(1)
			b.u32(100)
			b.u32(5)
			b.u32(0)
		})
		b.full("tfdt", 0, 0, func() { b.u32(5000) })
	}, func() { b.full("trun", 0, 0, func() { b.u32(1) }) })
	// A track that the movie box does not know is passed over.
	fragment(func() { b.full("tfhd", 0, 0, func() { b.u32(9) }) }, func() { b.full("trun", 0, 0, func() { b.u32(1) }) })
	d, err := openBytes(b)
	require.NoError(t, err)
	list := all(t, d)
	require.Len(t, list, 4)
	for i, want := range []media.Packet{
		{Data: []byte("aaa"), Duration: 40, Key: true}, {Data: []byte("bbb"), PTS: 40, Duration: 40}, {Data: []byte("ccc"), PTS: 80, Duration: 40},
		{Data: []byte("ddddd"), PTS: 5000, Duration: 100, Key: true},
	} {
		want.DTS, want.Offset = want.PTS, int64(bytes.Index(b, want.Data))
		require.Equal(t, want, list[i], i)
	}
	require.ErrorContains(t, d.(media.Seeker).SeekTo(0, 0), "in fragments")
}

func TestWritersRefuse(t *testing.T) {
	video := media.Track{Codec: "mjpeg", Timescale: 1000, Format: media.Format{Width: 64, Height: 64}}
	for name, list := range map[string][]media.Track{
		"nothing":          nil,
		"too many tracks":  make([]media.Track, 65),
		"an unknown codec": {{Codec: "theatre", Timescale: 1000}},
		"no timescale":     {{Codec: "mjpeg"}},
		"too wide":         {{Codec: "mjpeg", Timescale: 1000, Format: media.Format{Width: 1 << 16, Height: 64}}},
	} {
		_, err := create(&memory{}, list, 1, codecs)
		require.Error(t, err, name)
		_, err = createFragmented(&memory{}, list, codecs)
		require.Error(t, err, name)
	}
	w, err := create(&memory{}, []media.Track{video}, 1, codecs)
	require.NoError(t, err)
	for name, p := range map[string]media.Packet{
		"of no track":           {Track: 1, Duration: 1},
		"without a length":      {},
		"without a time":        {Duration: 1, PTS: media.NoTime},
		"shown far from coding": {Duration: 1, PTS: 1 << 40},
	} {
		require.ErrorContains(t, w.WritePacket(&p), "cannot be written", name)
	}
}
