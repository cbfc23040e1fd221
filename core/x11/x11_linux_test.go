package x11_test

import (
	"errors"
	"testing"

	"github.com/jezek/xgb/xproto"
	"github.com/stretchr/testify/require"

	"vividstrain/core/x11"
	"vividstrain/core/x11/x11test"
)

// A screen is watched, which may fail, while a window is opened on it and keys are pressed. The race
// detector looks on.
func TestConnectionsAtOnce(t *testing.T) {
	x11test.Display(t)
	first, err := x11.Open()
	require.NoError(t, err)
	defer first.Close()
	done := make(chan error, 1)
	go func() {
		var err error
		var missing xproto.DrawableError
		for range 200 {
			if _, err = xproto.GetGeometry(first.Conn, 0).Reply(); !errors.As(err, &missing) {
				break
			}
		}
		done <- err
	}()
	for range 5 {
		next, err := x11.Open()
		require.NoError(t, err)
		require.GreaterOrEqual(t, next.Refresh(), 0.)
		require.NoError(t, x11.Press("Right"))
		require.NoError(t, next.Close())
	}
	var missing xproto.DrawableError
	require.ErrorAs(t, <-done, &missing)
}
