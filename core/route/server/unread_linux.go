package server

import (
	"net"

	"golang.org/x/sys/unix"
)

// unread returns how many bytes have arrived on a connection that were not read yet.
func unread(conn *net.TCPConn) (n int, ok bool) {
	if conn == nil {
		return 0, false
	}
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) {
		n, err = unix.IoctlGetInt(int(fd), unix.TIOCINQ)
		ok = err == nil
	})
	return n, ok && err == nil
}
