package transcode

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// What cannot be converted is said before anything is made, or as soon as it shows; nothing is left
// behind.
func TestEarlyFailures(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		return path
	}
	whole, err := os.ReadFile(madeClip(t, "h264 240p25 1M", 2))
	require.NoError(t, err)
	out := filepath.Join(dir, "out.mp4")
	for name, c := range map[string]struct{ file, out, want string }{
		"no file":          {filepath.Join(dir, "absent.mp4"), out, "absent.mp4"},
		"an empty file":    {write("empty.mp4", nil), out, "empty.mp4"},
		"a letter":         {write("letter.txt", []byte("Dear crew, the ferry is late.")), out, "letter.txt"},
		"a head alone":     {write("head.mp4", whole[:400]), out, "head.mp4"},
		"a film cut short": {write("cut.mp4", whole[:len(whole)*2/3]), out, "at byte"},
		"a strange ending": {write("film.mp4", whole), filepath.Join(dir, "out.avi"), "no files of this kind are written here"},
		"no such folder":   {write("film.mp4", whole), filepath.Join(dir, "absent", "out.mp4"), "no such file"},
	} {
		_, err := Run(t.Context(), Job{File: c.file, Out: c.out, Copies: 1, Order: Order{Goal: goal(t, "160p 0.2M"), Decoders: 1, Encoders: 1}})
		require.ErrorContains(t, err, c.want, name)
		require.NoFileExists(t, out, name)
		left, err := filepath.Glob(filepath.Join(dir, "*partial*"))
		require.NoError(t, err)
		require.Empty(t, left, name)
	}
}
