package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
)

// A conversion goes on for as long as it is watched, round and round its clip,
// and is accounted by its viewer.
func TestConversionsAreWatched(t *testing.T) {
	o := Default()
	o.Clips, o.ClipSeconds, o.Ahead = t.TempDir(), 2, 3*time.Second
	e, err := New(o)
	require.NoError(t, err)
	l, err := load.Parse("h264 128x80p25 0.2M x2 -> 128x80p50 0.1M")
	require.NoError(t, err)
	require.NoError(t, e.Check(l))
	require.NoError(t, e.Prepare(t.Context(), l, nil))
	seen := 0
	plan := route.Plan{Loads: []load.Load{l}, Hold: 3 * time.Second, Settle: time.Second, Spread: true}
	result, err := e.Play(t.Context(), plan, func(l route.Live) { seen = max(seen, len(l.Viewers)) })
	require.NoError(t, err)
	require.Empty(t, result.Failure)
	require.Len(t, result.Streams, 2)
	require.Equal(t, 2, seen)
	for _, s := range result.Streams {
		require.Zero(t, s.Buffer.Stalls)
		require.Greater(t, *s.Buffer.BuildRate, 1.05)
		require.InDelta(t, 100, s.Steady().Due, 3, "two seconds at 50 frames")
		require.Greater(t, s.Buffer.MinLeadS, 1.0)
		require.Less(t, s.Buffer.MinLeadS, 4.0)
	}
	l.Goal.Codec = "av1"
	require.ErrorContains(t, e.Check(l), "av1 is not encoded here yet")
}

// Going to a place in a file leads to the key frame before it.
func TestPlacesInAFile(t *testing.T) {
	o := Default()
	o.Clips, o.ClipSeconds = t.TempDir(), 4
	e, err := New(o)
	require.NoError(t, err)
	l, err := load.Parse("h264 240p25 0.5M")
	require.NoError(t, err)
	require.NoError(t, e.Prepare(t.Context(), l, nil))
	f, err := e.film(l)
	require.NoError(t, err)
	file, err := registry.Open(f.path)
	require.NoError(t, err)
	defer file.Close()
	scale := file.Tracks()[0].Timescale
	for at, want := range map[float64]float64{0: 0, 0.5: 0, 1: 1, 2.9: 2, 3.99: 3, 100: 3} {
		require.NoError(t, file.Demuxer.(media.Seeker).SeekTo(0, int64(at*float64(scale))))
		var p media.Packet
		require.NoError(t, file.ReadPacket(&p))
		require.True(t, p.Key)
		require.InDelta(t, want, float64(p.PTS)/float64(scale), 1e-6, "%g s", at)
	}
}
