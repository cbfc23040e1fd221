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
	events := make(chan any, 2)
	go func() {
		for range 2 {
			event, err := s.Conn.WaitForEvent()
			if err != nil {
				return
			}
			events <- event
		}
	}()
	for range 2 {
		select {
		case event := <-events:
			switch e := event.(type) {
			case xproto.KeyPressEvent:
				mapping, err := xproto.GetKeyboardMapping(s.Conn, e.Detail, 1).Reply()
				require.NoError(t, err)
				require.Contains(t, mapping.Keysyms, xproto.Keysym(0xFF53))
			case xproto.KeyReleaseEvent:
			default:
				require.Fail(t, "another event", "%T", event)
			}
		case <-time.After(10 * time.Second):
			require.Fail(t, "no key came")
		}
	}
	require.ErrorContains(t, x11.Press("Forward"), "there is no key \"Forward\"")
}
