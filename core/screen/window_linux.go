package screen

import (
	"fmt"

	"github.com/jezek/xgb/shm"
	"github.com/jezek/xgb/xproto"

	"vividstrain/core/media/picture"
	"vividstrain/core/x11"
)

// Window is a window on an X screen.
type Window struct {
	server        *x11.Server
	window        xproto.Window
	context       xproto.Gcontext
	width, height int
	painter       painter
}

// Open opens a window of a size, or one that fills the screen, with memory for so many pictures. native
// shows them in their own size where that fits.
func Open(title string, width, height, pictures int, full, native bool) (*Window, error) {
	s, err := x11.Open()
	if err != nil {
		return nil, err
	}
	w := &Window{server: s, painter: painter{native: native}, width: min(width, int(s.Screen.WidthInPixels)), height: min(height, int(s.Screen.HeightInPixels))}
	if full {
		w.width, w.height = int(s.Screen.WidthInPixels), int(s.Screen.HeightInPixels)
	}
	if err := w.open(title, pictures, full); err != nil {
		s.Close()
		return nil, fmt.Errorf("the window could not be opened: %w", err)
	}
	return w, nil
}

func (w *Window) open(title string, pictures int, full bool) (err error) {
	s := w.server
	if err := s.Share(pictures * w.bytes()); err != nil {
		return err
	}
	if w.window, err = xproto.NewWindowId(s.Conn); err != nil {
		return err
	}
	override := uint32(0) // no window manager has a say where it fills the screen
	if full {
		override = 1
	}
	err = xproto.CreateWindowChecked(s.Conn, s.Screen.RootDepth, w.window, s.Screen.Root, 0, 0, uint16(w.width), uint16(w.height), 0, xproto.WindowClassInputOutput, s.Screen.RootVisual,
		xproto.CwBackPixel|xproto.CwOverrideRedirect, []uint32{s.Screen.BlackPixel, override}).Check()
	if err != nil {
		return err
	}
	if err := xproto.ChangePropertyChecked(s.Conn, xproto.PropModeReplace, w.window, xproto.AtomWmName, xproto.AtomString, 8, uint32(len(title)), []byte(title)).Check(); err != nil {
		return err
	}
	if w.context, err = xproto.NewGcontextId(s.Conn); err != nil {
		return err
	}
	if err := xproto.CreateGCChecked(s.Conn, w.context, xproto.Drawable(w.window), 0, nil).Check(); err != nil {
		return err
	}
	return xproto.MapWindowChecked(s.Conn, w.window).Check()
}

// Refresh returns the refresh rate of the screen in Hz, 0 where it is not known; an error where there is no
// screen.
func Refresh() (float64, error) {
	s, err := x11.Open()
	if err != nil {
		return 0, err
	}
	defer s.Close()
	return s.Refresh(), nil
}

// bytes returns the memory of a picture.
func (w *Window) bytes() int { return 4 * w.width * w.height }

// Paint scales a picture into the memory of one, as large as fits, with black bars beside it. Different
// ones may be painted and shown at the same time.
func (w *Window) Paint(number int, p *picture.Picture) {
	w.painter.paint(w.server.Memory[number*w.bytes():][:w.bytes()], w.width, w.height, p)
}

// Show puts a painted picture on the screen, and returns when the server has taken it.
func (w *Window) Show(number int) error {
	width, height := uint16(w.width), uint16(w.height)
	return shm.PutImageChecked(w.server.Conn, xproto.Drawable(w.window), w.context, width, height, 0, 0, width, height, 0, 0,
		w.server.Screen.RootDepth, xproto.ImageFormatZPixmap, 0, w.server.Segment, uint32(number*w.bytes())).Check()
}

// Close closes the window.
func (w *Window) Close() error { return w.server.Close() }
