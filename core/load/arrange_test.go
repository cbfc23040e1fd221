package load

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestArrangeSortsIntoFamilies(t *testing.T) {
	var loads []Load
	for _, line := range []string{"h264 1080p60 20M", "hevc 1080p30 10bit 8M", "h264 720p30 5M", "h264 1080i25 15M", "mjpeg 360p30 6M",
		"h264 1080p60 12M", "h264 1080p30 4:2:2 30M", "h264 720p30 5M x2"} {
		l, err := Parse(line)
		require.NoError(t, err)
		loads = append(loads, l)
	}
	loads[0].File, loads[5].File = "/films/b.mkv", "/films/a.mkv"
	ladder, err := Arrange("given", loads)
	require.NoError(t, err)
	got := map[string][]string{}
	var names []string
	for _, c := range ladder.Columns {
		names = append(names, c.Name)
		for _, l := range c.Rungs {
			got[c.Name] = append(got[c.Name], l.Title())
		}
	}
	require.Equal(t, []string{"mjpeg", "h264", "h264-4:2:2", "h264-interlaced", "hevc-10bit"}, names)
	require.Equal(t, []string{"h264 720p30 5M", "h264 720p30 5M x2", "a.mkv: h264 1080p60 12M", "b.mkv: h264 1080p60 20M"}, got["h264"])
}
