//go:build unix

package server

import "golang.org/x/sys/unix"

// maxOpen returns how many files this program may have open at once, connections included; 0: not
// known.
func maxOpen() uint64 {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 0
	}
	return uint64(limit.Cur)
}
