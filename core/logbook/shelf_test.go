package logbook

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

// A logbook of version 2, which had no summaries, is listed as it was, and the next time quickly.
func TestVersion2(t *testing.T) {
	path := copied(t, "version2.db")
	require.Equal(t, 2, versionOf(t, path))
	b := open(t, path)
	require.Equal(t, 3, versionOf(t, path))
	for _, list := range []func(Filter) ([]Entry, error){b.Runs, b.Heads} {
		entries, err := list(Filter{})
		require.NoError(t, err)
		require.Len(t, entries, 2)
		require.Equal(t, "h264 720p25 5M", entries[0].Plan.Crowd.Mix[0].String())
		require.Equal(t, "Skerry S1", entries[1].Device.Name)
		require.Equal(t, "h264 720p25 4M", entries[1].Ceiling.Load.String())
	}
	heads, err := b.Heads(Filter{Kind: "climb"})
	require.NoError(t, err)
	require.Equal(t, 4, heads[0].Attempts)
	require.NotEmpty(t, heads[0].Criteria)
}

// Names, tags and sets are kept, found and filtered; a run that is taken over is the same; what is
// deleted is gone with all its readings.
func TestShelf(t *testing.T) {
	b := open(t, copied(t, "version2.db"))
	entries, err := b.Runs(Filter{})
	require.NoError(t, err)
	crowd, climb := entries[0].ID, entries[1].ID
	require.NoError(t, b.Change(climb, func(d *Document) { d.Name, d.Tags, d.Sets = "lounge", []string{"warm"}, []string{"boats"} }))
	require.NoError(t, b.Change(crowd, func(d *Document) { d.Sets = []string{"boats"} }))
	id, err := b.Find("lounge")
	require.NoError(t, err)
	require.Equal(t, climb, id)
	ids, err := b.Named("boats")
	require.NoError(t, err)
	require.Equal(t, []string{climb, crowd}, ids, "oldest first")
	for name, c := range map[string]struct {
		filter Filter
		want   int
	}{
		"device": {Filter{Device: "SKERRY"}, 1}, "kind": {Filter{Kind: "crowd"}, 1}, "route": {Filter{Route: "page"}, 0}, "tag": {Filter{Tag: "warm"}, 1},
		"set": {Filter{Set: "boats"}, 2}, "since": {Filter{Since: entries[1].Started.Add(time.Hour)}, 0}, "both": {Filter{Set: "boats", Kind: "climb"}, 1},
	} {
		list, err := b.Runs(c.filter)
		require.NoError(t, err)
		require.Len(t, list, c.want, name)
	}

	d, err := b.Load(climb)
	require.NoError(t, err)
	require.Len(t, d.Rungs[0].Attempts, 2, "the change left the attempts alone")
	d.Readings, err = b.Readings(d)
	require.NoError(t, err)
	require.NotEmpty(t, d.Readings)
	other := open(t, filepath.Join(t.TempDir(), "other.db"))
	require.NoError(t, other.Add(d))
	require.ErrorIs(t, other.Add(d), ErrThere)
	same, err := other.Load(climb)
	require.NoError(t, err)
	same.Readings, err = other.Readings(same)
	require.NoError(t, err)
	require.Equal(t, d, same)

	require.NoError(t, b.Delete(climb))
	_, err = b.Load(climb)
	require.ErrorIs(t, err, ErrNoRun)
	var left int
	require.NoError(t, b.db.QueryRow("SELECT (SELECT count(*) FROM samples WHERE run = ?1) + (SELECT count(*) FROM attempts WHERE run = ?1)", climb).Scan(&left))
	require.Zero(t, left)
}

// A run that is being measured is neither changed nor deleted.
func TestRunsUnderWayAreLeftAlone(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "book.db"))
	d := document(t, time.Now())
	r, err := b.Record(d, abandoned)
	require.NoError(t, err)
	r.Sample(sense.Sample{At: time.Now(), Source: sense.Identity{Kind: "x", Name: "y"}})
	require.ErrorIs(t, b.Change(d.ID, func(*Document) {}), ErrBusy)
	require.ErrorIs(t, b.Delete(d.ID), ErrBusy)
	require.NoError(t, r.Close())
	require.NoError(t, b.Delete(d.ID))
}
