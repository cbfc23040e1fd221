package text

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/inspect"
)

// lines are the drawn lines of one file, by what they tell.
func lines(r inspect.Report) map[string]string {
	told := map[string]string{}
	for _, line := range strings.Split(strings.TrimRight((Style{}).Inspect([]inspect.Report{r}), "\n"), "\n") {
		what, text, _ := strings.Cut(line, "  ")
		told[what] = strings.TrimSpace(text)
	}
	return told
}

func TestOneFileIsToldLineByLine(t *testing.T) {
	r := inspect.Report{File: "pier.mkv", Container: "mkv", SizeBytes: 12_600_000, Codec: "h264", Profile: "High 10", Level: "4.1",
		Width: 1920, Height: 1080, Depth: 10, Chroma: "4:2:0", Scan: "progressive", FrameRate: 25, Constant: true,
		Colour: &inspect.Colour{Primaries: "BT.2020", Transfer: "PQ", Matrix: "BT.2020"}, HDR: &inspect.HDR{MasterMaxCDM2: 1000, MasterMinCDM2: 0.005, MaxCLL: 900, MaxFALL: 300},
		BitrateBPS: 10e6, BusiestBPS: 12.5e6, DurationS: 10, Frames: 250, KeyFrames: 10, KeyMax: 25, IDRs: 10,
		BRun: 3, BDepth: 2, References: 4, Entropy: "CABAC", Slices: 1,
		Audio: []inspect.Audio{{Codec: "aac", Channels: 2, RateHz: 48000}, {Codec: "opus"}}, Load: "h264 1080p25 10bit hdr 10M"}
	told := lines(r)
	for what, want := range map[string]string{
		"file":       "pier.mkv, mkv, 13 MB",
		"codec":      "h264 High 10 @ 4.1",
		"rate":       "25 frames/s, constant",
		"length":     "10.00 s, 250 frames",
		"bitrate":    "10 Mb/s on average, 12.5 Mb/s in the busiest second",
		"key frames": "10, at most 25 frames apart, closed GOPs",
		"B frames":   "up to 3 in a row, in 2 levels",
		"coding":     "CABAC, 1 slice a picture, 4 reference frames",
		"colour":     "primaries BT.2020, transfer PQ, matrix BT.2020, limited range",
		"light":      "mastered for 0.005 to 1000 cd/m2; brightest sample 900, brightest frame 300 cd/m2",
		"load line":  "h264 1080p25 10bit hdr 10M",
	} {
		require.Equal(t, want, told[what], what)
	}
	require.Contains(t, told["picture"], "1920x1080, progressive, 10 bit 4:2:0")
	require.Equal(t, "opus", told["audio"], "the last of two audio tracks")
	require.Contains(t, (Style{}).Inspect([]inspect.Report{r}), "aac, 48 kHz, 2 channels")
	r.LevelNeeded = "5.1"
	require.Contains(t, (Style{}).Inspect([]inspect.Report{r}), "h264 High 10 @ 4.1 (its size, rate and bitrate need 5.1: a device that goes by the level may fail)")
}

// What is otherwise is said otherwise, and what a file does not have is left out or said
// to be missing.
func TestOneFileInOtherWords(t *testing.T) {
	told := lines(inspect.Report{File: "a.264", Container: "raw", Codec: "h264", Width: 720, Height: 576, Scan: "interlaced (MBAFF)",
		FrameRate: 25, RateAssumed: true, BitrateBPS: 900, BusiestBPS: 1e3, DurationS: 1, Frames: 25, KeyFrames: 5, KeyMax: 5, IDRs: 1, OpenGOP: true,
		Entropy: "CAVLC", Slices: 4, References: 1, Colour: &inspect.Colour{Primaries: "BT.709", Transfer: "BT.709", Matrix: "BT.709", FullRange: true}})
	require.Equal(t, "25 frames/s, assumed: the file does not say", told["rate"])
	require.Equal(t, "5, at most 5 frames apart, 1 of them IDR, open GOPs", told["key frames"])
	require.Equal(t, "none", told["B frames"])
	require.Equal(t, "CAVLC, 4 slices a picture, 1 reference frame", told["coding"])
	require.Equal(t, "BT.709, full range", told["colour"])
	require.Equal(t, "900 b/s on average, 1 kb/s in the busiest second", told["bitrate"])
	require.Equal(t, "none", told["audio"])
	require.NotContains(t, told, "light")
	require.NotContains(t, told, "load line")

	told = lines(inspect.Report{File: "a.mp4", Container: "mp4", Codec: "mjpeg", Width: 64, Height: 64, Scan: "progressive", FrameRate: 29.9, Frames: 30, KeyFrames: 30, BitrateBPS: 1e6})
	require.Equal(t, "every frame", told["key frames"])
	require.Contains(t, told["rate"], "on average, not constant")
	require.NotContains(t, told, "coding", "of a codec that has no such thing")
	require.NotContains(t, told, "colour")
}
