package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/recount"
	"vividstrain/core/run"
	"vividstrain/core/verdict"
)

// A player is started by its command, here of a shell that needs as long as the film.
func TestClimbOnAPlayer(t *testing.T) {
	s := newSession(t)
	play := "test -s {file} && echo at {seconds} && sleep {seconds}"
	d := document(t, s.ok("climb", "--once", "--json", "--start", play, "--shell", "--hold", "2s", "--settle", "0.5s", "--baseline", "0.3s", "h264 240p25 0.5M"))
	require.Equal(t, "program", d.Route.Kind)
	require.Equal(t, map[string]string{"start": play, "shell": "true", "count": "none"}, withoutClips(d.Route.Options))
	for _, a := range d.Rungs[0].Attempts {
		require.Nil(t, a.Frames)
	}
	s.write("vividstrain.yaml", "patterns:\n  ferry: 'at (?P<position_s>[0-9.]+)'\n")
	_, text, status := s.run("climb", "--start", "cat {file}", "--lines", "kayak", "h264 240p25 0.5M")
	require.Equal(t, 2, status)
	require.Contains(t, text, "vividstrain.yaml has it under patterns")
	_, text, status = s.run("climb", "--start", "cat {file}", "--lines", "ferry", "--dry-run", "h264 240p25 0.5M")
	require.Equal(t, 0, status, text)
	s.write("vividstrain.yaml", "patterns: ferry\n")
	_, text, status = s.run("ladders")
	require.Equal(t, 2, status)
	require.Contains(t, text, "patterns must be lines like")
}

// withoutClips returns settings without the folder of clips.
func withoutClips(m map[string]string) map[string]string {
	delete(m, "clips")
	return m
}

func TestRecordingsAreRecounted(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "2", "h264 240p25 0.5M")
	const path = "clips/h264-240p25-500k-2s.mp4"
	text := s.ok("recount", path, "--clip", path)
	for _, part := range []string{"49 of 49 frames due", "0 (0 %)", "none in 50 frames", "begin again after 50"} {
		require.Contains(t, text, part)
	}
	var r recount.Report
	require.NoError(t, json.Unmarshal([]byte(s.ok("recount", "--json", path)), &r))
	require.True(t, r.Screens[0].Guessed)
	require.Equal(t, 0, r.Screens[0].Frames.Dropped)
	for want, args := range map[string][]string{
		"which recording?": {"recount"}, "no such file": {"recount", "away.mp4"}, "--refresh is 1 to 1000 Hz": {"recount", path, "--refresh", "0"},
		"is not": {"recount", path, "--clip", "cli_test.go"},
	} {
		_, text, status := s.run(args...)
		require.Equal(t, 2, status, args)
		require.Equal(t, 1, strings.Count(text, "\n"), text)
		if want != "is not" {
			require.Contains(t, text, want)
		}
	}
}

// shoot records a screen that shows the attempts of a run one after another, at 50 pictures a second, as if
// the frames in dropped were left out of the second one.
func shoot(t *testing.T, path string, attempts []run.Played, dropped ...int) {
	format := media.Format{Codec: "h264", Width: 426, Height: 240, Rate: media.Rate{Num: 50, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: 3e6}
	codec, err := registry.Codec("h264")
	require.NoError(t, err)
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	var muxer media.Muxer
	var encoder media.Encoder
	encoder, err = codec.NewEncoder(media.EncoderSettings{Format: format, KeyEvery: 50}, func(p *media.Packet) error {
		if p.Duration = 1; muxer == nil {
			track, err := encoder.Track()
			require.NoError(t, err)
			track.Timescale = 50
			muxer, err = registry.Write(registry.MP4, file, []media.Track{track}, 0)
			require.NoError(t, err)
		}
		return muxer.WritePacket(p)
	})
	require.NoError(t, err)
	pts := int64(0)
	show := func(p *picture.Picture) {
		require.NoError(t, encoder.Encode(p, pts))
		pts++
	}
	p := picture.New(426, 240, 8, picture.C420)
	for i, a := range attempts {
		film := format
		film.Rate.Num = 25
		stage, err := scene.New(scene.Order{Format: film, Clip: a.Marks.Clip})
		require.NoError(t, err)
		drawer := stage.NewDrawer()
		shown := 0
		for n := range int(25 * (a.Ended.Sub(a.Started).Seconds() - 0.2)) {
			if i != 1 || !slices.Contains(dropped, n) {
				shown = n % a.Marks.Round
			}
			drawer.Draw(p, shown)
			show(p)
			show(p)
		}
		blank := picture.New(426, 240, 8, picture.C420)
		if i+1 < len(attempts) {
			for range int(50 * attempts[i+1].Started.Sub(a.Ended).Seconds()) {
				show(blank)
			}
		}
		for range 10 {
			show(blank)
		}
	}
	require.NoError(t, encoder.Flush())
	require.NoError(t, muxer.Close())
}

// All rungs are played, and judged by the recording of a camera afterwards.
func TestRunIsJudgedByARecording(t *testing.T) {
	s := newSession(t)
	d := document(t, s.ok("climb", "--once", "--json", "--start", "test -s {file} && exec sleep {seconds}", "--shell", "--eye", "later", "--hold", "2s", "--settle", "0.5s", "--baseline", "0s", "h264 240p25 0.5M", "h264 240p25 0.7M"))
	attempts := run.PlayedOf(&d)
	require.Len(t, attempts, 2)
	for _, a := range attempts {
		require.Equal(t, verdict.VoidLater, a.Void)
	}
	require.Contains(t, s.ok("show"), "--into "+d.ID)
	shoot(t, filepath.Join(s.dir, "lounge.mp4"), attempts, 20, 21, 30, 35)
	text := s.ok("recount", "lounge.mp4", "--into", d.ID, "--refresh", "50")
	require.Contains(t, text, "counted in the recording lounge.mp4")
	d = document(t, s.ok("show", "--json"))
	first, second := d.Rungs[0].Attempts[0], d.Rungs[1].Attempts[0]
	require.Equal(t, verdict.Smooth, first.Verdict, first.Reasons)
	if second.Void == verdict.VoidOthers || second.Void == verdict.VoidHost { // others were busy while it played
		require.Contains(t, second.Reasons[0], "without them it may be better than choppy")
	} else {
		require.Equal(t, verdict.Choppy, second.Verdict, second.Reasons)
	}
	require.Equal(t, []int{0, 4}, []int{first.Frames.Dropped, second.Frames.Dropped})
	require.Equal(t, "h264 240p25 500k", d.Ceiling.Load.String())
	require.Equal(t, "lounge.mp4", d.Recording)
	_, text, status := s.run("recount", "lounge.mp4", "--into", d.ID, "--clip", "lounge.mp4")
	require.Equal(t, 2, status)
	require.Contains(t, text, "leave --clip and --settle out")
	s.ok("clips", "build", "--out", "clips", "--seconds", "2", "h264 240p25 0.5M", "--scene", "rain")
	_, text, status = s.run("recount", "clips/h264-240p25-500k-2s-rain.mp4", "--into", d.ID)
	require.Equal(t, 2, status)
	require.Contains(t, text, "is it the recording of that run?")
}
