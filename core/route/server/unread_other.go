//go:build !linux

package server

import "net"

// unread is not known on this system.
func unread(*net.TCPConn) (n int, ok bool) { return 0, false }
