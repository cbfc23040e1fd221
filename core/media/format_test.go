package media

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRates(t *testing.T) {
	for text, want := range map[string]Rate{
		"25": {25, 1}, "12.5": {25, 2}, "23.976": {24000, 1001}, "29.97": {30000, 1001},
		"59.94": {60000, 1001}, "119.88": {120000, 1001}, "0.5": {1, 2}, "14.985": {15000, 1001},
	} {
		r, err := ParseRate(text)
		require.NoError(t, err, text)
		require.Equal(t, want, r, text)
		require.Equal(t, text, r.String())
	}
	for _, text := range []string{"", "x", "0", "-25", "1e2", "NaN", "1001", "0x10", "2_5", "Inf"} {
		_, err := ParseRate(text)
		require.Error(t, err, text)
	}
	require.Equal(t, Rate{25, 1}, Rate{50, 2}.Reduced())
	require.Equal(t, Rate{}, Rate{}.Reduced())
}

func TestSizes(t *testing.T) {
	for text, want := range map[string][2]int{
		"1080p": {1920, 1080}, "480p": {854, 480}, "480i": {720, 480}, "576i": {720, 576}, "1920x800p": {1920, 800}, "2160p": {3840, 2160},
	} {
		w, h, interlaced, err := ParseSize(text)
		require.NoError(t, err, text)
		require.Equal(t, want, [2]int{w, h})
		require.Equal(t, text, Format{Width: w, Height: h, Interlaced: interlaced}.Size())
	}
	for _, text := range []string{"", "p", "1080", "1081p", "1920x801p", "1920x802i", "16x16p", "99999x16p", "0x0p", "+64x64p", "64x064p", "640x360q"} {
		_, _, _, err := ParseSize(text)
		require.Error(t, err, text)
	}
	require.Equal(t, "720p50", Format{Width: 1280, Height: 720, Rate: Rate{50, 1}}.SizeRate())
}

func TestBitrates(t *testing.T) {
	for text, want := range map[string]int64{
		"12M": 12e6, "500k": 5e5, "1.5M": 15e5, "1.234567M": 1234567, "1001": 0, "20000M": 20e9, "1.5k": 1500,
	} {
		bps, err := ParseBitrate(text)
		require.NoError(t, err, text)
		if want > 0 {
			require.Equal(t, want, bps)
			require.Equal(t, text, FormatBitrate(bps))
		}
	}
	for _, text := range []string{"", "M", "12Q", "-1M", "1.M", ".5M", "1.2345678M", "999", "21G", "1e6", "99999999999999M", "1,5M"} {
		_, err := ParseBitrate(text)
		require.Error(t, err, text)
	}
	require.Equal(t, "1.23 Mb/s", BitrateText(1234567))
	require.Equal(t, "120 Mb/s", BitrateText(120.4e6))
	require.Equal(t, "2 Gb/s", BitrateText(2e9))
	require.Equal(t, "17 b/s", BitrateText(17))
}

func TestErrorsSayWhere(t *testing.T) {
	require.Equal(t, "damaged mp4 at byte 12: no room", (&FormatError{"mp4", 12, "no room"}).Error())
	require.Equal(t, "damaged mjpeg: no room", (&FormatError{"mjpeg", -1, "no room"}).Error())
	require.Equal(t, "mp4: encryption is not supported", (&UnsupportedError{"mp4", "encryption"}).Error())
}
