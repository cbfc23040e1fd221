//go:build !linux

package screen

import (
	"errors"

	"vividstrain/core/media/picture"
)

// Window is a window on a screen, which there is on Linux only.
type Window struct{}

var errElsewhere = errors.New("pictures are shown in a window on Linux only")

// Open returns an error.
func Open(string, int, int, int, bool, bool) (*Window, error) { return nil, errElsewhere }

// Refresh returns an error.
func Refresh() (float64, error) { return 0, errElsewhere }

// Paint does nothing.
func (*Window) Paint(int, *picture.Picture) {}

// Show returns nil.
func (*Window) Show(int) error { return nil }

// Close returns nil.
func (*Window) Close() error { return nil }
