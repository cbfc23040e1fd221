package logbook

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

// copied is a file of testdata in a folder that may be written to.
func copied(t *testing.T, name string) string {
	data, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "book.db")
	require.NoError(t, os.WriteFile(path, data, 0o666))
	return path
}

// versionOf reads the number of a file's tables without opening it as a logbook.
func versionOf(t *testing.T, path string) (n int) {
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow("PRAGMA user_version").Scan(&n))
	return n
}

// The runs of version 1, which did not tell the kind of sources, are read as they were.
func TestVersion1(t *testing.T) {
	path := copied(t, "version1.db")
	require.Equal(t, 1, versionOf(t, path))
	b := open(t, path)
	require.Equal(t, 3, versionOf(t, path))
	entries, err := b.Runs(Filter{})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	crowd, err := b.Load(entries[0].ID)
	require.NoError(t, err)
	require.Equal(t, "crowd", crowd.Kind)
	require.Equal(t, 15, crowd.Crowd.Highest)
	require.Equal(t, "simulated", crowd.Route.Kind, "the word of then is read as that of now")
	climb, err := b.Load(entries[1].ID)
	require.NoError(t, err)
	require.Equal(t, "h264 1080p50 20M", climb.Ceiling.Load.String())
	require.Len(t, climb.Rungs, 12)
	require.Equal(t, 11, climb.Attempts())
	require.Equal(t, "dark scene", climb.Remarks[0].Text)
	for _, rung := range climb.Rungs {
		for _, a := range rung.Attempts {
			require.NotNil(t, a.Frames, "frames were always counted then")
			require.NotNil(t, a.StartS)
		}
	}
	readings, err := b.Readings(climb)
	require.NoError(t, err)
	require.NotEmpty(t, readings)
	for _, r := range readings {
		require.Empty(t, r.Kind)
		require.Equal(t, "standin", r.Source)
	}
}

// Before a step the file is copied as it is, with what only the write-ahead log has; a copy that
// is there already is the older one and stays.
func TestCopyIsKeptBeforeAStep(t *testing.T) {
	path := copied(t, "version1.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, text := range []string{"PRAGMA journal_mode = WAL", `UPDATE runs SET document = json_set(document, '$.device.name', 'in the log only')`} {
		_, err = db.Exec(text)
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(path+".version1.partial", []byte("half a copy"), 0o666))
	require.NoError(t, open(t, path).Close())
	require.NoError(t, db.Close())
	kept := path + ".version1"
	require.Equal(t, 1, versionOf(t, kept))
	require.NoFileExists(t, kept+".partial")
	old, err := sql.Open("sqlite", kept)
	require.NoError(t, err)
	var device string
	require.NoError(t, old.QueryRow("SELECT document ->> '$.device.name' FROM runs").Scan(&device))
	require.Equal(t, "in the log only", device)
	require.NoError(t, old.Close())

	again := filepath.Join(t.TempDir(), "book.db")
	data, err := os.ReadFile("testdata/version0.db")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(again, data, 0o666))
	require.NoError(t, os.WriteFile(again+".version0", []byte("of before"), 0o666))
	require.NoError(t, open(t, again).Close())
	text, err := os.ReadFile(again + ".version0")
	require.NoError(t, err)
	require.Equal(t, "of before", string(text))
}

// A new logbook is not copied, nor one that is up to date.
func TestNoCopyWithoutAStep(t *testing.T) {
	path := filepath.Join(t.TempDir(), "book.db")
	require.NoError(t, open(t, path).Close())
	require.NoError(t, open(t, path).Close())
	found, err := filepath.Glob(path + ".version*")
	require.NoError(t, err)
	require.Empty(t, found)
}

// Where no copy can be written, nothing is changed.
func TestNoStepWithoutACopy(t *testing.T) {
	path := copied(t, "version1.db")
	require.NoError(t, os.MkdirAll(filepath.Join(path+".version1.partial", "in the way"), 0o777))
	_, err := Open(path)
	require.Error(t, err)
	require.Equal(t, 1, versionOf(t, path))
}

// What was recorded is read back by time: from one moment up to another, in order, flushed or not.
func TestReadBack(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	start := time.Date(2026, 8, 3, 10, 0, 0, 0, time.UTC)
	r, err := b.Record(document(t, start), abandoned)
	require.NoError(t, err)
	defer r.Close()
	at := func(i int) time.Time { return start.Add(time.Duration(i) * 250 * time.Millisecond) }
	for i := range 20 {
		r.Sample(sense.Sample{At: at(i), Source: sense.Identity{Kind: sense.System, Name: "cpu"},
			Readings: []sense.Reading{{Quantity: sense.CPU, Value: float64(i)}, {Quantity: sense.CPUCore, Label: "1", Value: 2 * float64(i)}}})
	}
	var got []sense.Sample
	require.NoError(t, r.ReadBack(at(4), at(7), func(s *sense.Sample) { got = append(got, *s) }))
	require.Len(t, got, 3, "the end is not in it")
	require.Equal(t, at(4).UnixMicro(), got[0].At.UnixMicro())
	require.Equal(t, sense.Identity{Kind: sense.System, Name: "cpu"}, got[0].Source)
	require.ElementsMatch(t, []sense.Reading{{Quantity: "cpu_pct", Value: 6}, {Quantity: "cpu_core_pct:1", Value: 12}}, got[2].Readings)
	got = nil
	require.NoError(t, r.ReadBack(at(100), at(200), func(s *sense.Sample) { got = append(got, *s) }))
	require.Empty(t, got)
}
