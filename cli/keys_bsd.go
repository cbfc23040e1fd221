//go:build unix && !linux

package cli

import "golang.org/x/sys/unix"

const getTermios, setTermios = unix.TIOCGETA, unix.TIOCSETA
