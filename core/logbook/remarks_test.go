package logbook

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Remarks are kept by their time, with the load that was being played, also
// those that come while the run is written.
func TestRemarks(t *testing.T) {
	started := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	d := document(t, started)
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	require.NoError(t, r.StartAttempt(0, search.Explore, started.Add(2*time.Second)))
	require.NoError(t, b.Remark(d.ID, Remark{At: started.Add(5 * time.Second), Kind: Stutter}))
	require.NoError(t, r.EndAttempt(Attempt{Started: started.Add(2 * time.Second), Verdict: verdict.Smooth}))
	require.NoError(t, b.Remark(d.ID, Remark{At: started.Add(time.Second), Kind: Note, Text: "lights out", Readings: map[string]float64{"noise_db": 31}}))
	require.NoError(t, r.Close())
	got, err := b.Load(d.ID)
	require.NoError(t, err)
	require.Len(t, got.Remarks, 2)
	require.Equal(t, "lights out", got.Remarks[0].Text)
	require.Equal(t, 31.0, got.Remarks[0].Readings["noise_db"])
	require.Empty(t, got.Remarks[0].Load, "nothing was played yet")
	require.Equal(t, 5.0, got.Remarks[1].AtS)
	require.Equal(t, "mjpeg 240p25 4M", got.Remarks[1].Load)
	require.Error(t, b.Remark("no such run", Remark{}))
}

// A logbook that an older version wrote is brought up to this one: nothing of it is lost,
// and it takes what this version writes.
func TestOldLogbook(t *testing.T) {
	old, err := os.ReadFile("testdata/version0.db")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "book.db")
	require.NoError(t, os.WriteFile(path, old, 0o666))
	b := open(t, path)
	entries, err := b.Runs(Filter{})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	crowd, err := b.Load(entries[0].ID)
	require.NoError(t, err)
	require.Equal(t, 4, crowd.Crowd.Highest)
	require.Equal(t, 4, *crowd.Crowd.Comfortable)
	require.InDelta(t, 6.2, *crowd.Crowd.CostCPU, 0.2, "a field that has another name now")
	require.Equal(t, "dark scene", crowd.Remarks[0].Text)
	climb, err := b.Load(entries[1].ID)
	require.NoError(t, err)
	require.Equal(t, "h264 1080p50 20M", climb.Ceiling.Load.String())
	require.Len(t, climb.Baseline.Readings, 48)
	require.Len(t, climb.After.Readings, 48)
	trials, err := b.Trials(climb.ID)
	require.NoError(t, err)
	require.Len(t, trials, 5)
	require.NoError(t, b.Remark(climb.ID, Remark{At: climb.Started.Add(2 * time.Second), Kind: Picture}))
	d := document(t, time.Now())
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	r.Sample(sense.Sample{At: time.Now(), Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 1}}})
	require.NoError(t, r.Close())
	require.NoError(t, b.Close())
	b = open(t, path)
	got, err := b.Load(climb.ID)
	require.NoError(t, err)
	require.Len(t, got.Remarks, 1)
}

// A logbook of a newer version is left as it is.
func TestNewerLogbook(t *testing.T) {
	path := filepath.Join(t.TempDir(), "book.db")
	require.NoError(t, open(t, path).Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(path)
	require.ErrorContains(t, err, "newer version")
}

// Of a run that has ended, a note that comes later belongs to no load.
func TestRemarksOutsideTheRun(t *testing.T) {
	started := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return started.Add(time.Duration(s) * time.Second) }
	d := document(t, started)
	d.Rungs[0].Attempts = []Attempt{{Started: at(2), Ended: at(12)}}
	d.Rungs[1].Attempts = []Attempt{{Started: at(14), Ended: at(24)}}
	first, second := d.Rungs[0].Load.String(), d.Rungs[1].Load.String()
	for s, want := range map[int]string{1: "", 5: first, 13: first, 20: second, 30: second, 600: ""} {
		require.Equal(t, want, d.playedAt(at(s)), "%d s, a run that goes on or was interrupted", s)
	}
	ended := at(28)
	d.Ended = &ended
	require.Equal(t, second, d.playedAt(at(27)))
	require.Empty(t, d.playedAt(at(29)))
	require.Empty(t, d.playedAt(at(-5)))
}

// A book that records a run says so itself, and keeps its lock.
func TestRecordingBookKeepsItsLock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "book.db")
	b := open(t, path)
	require.False(t, b.Recording())
	r, err := b.Record(document(t, time.Now()), abandoned)
	require.NoError(t, err)
	require.True(t, b.Recording())
	_, err = open(t, path).Record(document(t, time.Now()), abandoned)
	require.ErrorIs(t, err, ErrBusy)
	require.NoError(t, r.Close())
	require.False(t, b.Recording())
}

func TestNoBookIsMadeToReadIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "x.db")
	_, err := OpenExisting(path)
	require.ErrorIs(t, err, ErrNoBook)
	require.NoDirExists(t, filepath.Dir(path))
}

// A logbook with a hole is called damaged, not something else.
func TestDamagedLogbook(t *testing.T) {
	data, err := os.ReadFile("testdata/version0.db")
	require.NoError(t, err)
	for name, from := range map[string]int{"pages": 100, "head": 0} {
		path := filepath.Join(t.TempDir(), name)
		bad := append([]byte(nil), data...)
		for i := from; i < from+60 || from > 0 && i < len(bad); i++ {
			bad[i] = byte(i * 7)
		}
		require.NoError(t, os.WriteFile(path, bad, 0o666))
		b, err := Open(path)
		if err == nil {
			_, err = b.Runs(Filter{})
			b.Close()
		}
		require.ErrorContains(t, err, "damaged", name)
	}
}

// The readings of the idle device are dealt out to before and after the rungs, what was read at rest and while clips were made to neither.
func TestIdleReadingsBeforeAndAfter(t *testing.T) {
	started := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	d := document(t, started)
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	read := func(s int, v float64) {
		r.Sample(sense.Sample{At: started.Add(time.Duration(s) * time.Second), Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: v}}})
	}
	read(0, 50)
	require.NoError(t, r.flush())
	require.NoError(t, r.BeginBaseline(), "what was read before it was interrupted does not count")
	read(1, 5)
	require.NoError(t, r.StartAttempt(0, search.Explore, started.Add(2*time.Second)))
	read(3, 90)
	require.NoError(t, r.EndAttempt(Attempt{Verdict: verdict.Smooth}))
	read(4, 60) // at rest
	r.Enter(Preparing)
	read(4, 99)
	r.Enter(Afterward)
	d.After = &Baseline{FromS: 4}
	read(5, 7)
	require.NoError(t, r.Close())
	got, err := b.Load(d.ID)
	require.NoError(t, err)
	require.Equal(t, []Reading{{AtS: 1, Kind: sense.System, Source: "cpu", Quantity: sense.CPU, Value: 5, Phase: Idle}}, got.Baseline.Readings)
	require.Equal(t, []Reading{{AtS: 5, Kind: sense.System, Source: "cpu", Quantity: sense.CPU, Value: 7, Phase: Afterward}}, got.After.Readings)
	all, err := b.Readings(got)
	require.NoError(t, err)
	all = all[1:]
	require.Len(t, all, 5)
	require.Equal(t, []Phase{Idle, Trying, Resting, Preparing, Afterward}, []Phase{all[0].Phase, all[1].Phase, all[2].Phase, all[3].Phase, all[4].Phase})
}
