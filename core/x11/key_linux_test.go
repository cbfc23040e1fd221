package x11_test

import (
	"testing"
	"time"

	"github.com/jezek/xgb/xproto"
	"github.com/stretchr/testify/require"

	"vividstrain/core/x11"
	"vividstrain/core/x11/x11test"
)

// A key goes to the window that has the focus.
func TestPress(t *testing.T) {
	x11test.Display(t)
	s, err := x11.Open()
	require.NoError(t, err)
	defer s.Close()
	window, err := xproto.NewWindowId(s.Conn)
	require.NoError(t, err)
	require.NoError(t, xproto.CreateWindowChecked(s.Conn, s.Screen.RootDepth, window, s.Screen.Root, 0, 0, 100, 100, 0,
		xproto.WindowClassInputOutput, s.Screen.RootVisual, xproto.CwEventMask, []uint32{xproto.EventMaskKeyPress | xproto.EventMaskKeyRelease | xproto.EventMaskExposure}).Check())
	require.NoError(t, xproto.MapWindowChecked(s.Conn, window).Check())
	_, err = s.Conn.WaitForEvent() // it is exposed, so that it can have the focus
	require.Nil(t, err)
	require.NoError(t, xproto.SetInputFocusChecked(s.Conn, xproto.InputFocusPointerRoot, window, xproto.TimeCurrentTime).Check())
	require.NoError(t, x11.Press("Right"))
	pressed := make(chan xproto.KeyPressEvent, 1)
	go func() {
		for {
			event, err := s.Conn.WaitForEvent()
			if e, is := event.(xproto.KeyPressEvent); is {
				pressed <- e
			}
			if event == nil && err == nil {
				return // the connection is closed
			}
		}
	}()
	select {
	case e := <-pressed:
		mapping, err := xproto.GetKeyboardMapping(s.Conn, e.Detail, 1).Reply()
		require.NoError(t, err)
		require.Contains(t, mapping.Keysyms, xproto.Keysym(0xFF53))
	case <-time.After(10 * time.Second):
		require.Fail(t, "no key came")
	}
	require.ErrorContains(t, x11.Press("Forward"), "there is no key \"Forward\"")
}
