package eye

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jezek/xgb/shm"
	"github.com/jezek/xgb/xproto"

	"vividstrain/core/x11"
)

// watcher watches the root window of an X server, or one window.
type watcher struct {
	server  *x11.Server
	title   string
	refresh float64

	window xproto.Window // 0: not found yet
	found  bool
	at     Place
	missed int       // looks at the strip in which nothing was read
	looked time.Time // when the whole window was last searched
	flat   bool      // it was of one colour then

	looks, torn int
	tornAt      int // frame
}

// Times and bounds of looking.
const (
	searchEvery = 100 * time.Millisecond
	maxMissed   = 20
	usualRate   = 60.
	checkEvery  = 4 // looks, of which one compares both strips: a torn picture stays for several
)

func openX11(title string) (Eye, error) {
	s, err := x11.Open()
	if err != nil {
		return nil, fmt.Errorf("--eye x11: %w; read it with a capture card (--eye capture:/dev/video0), or record it (--eye later)", err)
	}
	if err := s.Share(4 * int(s.Screen.WidthInPixels) * int(s.Screen.HeightInPixels)); err != nil {
		s.Close()
		return nil, fmt.Errorf("--eye x11: %w", err)
	}
	return &watcher{server: s, title: title, tornAt: -1, refresh: cmp.Or(s.Refresh(), usualRate)}, nil
}

// Refresh implements [Eye].
func (e *watcher) Refresh() float64 { return e.refresh }

// Close implements [Eye].
func (e *watcher) Close() error { return e.server.Close() }

// Why implements [Eye].
func (e *watcher) Why() string {
	switch {
	case e.window == 0:
		return fmt.Sprintf("there is no window whose title has %q", e.title)
	case e.flat:
		return "the screen reads as one colour: the player draws past the windows. Have it draw into its window, read the screen with a capture card (--eye capture:/dev/video0), or record it (--eye later)"
	}
	return "no marks of our clips are on the screen: it must show the whole picture, with its upper and lower edge"
}

// Look implements [Eye]. Once the picture was found, only the rows of its marks are read.
func (e *watcher) Look() (number int, ok bool, at time.Time, err error) {
	number, ok, err = e.look()
	return number, ok, time.Now(), err
}

func (e *watcher) look() (number int, ok bool, err error) {
	if e.found {
		if number, ok, err = e.strip(); err != nil || ok {
			e.missed = 0
			return number, ok, e.lost(err)
		}
		if e.missed++; e.missed < maxMissed {
			return 0, false, nil
		}
		e.found = false
	}
	if time.Since(e.looked) < searchEvery {
		return 0, false, nil
	}
	e.looked = time.Now()
	number, ok, err = e.search()
	return number, ok, e.lost(err)
}

// lost forgets a window that is there no more: the player may open another one.
func (e *watcher) lost(err error) error {
	var bad xproto.DrawableError
	var window xproto.WindowError
	var match xproto.MatchError
	if errors.As(err, &bad) || errors.As(err, &window) || errors.As(err, &match) {
		e.window, e.found = 0, false
		return nil
	}
	return err
}

// strip reads the upper strip of the picture, or the lower one where something covers that.
func (e *watcher) strip() (number int, ok bool, err error) {
	for _, y := range [2]int{e.at.Y, e.at.Y + e.at.Height} {
		m, err := e.read(e.at.X, y, e.at.Width, 1)
		if err != nil {
			return 0, false, err
		}
		if mark, ok := readRow(&m, e.at.Strip, 0, 0, e.at.Width); ok {
			if e.looks++; y == e.at.Y && e.looks%checkEvery == 0 {
				err = e.check(mark.Frame)
			}
			return mark.Frame, true, err
		}
	}
	return 0, false, nil
}

// check counts a picture as torn if its lower strip is of another frame, and the upper one is still the same
// afterwards: the two are not read at the same moment.
func (e *watcher) check(frame int) error {
	for _, y := range [2]int{e.at.Y + e.at.Height, e.at.Y} {
		m, err := e.read(e.at.X, y, e.at.Width, 1)
		if err != nil {
			return err
		}
		if mark, ok := readRow(&m, e.at.Strip, 0, 0, e.at.Width); !ok || (mark.Frame == frame) != (y == e.at.Y) {
			return nil
		}
	}
	if frame != e.tornAt {
		e.torn, e.tornAt = e.torn+1, frame
	}
	return nil
}

// Torn implements [Eye].
func (e *watcher) Torn() int { return e.torn }

// search looks for the picture in the whole window.
func (e *watcher) search() (number int, ok bool, err error) {
	if e.window == 0 {
		if e.window, err = e.named(e.server.Screen.Root, 0); err != nil || e.window == 0 {
			return 0, false, err
		}
	}
	size, err := xproto.GetGeometry(e.server.Conn, xproto.Drawable(e.window)).Reply()
	if err != nil {
		return 0, false, err
	}
	width := int(size.Width)
	m, err := e.read(0, 0, width, min(int(size.Height), len(e.server.Memory)/(4*width)))
	if err != nil {
		return 0, false, err
	}
	at, mark, found := Find(&m)
	e.at, e.found, e.flat = at, found, !found && isFlat(&m)
	return mark.Frame, found, nil
}

// isFlat reports whether an image has one colour only.
func isFlat(m *Image) bool {
	for y := 0; y < m.Height; y += 8 {
		for x := 0; x < m.Width; x += 8 {
			if m.at(x, y) != m.at(0, 0) {
				return false
			}
		}
	}
	return true
}

// read reads a part of the window.
func (e *watcher) read(x, y, width, height int) (Image, error) {
	_, err := shm.GetImage(e.server.Conn, xproto.Drawable(e.window), int16(x), int16(y), uint16(width), uint16(height), 0xFFFFFFFF, xproto.ImageFormatZPixmap, e.server.Segment, 0).Reply()
	return Image{e.server.Memory, width, height, 4 * width, 4, 1}, err
}

// maxDepth bounds how deep windows in windows are looked for.
const maxDepth = 6

// named returns the window whose title has the wanted text, below a window; the root without one; 0:
// there is none.
func (e *watcher) named(window xproto.Window, depth int) (xproto.Window, error) {
	if e.title == "" {
		return e.server.Screen.Root, nil
	}
	if depth > 0 && e.isNamed(window) {
		return window, nil
	}
	tree, err := xproto.QueryTree(e.server.Conn, window).Reply()
	if err != nil || depth == maxDepth {
		return 0, nil // it may have gone
	}
	for _, child := range tree.Children {
		if found, err := e.named(child, depth+1); found != 0 || err != nil {
			return found, err
		}
	}
	return 0, nil
}

// isNamed reports whether a window that can be seen has the wanted text in its title.
func (e *watcher) isNamed(window xproto.Window) bool {
	const maxTitle = 256 // four bytes each
	has := false
	for _, name := range []string{"_NET_WM_NAME", "WM_NAME"} {
		atom, err := xproto.InternAtom(e.server.Conn, true, uint16(len(name)), name).Reply()
		if err != nil || atom.Atom == 0 {
			continue
		}
		p, err := xproto.GetProperty(e.server.Conn, false, window, atom.Atom, xproto.AtomAny, 0, maxTitle).Reply()
		has = has || err == nil && strings.Contains(string(p.Value), e.title)
	}
	if !has {
		return false
	}
	a, err := xproto.GetWindowAttributes(e.server.Conn, window).Reply()
	return err == nil && a.MapState == xproto.MapStateViewable
}
