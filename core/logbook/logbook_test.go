package logbook

import (
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

func plan(t *testing.T) Plan {
	a, err := load.Parse("mjpeg 240p25 4M")
	require.NoError(t, err)
	b, err := load.Parse("mjpeg 720p25 20M")
	require.NoError(t, err)
	return Plan{HoldS: 10, Columns: []load.Column{{Name: "mjpeg", Rungs: []load.Load{a, b}}}}
}

func document(t *testing.T, started time.Time) *Document {
	d := &Document{Schema: Schema, ID: NewID(started), Kind: "climb", Started: started, Plan: plan(t), Notes: []string{}}
	d.FillRungs()
	return d
}

func abandoned(rung int, why search.Purpose, started time.Time, readings []Reading) Attempt {
	return Attempt{Purpose: why, Started: started, Verdict: verdict.Failed, Reasons: []string{"stopped"}, Use: sense.Use{sense.CPU: {N: len(readings)}}}
}

func open(t *testing.T, path string) *Book {
	b, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

func TestRunSurvivesItsProgram(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub folder", "book?.db")
	started := time.Date(2026, 11, 23, 10, 15, 2, 0, time.UTC)
	b := open(t, path)
	d := document(t, started)
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	r.Sample(sense.Sample{At: started.Add(time.Second), Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 12.5}, {Quantity: "bad", Value: math.NaN()}}})
	require.NoError(t, r.StartAttempt(0, search.Explore, started.Add(2*time.Second)))
	r.Sample(sense.Sample{At: started.Add(3 * time.Second), Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPUCore, Label: "1", Value: 99}}})
	require.NoError(t, r.EndAttempt(Attempt{Verdict: verdict.Smooth, Reasons: []string{"fine"}}))
	require.NoError(t, r.StartAttempt(1, search.Explore, started.Add(4*time.Second)))
	r.Sample(sense.Sample{At: started.Add(5 * time.Second), Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 50}}})
	time.Sleep(3 * flushEvery) // the program dies here: nothing is closed

	second := open(t, path)
	id, err := second.Find("")
	require.NoError(t, err)
	got, err := second.Load(id)
	require.NoError(t, err)
	require.False(t, got.Complete)
	require.Len(t, got.Rungs, 2)
	require.Len(t, got.Rungs[0].Attempts, 1)
	require.Equal(t, verdict.Smooth, got.Rungs[0].Attempts[0].Verdict)
	require.Empty(t, got.Rungs[1].Attempts)
	require.Equal(t, []Reading{{AtS: 1, Kind: sense.System, Source: "cpu", Quantity: "cpu_pct", Value: 12.5, Phase: Idle}}, got.Baseline.Readings)
	all, err := second.Readings(got)
	require.NoError(t, err)
	require.Len(t, all, 3)
	require.Equal(t, "cpu_core_pct:1", all[1].Quantity)

	_, err = second.Record(got, abandoned)
	require.ErrorIs(t, err, ErrBusy, "the first one still holds the lock")
	require.NoError(t, b.Close())
	again, err := second.Record(got, abandoned)
	require.NoError(t, err)
	require.Equal(t, verdict.Failed, got.Rungs[1].Attempts[0].Verdict)
	require.Equal(t, started.Add(4*time.Second), got.Rungs[1].Attempts[0].Started)
	got.Complete = true
	require.NoError(t, again.Close())
	trials, err := second.Trials(id)
	require.NoError(t, err)
	require.Equal(t, []search.Trial{{Rung: 0, Smooth: true}, {Rung: 1, Smooth: false}}, trials)
	final, err := second.Load(id)
	require.NoError(t, err)
	require.True(t, final.Complete)
	require.Equal(t, 2, final.Attempts())
}

func TestFind(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	_, err := b.Find("")
	require.ErrorContains(t, err, "no runs yet")
	var ids []string
	for i := range 3 {
		d := document(t, time.Date(2026, 1, 1+i/2, 0, 0, 0, 0, time.UTC))
		r, err := b.Record(d, abandoned)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		ids = append(ids, d.ID)
	}
	newest, err := b.Find("")
	require.NoError(t, err)
	require.Equal(t, ids[2], newest)
	found, err := b.Find("20260102")
	require.NoError(t, err)
	require.Equal(t, ids[2], found)
	_, err = b.Find("20260101")
	require.ErrorContains(t, err, "several runs")
	_, err = b.Find("2025")
	require.ErrorIs(t, err, ErrNoRun)
	_, err = b.Load("2025")
	require.ErrorIs(t, err, ErrNoRun)
	entries, err := b.Runs(Filter{})
	require.NoError(t, err)
	require.Len(t, entries, 3)
	require.Equal(t, ids[2], entries[0].ID)
}

func TestWhatIsNoLogbookIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	text := filepath.Join(dir, "letter.txt")
	require.NoError(t, os.WriteFile(text, []byte("Dear harbour master, the boxes have arrived. Yours, the purser.\n"), 0o666))
	_, err := Open(text)
	require.ErrorContains(t, err, "not a logbook")
	kept, err := os.ReadFile(text)
	require.NoError(t, err)
	require.Contains(t, string(kept), "Dear harbour master")
	_, err = Open(dir)
	require.ErrorContains(t, err, "not a file")
	_, err = Open(filepath.Join(text, "below", "book.db"))
	require.Error(t, err)
}

// BenchmarkSamples is one sample recorded and written to disk.
func BenchmarkSamples(b *testing.B) {
	book, err := Open(filepath.Join(b.TempDir(), "book.db"))
	require.NoError(b, err)
	d := &Document{ID: "x", Started: time.Now()}
	r, err := book.Record(d, abandoned)
	require.NoError(b, err)
	s := sense.Sample{Source: sense.Identity{Kind: sense.System, Name: "cpu"}, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 12.3}, {Quantity: sense.CPUCore, Label: "0", Value: 3}, {Quantity: sense.MemUsed, Value: 5e9}}}
	b.ReportAllocs()
	for b.Loop() {
		s.At = s.At.Add(time.Millisecond)
		r.Sample(s)
	}
	require.NoError(b, r.Close())
}
