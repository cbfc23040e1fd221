package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A build that is killed keeps the clips that were whole; the next one makes the others,
// with the bytes that they would have had.
func TestKilledBuildGoesOn(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	orders := []string{"h264 240p25 400k", "h264 360p25 1M", "h264 1080p25 8M"}
	build := func(dir string) []string {
		return append([]string{"clips", "build", "--seconds", "2", "--out", dir}, orders...)
	}
	first := filepath.Join(s.dir, "clips", "h264-240p25-400k-2s.mp4")
	last := filepath.Join(s.dir, "clips", "h264-1080p25-8M-2s.mp4")
	c := s.command(build("clips")...)
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(s.dir, "clips", "h264-360p25-1M-2s.mp4"))
		return err == nil
	}, 2*time.Minute, 20*time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGKILL))
	require.Error(t, c.Wait())
	require.NoFileExists(t, last, "a half clip has no name of its own")
	before, err := os.Stat(first)
	require.NoError(t, err)

	out := s.ok(build("clips")...)
	require.Equal(t, 3, strings.Count(out, "\n"))
	after, err := os.Stat(first)
	require.NoError(t, err)
	require.Equal(t, before.ModTime(), after.ModTime(), "what was whole is kept")
	require.FileExists(t, last)
	require.Equal(t, 3, strings.Count(s.ok("clips", "verify", "clips"), "● as made"))
	s.ok(build("anew")...)
	for _, name := range []string{filepath.Base(first), filepath.Base(last)} {
		a, err := os.ReadFile(filepath.Join(s.dir, "clips", name))
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(s.dir, "anew", name))
		require.NoError(t, err)
		require.True(t, bytes.Equal(a, b), name)
	}
}

// How a clip is coded is in its name, in the manifest and in the stream itself.
func TestCodingIsAsOrdered(t *testing.T) {
	s := newSession(t)
	for _, c := range []struct {
		flags, file string
		says        []string
	}{
		{"--effort good", "h264-240p25-600k-1s-good-b1.mp4", []string{"CABAC", "up to 1 in a row"}},
		{"--effort good --b-frames 0", "h264-240p25-600k-1s-good.mp4", []string{"B frames    none", "3 reference frames"}},
		{"--effort good --key-every 1", "h264-240p25-600k-1s-good-intra.mp4", []string{"every frame"}},
		{"--b-frames 3 --slices 2 --cavlc", "h264-240p25-600k-1s-b3-slices2-cavlc.mp4", []string{"up to 3 in a row, in 2 levels", "CAVLC, 2 slices a picture"}},
		{"--key-every 5 --references 4", "h264-240p25-600k-1s-key5-ref4.mp4", []string{"at most 5 frames apart", "4 reference frames"}},
	} {
		order := "h264 240p25 600k"
		if strings.Contains(c.flags, "key-every") {
			order = "h264 240p25 2M"
			c.file = strings.Replace(c.file, "600k", "2M", 1)
		}
		s.ok(append(append([]string{"clips", "build", "--out", "clips", "--seconds", "1"}, strings.Fields(c.flags)...), order)...)
		told := s.ok("inspect", filepath.Join("clips", c.file))
		for _, part := range c.says {
			require.Contains(t, told, part, c.flags)
		}
	}
	var manifest struct {
		Clips []struct{ File, Load string }
	}
	require.NoError(t, json.Unmarshal([]byte(s.ok("clips", "list", "--json", "clips")), &manifest))
	require.Len(t, manifest.Clips, 5)
}

// A bitrate that cannot be reached is told with what can, and does not keep the other
// clips from being made.
func TestRateOutOfReach(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	out, errOut, status := s.run("clips", "build", "--out", "clips", "--seconds", "1", "h264 240p25 150M", "h264 240p25 500k")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "at the finest quality it has")
	require.Contains(t, out, "h264-240p25-500k-1s.mp4")
	require.Equal(t, 1, strings.Count(out, "\n"))
}
