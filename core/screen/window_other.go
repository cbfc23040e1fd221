//go:build !linux

package screen

import (
	"errors"

	"vividstrain/core/media/picture"
)

// Window is a window on a screen, which there is on Linux only.
type Window struct{}

// Open returns an error.
func Open(string, int, int, int, bool, bool) (*Window, error) {
	return nil, errors.New("pictures are shown in a window on Linux only")
}

// Refresh returns 0.
func (*Window) Refresh() float64 { return 0 }

// Paint does nothing.
func (*Window) Paint(int, *picture.Picture) {}

// Show returns nil.
func (*Window) Show(int) error { return nil }

// Close returns nil.
func (*Window) Close() error { return nil }
