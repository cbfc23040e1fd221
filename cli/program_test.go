package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/recount"
)

// A player is started by its command, here of a shell that needs as long as the film.
func TestClimbOnAPlayer(t *testing.T) {
	s := newSession(t)
	play := "test -s {file} && echo at {seconds} && sleep {seconds}"
	d := document(t, s.ok("climb", "--json", "--start", play, "--shell", "--hold", "2s", "--settle", "0.5s", "--baseline", "0.3s", "h264 240p25 0.5M"))
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
