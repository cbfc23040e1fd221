package hevc

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// The lowest level is that of size, sample rate and bitrate; the High tier is taken where the Main tier of
// no lower level is enough.
func TestLevelsOfFormats(t *testing.T) {
	for _, c := range []struct {
		width, height int
		rate          int
		bitrate       int64
		level         string
	}{
		{176, 144, 15, 100_000, "1"},
		{352, 288, 30, 1_000_000, "2"},
		{640, 360, 30, 2_000_000, "2.1"},
		{1280, 720, 25, 4_000_000, "3.1"},
		{1920, 1080, 25, 12_000_000, "4"},
		{1920, 1080, 25, 25_000_000, "4 High"},
		{1920, 1080, 60, 12_000_000, "4.1"},
		{3840, 2160, 30, 25_000_000, "5"},
		{3840, 2160, 60, 40_000_000, "5.1"},
		{3840, 2160, 120, 300_000_000, "6.1 High"},
		{3840, 2160, 60, 2_000_000_000, ""},
	} {
		f := media.Format{Width: c.width, Height: c.height, Depth: 8, Chroma: picture.C420, Rate: media.Rate{Num: c.rate, Den: 1}, Bitrate: c.bitrate}
		require.Equal(t, c.level, formatLevel(f), "%+v", c)
	}
}

// What the parameter sets of an encoder say is read back from them.
func TestParameterSetsRoundTrip(t *testing.T) {
	for name, change := range kinds {
		set := settings(change)
		set.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
		e, err := NewEncoder(set, func(*media.Packet) error { return nil })
		require.NoError(t, err)
		s, p := e.parameters()
		again, err := parseSPS(nal.Unescape(nil, s.append(nil)[2:]))
		require.NoError(t, err)
		s.ctbWidth, s.ctbHeight, s.rps = again.ctbWidth, again.ctbHeight, again.rps
		require.Equal(t, s, again, name)
		read, err := parsePPS(nal.Unescape(nil, p.append(nil)[2:]))
		require.NoError(t, err)
		require.Equal(t, []any{p.initQP, p.beta, p.tc, p.mergeLevel, p.refs}, []any{read.initQP, read.beta, read.tc, read.mergeLevel, read.refs}, name)
		track, err := e.Track()
		require.NoError(t, err)
		f, known := parseCodecString(codecString(track))
		require.True(t, known)
		if !set.Format.Chroma.IsTall() { // those strings do not state the depth
			require.Equal(t, set.Format.Depth, max(f.Depth, 8), name)
		}
	}
}

// Formats that are not made are refused with the reason.
func TestFormatsThatAreNotMade(t *testing.T) {
	for reason, change := range map[string]func(*media.EncoderSettings){
		"8 or 10 bits": func(s *media.EncoderSettings) { s.Format.Depth = 12 },
		"not 4:4:4":    func(s *media.EncoderSettings) { s.Format.Chroma = picture.C444 },
		"progressive":  func(s *media.EncoderSettings) { s.Format.Interlaced = true },
		"171x144":      func(s *media.EncoderSettings) { s.Format.Width = 171 },
		"from 16x16":   func(s *media.EncoderSettings) { s.Format.Width = 8 },
	} {
		_, err := NewEncoder(settings(change), nil)
		require.ErrorContains(t, err, reason)
	}
}

// A stream's headers tell how its pictures refer to each other.
func TestHeadersTellOfStructure(t *testing.T) {
	for name, want := range map[string]media.StreamInfo{
		"P":         {Keys: 2, KeyMax: 12},
		"B":         {Keys: 2, KeyMax: 12, BRun: 2, BDepth: 1},
		"B pyramid": {Keys: 2, KeyMax: 12, BRun: 3, BDepth: 2},
		"intra":     {Keys: 20, KeyMax: 1},
	} {
		c := encoding.Encode(t, settings(kinds[name]), 20)
		p := NewParser()
		for _, packet := range c.Packets {
			for unit := range nal.ByteStream(packet) {
				_, err := p.Unit(unit)
				require.NoError(t, err)
			}
			p.Shown()
		}
		p.End()
		p.Shown()
		got := p.Info()
		require.Equal(t, want, media.StreamInfo{Keys: got.Keys, KeyMax: got.KeyMax, BRun: got.BRun, BDepth: got.BDepth}, name)
		require.Equal(t, []any{20, "CABAC", "progressive", 176}, []any{got.Frames, got.Entropy, got.Scan, got.Format.Width}, name)
	}
}
