package clock

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestVirtualCallsTickersInOrder(t *testing.T) {
	start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	v := NewVirtual(start)
	var calls []string
	stop := v.Every(300*time.Millisecond, func(now time.Time) {
		calls = append(calls, "a"+now.Sub(start).String())
	})
	v.Every(500*time.Millisecond, func(now time.Time) {
		calls = append(calls, "b"+now.Sub(start).String())
	})
	require.NoError(t, v.Sleep(t.Context(), time.Second))
	stop()
	require.NoError(t, v.Sleep(t.Context(), 500*time.Millisecond))
	require.Equal(t, []string{"a300ms", "b500ms", "a600ms", "a900ms", "b1s", "b1.5s"}, calls)
	require.Equal(t, start.Add(1500*time.Millisecond), v.Now())
}

func TestVirtualStaysWhenCancelledOrInThePast(t *testing.T) {
	start := time.Unix(1000, 0)
	v := NewVirtual(start)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, v.Sleep(ctx, time.Second), context.Canceled)
	v.AdvanceTo(start.Add(-time.Hour))
	require.Equal(t, start, v.Now())
}

func TestRealEveryStops(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var r Real
		calls := 0
		stop := r.Every(250*time.Millisecond, func(time.Time) { calls++ })
		require.NoError(t, r.Sleep(t.Context(), 1100*time.Millisecond))
		stop()
		require.Equal(t, 4, calls)
		require.NoError(t, r.Sleep(t.Context(), time.Second))
		require.Equal(t, 4, calls)
		stop() // a second stop is harmless
	})
}
