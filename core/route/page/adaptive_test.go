package page

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
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
