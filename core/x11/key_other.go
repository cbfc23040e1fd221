//go:build !linux

package x11

import "errors"

// Press presses a key, on Linux only.
func Press(string) error { return errors.New("keys are pressed on Linux only") }
