package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/verdict"
)

// The first command that a newcomer calls ends well and compares, whatever becomes of
// one rung: here the last clip cannot be made, since a folder is in its place.
func TestDemoGoesOnWithoutItsLastClip(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	s.write("vividstrain-demo/clips/h264-2160p30-40M-1s.mp4/in-the-way", "")
	out := s.ok("demo")
	files, err := filepath.Glob(filepath.Join(s.dir, "vividstrain-demo", "*.json"))
	require.NoError(t, err)
	require.Len(t, files, 5)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	here := document(t, string(text))
	require.Equal(t, "this computer", here.Device.Name)
	require.True(t, here.Complete)
	last := here.Rungs[len(here.Rungs)-1]
	require.Len(t, last.Attempts, 1, "it was tried, for the one below it says nothing of it")
	require.Equal(t, verdict.Void, last.Attempts[0].Verdict)
	require.Equal(t, verdict.VoidClip, last.Attempts[0].Void)
	for _, words := range []string{"h264 2160p30 40M ◌ void ◌ void ○ choppy ● smooth", "ceiling", "ran out", "Breakwater N2 by HTTP", "h264 2160p30 40M was not tried"} {
		require.Contains(t, strings.Join(strings.Fields(out), " "), words)
	}
}
