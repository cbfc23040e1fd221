package text

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/clip"
)

var manifest = &clip.Manifest{Clips: []clip.Entry{
	{File: "a.mp4", Load: "h264 240p25 500k", Scene: "harbour", Frames: 125, Bytes: 312_800, BitrateBps: 500_480, VideoBps: 497_000, SHA256: "0123456789abcdef"},
	{File: "b-kelp.mkv", Load: "h264 2160p25 10bit hdr 40M", Scene: "kelp", Frames: 50, Bytes: 10_040_000, BitrateBps: 40_160_000, SHA256: "fedc"},
}}

func TestClipsTable(t *testing.T) {
	require.Equal(t, strings.TrimLeft(`
file        load line                   scene    frames    MB  video rate  file rate  sha256
a.mp4       h264 240p25 500k            harbour     125   0.3    497 kb/s   500 kb/s  01234567
b-kelp.mkv  h264 2160p25 10bit hdr 40M  kelp         50  10.0           -  40.2 Mb/s  fedc

2 clips of 10 MB in films.
`, "\n"), Style{Width: 100}.Clips("films", manifest))
	for _, line := range strings.Split(Style{Width: 60}.Clips("films", manifest), "\n") {
		require.LessOrEqual(t, len([]rune(line)), 60, "columns are left out")
	}
}

func TestVerifiedTable(t *testing.T) {
	found := map[string]error{"a.mp4": nil, "b-kelp.mkv": errors.New("frame 7 is damaged")}
	require.Equal(t, strings.TrimLeft(`
file        frames  found
a.mp4          125  ● as made
b-kelp.mkv      50  × frame 7 is damaged
`, "\n"), Style{}.Verified(manifest, found))
	colored := Style{Color: true}.Verified(manifest, found)
	require.Contains(t, colored, "\x1b[32m● as made\x1b[0m")
	require.Contains(t, colored, "\x1b[31m× frame 7 is damaged\x1b[0m")
}
