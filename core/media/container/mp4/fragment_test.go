package mp4

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// tracks are video whose pictures are shown out of order, and sound.
func tracks() []media.Track {
	return []media.Track{
		{Kind: media.Video, Codec: "h264", Timescale: 1000, Config: []byte{1, 100, 0, 31},
			Format: media.Format{Width: 1280, Height: 720}, Colour: media.Colour{Primaries: 9, Transfer: 18, Matrix: 9},
			HDR: &media.HDR{Primaries: [3][2]uint16{{1, 2}, {3, 4}, {5, 6}}, White: [2]uint16{7, 8}, MaxLuminance: 9, MinLuminance: 10, MaxCLL: 11, MaxFALL: 12}},
		{Kind: media.Audio, Codec: "aac", Timescale: 48000, Config: []byte{0x11, 0x90}, Channels: 2, Rate: 48000},
	}
}

// write writes 90 frames, three of every four shown in another order, and a
// packet of sound behind each.
func write(t *testing.T, m media.Muxer) {
	for i := range 90 {
		require.NoError(t, m.WritePacket(&media.Packet{PTS: shown(i), DTS: int64(i-2) * 40, Duration: 40, Data: []byte{byte(i), 1, 2}, Key: i%30 == 0}))
		require.NoError(t, m.WritePacket(&media.Packet{Track: 1, PTS: int64(i) * 1024, DTS: int64(i) * 1024, Duration: 1024, Data: []byte{byte(i)}, Key: true}))
	}
	require.NoError(t, m.Close())
}

func shown(i int) int64 { return 40 * int64(i-i%4+[4]int{0, 3, 1, 2}[i%4]) }

func check(t *testing.T, data []byte) {
	d, err := openBytes(data)
	require.NoError(t, err)
	want := tracks()
	require.Len(t, d.Tracks(), 2)
	for i, got := range d.Tracks() {
		require.Equal(t, want[i].Codec, got.Codec)
		require.Equal(t, want[i].Kind, got.Kind)
		require.Equal(t, want[i].Config, got.Config)
		require.Equal(t, want[i].Colour, got.Colour)
		require.Equal(t, want[i].HDR, got.HDR)
		require.Equal(t, want[i].Channels, got.Channels)
		require.Equal(t, want[i].Rate, got.Rate)
	}
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
			require.Equal(t, byte(i), p.Data[0])
			require.False(t, p.Hidden)
			if p.Track == 0 {
				require.Equal(t, shown(i), p.PTS, i)
				require.Equal(t, i%30 == 0, p.Key)
			} else {
				require.EqualValues(t, i*1024, p.PTS)
			}
		}
		require.Equal(t, [2]int{90, 90}, seen)
		require.NoError(t, d.Rewind())
	}
}

func TestReorderedVideoBesideSound(t *testing.T) {
	m := &memory{}
	w, err := create(m, tracks(), 180, codecs)
	require.NoError(t, err)
	write(t, w)
	check(t, m.data)
	require.Contains(t, string(m.data), "elst")
}

func TestFragments(t *testing.T) {
	m := &memory{}
	w, err := createFragmented(m, tracks(), codecs)
	require.NoError(t, err)
	write(t, w)
	check(t, m.data)
	require.Equal(t, 3, bytes.Count(m.data, []byte("moof")), "each key frame begins one")
	// What has arrived of a growing file can be played.
	d, err := openBytes(m.data[:bytes.LastIndex(m.data, []byte("moof"))-4])
	require.NoError(t, err)
	var p media.Packet
	n := 0
	for d.ReadPacket(&p) == nil {
		n++
	}
	require.Equal(t, 120, n)
}

func TestHostileFragments(t *testing.T) {
	m := &memory{}
	w, err := createFragmented(m, tracks(), codecs)
	require.NoError(t, err)
	write(t, w)
	at := func(kind string) int { return bytes.Index(m.data, []byte(kind)) + 4 }
	for name, change := range map[string]func(b []byte){
		"a billion samples": func(b []byte) { binary.BigEndian.PutUint32(b[at("trun")+4:], 1e9) },
		"data elsewhere":    func(b []byte) { binary.BigEndian.PutUint32(b[at("trun")+8:], 0x7FFFFFF0) },
		"data before":       func(b []byte) { binary.BigEndian.PutUint32(b[at("trun")+8:], 0x80000000) },
		"endless time":      func(b []byte) { binary.BigEndian.PutUint64(b[at("tfdt")+4:], 1<<63-1) },
		"huge sample":       func(b []byte) { binary.BigEndian.PutUint32(b[at("trun")+16:], 0xFFFFFFFF) },
	} {
		t.Run(name, func(t *testing.T) {
			b := bytes.Clone(m.data)
			change(b)
			d, err := openBytes(b)
			var p media.Packet
			for err == nil {
				err = d.ReadPacket(&p)
			}
			var broken *media.FormatError
			require.ErrorAs(t, err, &broken)
		})
	}
}

// An edit list that begins later, after a pause, moves the times and hides what
// comes before.
func TestEditList(t *testing.T) {
	e := edit{}
	for name, c := range map[string]struct {
		entries [][3]int64 // length in ms, from in the track's units
		want    edit
	}{
		"from the third frame": {[][3]int64{{1000, 80}}, edit{-80, 1001}},
		"after a pause":        {[][3]int64{{500, -1}, {1000, 0}}, edit{500, 1501}},
		"without a length":     {[][3]int64{{0, 40}}, edit{-40, 1<<63 - 1}},
	} {
		t.Run(name, func(t *testing.T) {
			var b builder
			b.u32(0)
			b.u32(uint32(len(c.entries)))
			for _, v := range c.entries {
				b.u32(uint32(v[0]))
				b.u32(uint32(v[1]))
				b.u32(0x10000)
			}
			d := &reader{file: bytes.NewReader(b)}
			got, err := d.readEdit(box{"elst", 0, int64(len(b))}, 1)
			require.NoError(t, err)
			require.Equal(t, c.want, got)
			e = got
		})
	}
	e = edit{-80, 1001}
	for pts, hidden := range map[int64]bool{0: true, 40: true, 80: false, 1040: false, 1080: false, 1120: true} {
		p := media.Packet{PTS: pts, Duration: 40}
		e.apply(&p)
		require.Equal(t, hidden, p.Hidden, pts)
		require.Equal(t, pts-80, p.PTS)
	}
}
