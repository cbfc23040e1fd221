package partial

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func age(t *testing.T, path string) {
	then := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(path, then, then))
}

func names(t *testing.T, dir string) (list []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		list = append(list, e.Name())
	}
	return list
}

func TestWholeOrNotAtAll(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "od[d]*")
	require.NoError(t, os.Mkdir(dir, 0o777))
	path := filepath.Join(dir, "a.json")
	require.NoError(t, Write(path, []byte("one")))
	f, err := Create(path)
	require.NoError(t, err)
	_, err = f.WriteString("tw")
	require.NoError(t, err)
	f.Abort()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "one", string(data))
	require.Equal(t, []string{"a.json"}, names(t, dir))
	f.Abort() // again: nothing
	require.ErrorIs(t, Write(filepath.Join(dir, "none", "b"), nil), os.ErrNotExist)
}

// What a killed program left goes; what somebody is writing, or has just begun, stays.
func TestSweepTakesLeftoversAlone(t *testing.T) {
	dir := t.TempDir()
	busy, err := Create(filepath.Join(dir, "busy.mp4"))
	require.NoError(t, err)
	defer busy.Abort()
	age(t, busy.Name())
	left, fresh, own := filepath.Join(dir, ".old.mp4.7.part"), filepath.Join(dir, ".new.mp4.8.part"), filepath.Join(dir, "film.part")
	for _, path := range []string{left, fresh, own} {
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o666))
	}
	age(t, left)
	age(t, own)
	Sweep(dir)
	require.NoFileExists(t, left)
	require.FileExists(t, fresh)
	require.FileExists(t, own, "it is not named as ours are")
	require.FileExists(t, busy.Name())
	require.NoError(t, busy.Commit())
	require.FileExists(t, filepath.Join(dir, "busy.mp4"))
}

func TestTemporaryFoldersThatWereLeft(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	first, err := NewFolder("vs-test-")
	require.NoError(t, err)
	left := filepath.Join(os.TempDir(), "vs-test-left")
	require.NoError(t, os.MkdirAll(filepath.Join(left, "deep"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(left, lockName), nil, 0o666))
	age(t, left)
	age(t, first.Path)
	second, err := NewFolder("vs-test-")
	require.NoError(t, err)
	require.NoDirExists(t, left)
	require.DirExists(t, first.Path)
	require.NoError(t, first.Close())
	require.NoError(t, second.Close())
	require.Empty(t, names(t, os.TempDir()))
}
