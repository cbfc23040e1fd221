//go:build !linux

package eye

import "errors"

func openX11(string) (Eye, error) {
	return nil, errors.New("--eye x11 watches screens on Linux only")
}
