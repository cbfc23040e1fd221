package mediaserver

import (
	"encoding/xml"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/clip"
)

// A multivariant playlist offers a film as it is and at goals below it, never above.
func TestVariantsAreBelowTheFilm(t *testing.T) {
	dir := t.TempDir()
	path, err := clip.Clip(t.Context(), dir, clip.Order{Format: parsed(t, "h264 576p25 1M").Format, Seconds: 2, Threads: 2})
	require.NoError(t, err)
	_, address := opened(t, Options{Clips: dir})
	film := address + "/film/" + filepath.Base(path)
	status, text := answer(t, film+"/hls/main.m3u8")
	require.Equal(t, http.StatusOK, status)
	require.True(t, strings.HasPrefix(text, "#EXTM3U\n"))
	sizes := regexp.MustCompile(`RESOLUTION=(\d+x\d+),FRAME-RATE=25.000`).FindAllStringSubmatch(text, -1)
	require.Len(t, sizes, 3)
	for i, want := range []string{"1024x576", "854x480", "426x240"} {
		require.Equal(t, want, sizes[i][1])
	}
	// What it points to is there.
	lines := strings.Split(strings.TrimSpace(text), "\n")
	status, list := answer(t, address+lines[3])
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, list, "#EXT-X-ENDLIST")
	total := 0
	for _, line := range strings.Split(list, "\n") {
		if strings.HasSuffix(line, ".m4s") {
			total++
			status, _ = answer(t, address+line)
			require.Equal(t, http.StatusOK, status, line)
		}
	}
	require.Positive(t, total)
}

// A manifest states what the film is, in times that add up.
func TestManifestAddsUp(t *testing.T) {
	dir := t.TempDir()
	path, err := clip.Clip(t.Context(), dir, clip.Order{Format: parsed(t, "h264 240p25 500k").Format, Seconds: 5, Threads: 2})
	require.NoError(t, err)
	_, address := opened(t, Options{Clips: dir})
	status, text := answer(t, address+"/film/"+filepath.Base(path)+"/dash/as-is/main.mpd")
	require.Equal(t, http.StatusOK, status)
	var m struct {
		Duration string `xml:"mediaPresentationDuration,attr"`
		Set      struct {
			Template struct {
				Timescale int `xml:"timescale,attr"`
				Parts     []struct {
					D int `xml:"d,attr"`
				} `xml:"SegmentTimeline>S"`
			} `xml:"SegmentTemplate"`
			Video struct {
				Width  int    `xml:"width,attr"`
				Rate   string `xml:"frameRate,attr"`
				Codecs string `xml:"codecs,attr"`
			} `xml:"Representation"`
		} `xml:"Period>AdaptationSet"`
	}
	require.NoError(t, xml.Unmarshal([]byte(text), &m))
	require.Equal(t, "PT5.000S", m.Duration)
	sum := 0
	for _, s := range m.Set.Template.Parts {
		sum += s.D
	}
	require.Equal(t, 5*m.Set.Template.Timescale, sum)
	require.Equal(t, 426, m.Set.Video.Width)
	require.Equal(t, "25/1", m.Set.Video.Rate)
	require.Regexp(t, `^avc1\.64[0-9a-f]{4}$`, m.Set.Video.Codecs)
}

// What does not exist, and goals that cannot be, are refused in words.
func TestRequestsThatCannotBeMet(t *testing.T) {
	dir := t.TempDir()
	path, err := clip.Clip(t.Context(), dir, clip.Order{Format: parsed(t, "h264 240p25 500k").Format, Seconds: 1, Threads: 2})
	require.NoError(t, err)
	_, address := opened(t, Options{Clips: dir})
	film := "/film/" + filepath.Base(path)
	for way, want := range map[string]int{
		"/film/absent.mp4/hls/as-is/list.m3u8": http.StatusNotFound,
		"/film/..%2f..%2fetc%2fpasswd":         http.StatusNotFound,
		film + "/hls/tape/list.m3u8":           http.StatusBadRequest,
		film + "/as-is/9999.m4s":               http.StatusNotFound,
		film + "/as-is/minus.m4s":              http.StatusNotFound,
		"/session/nobody/list.m3u8":            http.StatusGone,
		"/session/nobody/0.m4s":                http.StatusGone,
	} {
		status, _ := answer(t, address+way)
		require.Equal(t, want, status, way)
	}
}
