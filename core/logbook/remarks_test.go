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

// A logbook of a version without remarks takes them, too.
func TestOldLogbookTakesRemarks(t *testing.T) {
	path := filepath.Join(t.TempDir(), "book.db")
	b := open(t, path)
	d := document(t, time.Now())
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	require.NoError(t, b.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("DROP TABLE remarks")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	b = open(t, path)
	require.NoError(t, b.Remark(d.ID, Remark{At: time.Now(), Kind: Picture}))
	got, err := b.Load(d.ID)
	require.NoError(t, err)
	require.Len(t, got.Remarks, 1)
	require.NoError(t, os.Remove(path+".lock"))
}

// The readings of the idle device are dealt out to before and behind the rungs.
func TestIdleReadingsBeforeAndAfter(t *testing.T) {
	started := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	d := document(t, started)
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	read := func(s int, v float64) {
		r.Sample(sense.Sample{At: started.Add(time.Duration(s) * time.Second), Source: "cpu", Readings: []sense.Reading{{Quantity: sense.CPU, Value: v}}})
	}
	read(1, 5)
	require.NoError(t, r.StartAttempt(0, search.Explore, started.Add(2*time.Second)))
	read(3, 90)
	require.NoError(t, r.EndAttempt(Attempt{Verdict: verdict.Smooth}))
	r.Idle()
	d.After = &Baseline{FromS: 4}
	read(5, 7)
	require.NoError(t, r.Close())
	got, err := b.Load(d.ID)
	require.NoError(t, err)
	require.Equal(t, []Reading{{AtS: 1, Source: "cpu", Quantity: sense.CPU, Value: 5}}, got.Baseline.Readings)
	require.Equal(t, []Reading{{AtS: 5, Source: "cpu", Quantity: sense.CPU, Value: 7}}, got.After.Readings)
	all, err := b.Readings(got)
	require.NoError(t, err)
	require.Len(t, all, 3)
}
