package engine

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/eye"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/tally"
	"vividstrain/core/x11/x11test"
)

// What the engine shows in its window is what is seen on the screen.
func TestPicturesReachTheScreen(t *testing.T) {
	x11test.Display(t)
	o := Default()
	o.Clips, o.Screen, o.Fit = t.TempDir(), "window", "fit"
	e, err := New(o)
	require.NoError(t, err)
	l, err := load.Parse("h264 320x180p25 500k")
	require.NoError(t, err)
	require.NoError(t, e.Prepare(t.Context(), l, nil))
	watcher, err := eye.Open("x11:vividstrain")
	require.NoError(t, err)
	defer watcher.Close()
	var r route.Result
	var seen *tally.Watched
	for range 5 {
		// If this computer was busy with other things for as long as half of the clip, nobody knows
		// which round of it was seen after that: play it again.
		if r, seen = playWatched(t, e, l, watcher); seen.Watching().WidestMS < 500 {
			break
		}
	}
	f, w := r.Streams[0].Steady(), seen.Sum()
	require.InDelta(t, 50, f.Shown+f.Dropped, 1)
	require.Equal(t, 0, f.Wrong+w.Wrong)
	require.InDelta(t, f.Shown, w.Shown+w.Unread, 5) // its window is found a little after it is there
	require.Len(t, r.Notes, 1)
	require.Regexp(t, `^a frame took [0-9.]+ ms of decoding, [0-9.]+ ms of scaling and [0-9.]+ ms of drawing`, r.Notes[0])
}

// playWatched plays a load for two seconds while somebody looks at the screen.
func playWatched(t *testing.T, e *Engine, l load.Load, watcher eye.Eye) (route.Result, *tally.Watched) {
	seen := tally.NewWatched(tally.WatchedConfig{Refresh: 60, Rate: tally.Constant{Num: 25, Den: 1}, Round: 50})
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan eye.Report, 1)
	go func() { done <- eye.Watch(ctx, watcher, seen) }()
	r, err := e.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: 2 * time.Second}, func(route.Live) {})
	cancel()
	require.NoError(t, err)
	require.NoError(t, (<-done).Err)
	return r, seen
}

func TestWhatAScreenRefuses(t *testing.T) {
	t.Setenv("DISPLAY", "")
	o := Default()
	o.Screen, o.Fit = "window", "fit"
	_, err := New(o)
	require.ErrorContains(t, err, "--screen window: there is no X server")
	x11test.Display(t)
	for _, wrong := range []func(o *Options){func(o *Options) { o.Screen = "half" }, func(o *Options) { o.Fit = "loose" }} {
		o := o
		wrong(&o)
		_, err := New(o)
		require.Error(t, err)
	}
	e, err := New(o)
	require.NoError(t, err)
	for _, line := range []string{"h264 360p25 1M x2", "h264 360p25 1M -> 240p 0.5M"} {
		l, err := load.Parse(line)
		require.NoError(t, err)
		require.ErrorContains(t, e.Check(l), "--screen", line)
	}
	back, err := FromOptions(e.Options())
	require.NoError(t, err)
	require.Equal(t, []string{"window", "fit"}, []string{back.Screen, back.Fit})
}
