package inspect

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

const streams = "../codec/h264/testdata/"

func TestSaysWhatAStreamIs(t *testing.T) {
	r, err := File(t.Context(), streams+"high-opengop.264")
	require.NoError(t, err)
	require.Equal(t, "h264 stream", r.Container)
	require.Equal(t, "High", r.Profile)
	require.Equal(t, "1.2", r.Level)
	require.Equal(t, "progressive", r.Scan)
	require.Equal(t, "CABAC", r.Entropy)
	require.Equal(t, 50, r.Frames)
	require.Equal(t, 4, r.KeyFrames)
	require.Equal(t, 1, r.IDRs)
	require.True(t, r.OpenGOP)
	require.Equal(t, 3, r.BRun)
	require.Equal(t, 2, r.BDepth)
	require.True(t, r.Constant)
	require.InDelta(t, 30, r.FrameRate, 0.01)
	require.Equal(t, "h264 208x160p30 262k", r.Load)
	require.Empty(t, r.Audio)

	r, err = File(t.Context(), streams+"high422-10-mbaff.264")
	require.NoError(t, err)
	require.Equal(t, "interlaced (MBAFF)", r.Scan)
	require.Equal(t, 10, r.Depth)
	require.Equal(t, "4:2:2", r.Chroma)
	require.False(t, r.OpenGOP)
	require.Equal(t, "h264 208x160i30 10bit 4:2:2 3.6M", r.Load)
}

// A container adds what a raw stream does not tell: sound, and light.
func TestSaysWhatTheContainerTells(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.mkv")
	file, err := os.Create(path)
	require.NoError(t, err)
	c, err := registry.ContainerFor(path)
	require.NoError(t, err)
	hdr := &media.HDR{Primaries: [3][2]uint16{{8500, 39850}, {6550, 2300}, {35400, 14600}}, White: [2]uint16{15635, 16450},
		MaxLuminance: 10_000_000, MinLuminance: 50, MaxCLL: 900, MaxFALL: 300}
	m, err := c.Create(file, []media.Track{
		{Kind: media.Video, Codec: "hevc", Timescale: 50, Format: media.Format{Width: 3840, Height: 2160, Rate: media.Rate{Num: 50, Den: 1}},
			Colour: media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}, HDR: hdr},
		{Kind: media.Audio, Codec: "aac", Timescale: 48000, Channels: 2, Rate: 48000},
	}, 100)
	require.NoError(t, err)
	for i := range int64(100) {
		require.NoError(t, m.WritePacket(&media.Packet{PTS: i, DTS: i, Duration: 1, Data: make([]byte, 1000+i*10), Key: i%25 == 0}))
		require.NoError(t, m.WritePacket(&media.Packet{Track: 1, PTS: i * 960, DTS: i * 960, Duration: 960, Data: make([]byte, 50), Key: true}))
	}
	require.NoError(t, m.Close())
	require.NoError(t, file.Close())
	r, err := File(t.Context(), path)
	require.NoError(t, err)
	require.Equal(t, []Audio{{"aac", 2, 48000}}, r.Audio)
	require.Equal(t, &Colour{"BT.2020", "PQ", "BT.2020", false}, r.Colour)
	require.Equal(t, &HDR{1000, 0.005, 900, 300}, r.HDR)
	require.Equal(t, media.PQ, r.Format().Transfer)
	require.Equal(t, 25, r.KeyMax)
	require.InDelta(t, 2, r.DurationS, 0.001)
	require.InEpsilon(t, 8*(1000*100+10*99*50)/2., r.BitrateBPS, 0.001)
	require.InEpsilon(t, 8*(1000*50+10*(50+99)*25), r.BusiestBPS, 0.001)
	require.Equal(t, "hevc 2160p50 hdr 598k", r.Load)
}

func TestUnevenTimes(t *testing.T) {
	even, uneven := rhythm{}, rhythm{}
	for i := range int64(200) {
		even.add(&media.Packet{PTS: i * 1000 / 24, DTS: i * 1000 / 24, Data: make([]byte, 10)}, 1000)
		uneven.add(&media.Packet{PTS: i*40 + i%3*10, DTS: i * 40, Data: make([]byte, 10)}, 1000)
	}
	even.end()
	uneven.end()
	require.True(t, even.constant())
	require.False(t, uneven.constant())
	require.InDelta(t, 200/24., even.duration(), 0.05)
}

func TestChecksumsOfDamage(t *testing.T) {
	data, err := os.ReadFile(streams + "baseline-ip.264")
	require.NoError(t, err)
	for i := len(data) - 300; i < len(data)-250; i++ {
		data[i] ^= 0x55
	}
	path := filepath.Join(t.TempDir(), "damaged.264")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	n := 0
	err = Checksums(t.Context(), path, 2, func(string) error { n++; return nil })
	require.ErrorContains(t, err, "damaged")
	require.Equal(t, 12, n, "all pictures are there")
}

// Where size, rate or bitrate pass what the stated level allows, the level that is needed is named.
func TestLevelThatIsPassed(t *testing.T) {
	data, err := os.ReadFile("../codec/h264/testdata/main-cabac-b.264")
	require.NoError(t, err)
	r, err := File(t.Context(), "../codec/h264/testdata/main-cabac-b.264")
	require.NoError(t, err)
	require.Empty(t, r.LevelNeeded)
	at := bytes.Index(data, []byte{0, 0, 1, 0x67}) + 4 + 2 // level_idc follows profile_idc and the constraints
	require.EqualValues(t, 12, data[at])
	data[at] = 10
	path := filepath.Join(t.TempDir(), "low.264")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	r, err = File(t.Context(), path)
	require.NoError(t, err)
	require.Equal(t, "1", r.Level)
	require.Equal(t, "1.2", r.LevelNeeded)
	for _, c := range []struct {
		level, other string
		want         bool
	}{{"4.1", "4", true}, {"4", "4.1", false}, {"5", "5", false}, {"", "4", false}, {"1b", "1", false}, {"4", "", false}} {
		require.Equal(t, c.want, above(c.level, c.other), "%+v", c)
	}
}

// Damage in a configuration record is reported with its place in the file, whichever container
// holds it.
func TestDamagedConfigurationIsFound(t *testing.T) {
	for _, name := range []string{"a.mp4", "a.mkv"} {
		source, err := registry.Open(streams + "baseline-ip.264")
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), name)
		out, err := os.Create(path)
		require.NoError(t, err)
		c, err := registry.ContainerFor(path)
		require.NoError(t, err)
		_, err = registry.Rewrap(t.Context(), source, c, out, false)
		require.NoError(t, err)
		require.NoError(t, errors.Join(source.Close(), out.Close()))
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		file, err := registry.Open(path)
		require.NoError(t, err)
		record := file.Tracks()[0].Config
		at := bytes.Index(data, record)
		require.Positive(t, at)
		require.NoError(t, file.Close())
		data[at] = 7 // the version
		require.NoError(t, os.WriteFile(path, data, 0o600))
		_, err = File(t.Context(), path)
		require.ErrorContains(t, err, fmt.Sprintf("at byte %d: the decoder configuration record has version 7, not 1", at), name)
	}
}
