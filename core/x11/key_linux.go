package x11

import (
	"errors"
	"fmt"
	"slices"

	"github.com/jezek/xgb/xproto"
	"github.com/jezek/xgb/xtest"
)

// keys are keysyms by name (X Window System Protocol, appendix A); a letter or digit is itself.
var keys = map[string]xproto.Keysym{
	"Left": 0xFF51, "Up": 0xFF52, "Right": 0xFF53, "Down": 0xFF54, "Page_Up": 0xFF55, "Page_Down": 0xFF56, "Home": 0xFF50, "End": 0xFF57,
	"Return": 0xFF0D, "space": 0x20,
}

// Press presses and releases a key, which goes to the window that has the focus (XTEST 2.2).
func Press(name string) error {
	symbol, known := keys[name]
	if !known && len(name) == 1 {
		symbol, known = xproto.Keysym(name[0]), true
	}
	if !known {
		return fmt.Errorf("there is no key %q; there are Left, Right, Up, Down, Page_Up, Page_Down, Home, End, Return, space, letters and digits", name)
	}
	s, err := Open()
	if err != nil {
		return err
	}
	defer s.Close()
	if !has(s.Conn, "XTEST") {
		return errors.New("the X server takes no keys from programs: it has no extension XTEST")
	}
	setup := xproto.Setup(s.Conn)
	first, count := setup.MinKeycode, byte(setup.MaxKeycode-setup.MinKeycode+1)
	mapping, err := xproto.GetKeyboardMapping(s.Conn, first, count).Reply()
	if err != nil {
		return err
	}
	at := slices.Index(mapping.Keysyms, symbol)
	if at < 0 {
		return fmt.Errorf("the keyboard has no key %q", name)
	}
	code := byte(first) + byte(at/int(mapping.KeysymsPerKeycode))
	for _, kind := range []byte{xproto.KeyPress, xproto.KeyRelease} {
		if err := xtest.FakeInputChecked(s.Conn, kind, code, 0, s.Screen.Root, 0, 0, 0).Check(); err != nil {
			return err
		}
	}
	return nil
}
