//go:build unix

package cli

import (
	"os"

	"golang.org/x/sys/unix"
)

// oneByOne makes a terminal deliver each key when it is pressed, without showing it, and returns
// a function that restores it. Interrupts still work.
func oneByOne(f *os.File) (restore func(), err error) {
	fd := int(f.Fd())
	before, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return nil, err
	}
	changed := *before
	changed.Lflag &^= unix.ICANON | unix.ECHO
	changed.Cc[unix.VMIN], changed.Cc[unix.VTIME] = 0, 1 // return after a tenth of a second without a key
	if err := unix.IoctlSetTermios(fd, setTermios, &changed); err != nil {
		return nil, err
	}
	return func() { unix.IoctlSetTermios(fd, setTermios, before) }, nil
}
