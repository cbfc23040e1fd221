package page

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/link"
)

// Which qualities were shown, for how long, and where it settled.
func TestQualitiesAreAccounted(t *testing.T) {
	a := newAccount(10*time.Second, 2*time.Second, 25)
	a.rates = []float64{25, 25}
	a.take(&message{Say: "event", Kind: "quality", X: 0, At: 0, Text: "it begins there"})
	a.take(&message{Say: "event", Kind: "quality", X: 1, At: 4, Text: "5.0 s in hand and nothing dropped"})
	a.take(&message{Say: "event", Kind: "quality", X: 7, At: 5})
	playedPage{seconds: 10}.report(a)
	got := a.finish().Adaptive
	require.Equal(t, 1, got.Settled)
	require.Equal(t, 1, got.Changes)
	require.InDelta(t, 2, got.Seconds[0], 0.1)
	require.InDelta(t, 6, got.Seconds[1], 0.1)
	require.Len(t, got.Steps, 2, "what is no quality is left out")
	require.InDelta(t, 4, got.Steps[1].AtS, 0.1)
}

// A link that gets worse and better again makes a device step down and up again.
func TestAdaptivePlayingStepsDownAndUp(t *testing.T) {
	browser := chromium(t)
	l, err := link.Parse("6M,0.7M@8s,8M@22s")
	require.NoError(t, err)
	p := opened(t, Options{Clips: t.TempDir(), Link: l})
	pl := route.Plan{Hold: 45 * time.Second, Settle: 2 * time.Second, Adaptive: true}
	for _, line := range []string{"h264 160p25 0.2M", "h264 240p25 0.8M", "h264 360p25 2M"} {
		load, err := load.Parse(line)
		require.NoError(t, err)
		require.NoError(t, p.Prepare(t.Context(), load, nil))
		pl.Loads = append(pl.Loads, load)
	}
	tab(t, browser, p, "")
	result, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Empty(t, result.Failure)
	got := result.Streams[0].Adaptive
	require.NotNil(t, got)
	up, down, again := false, false, false
	for i := 1; i < len(got.Steps); i++ {
		change := got.Steps[i].Quality - got.Steps[i-1].Quality
		again = again || down && change > 0
		down = down || up && change < 0
		up = up || change > 0
	}
	require.True(t, up && down && again, "%+v", got.Steps)
	require.Equal(t, []string{"h264 160p25 200k", "h264 240p25 800k", "h264 360p25 2M"}, got.Qualities)
	require.NotNil(t, result.Streams[0].Steady(), "frames are counted across the changes")
}
