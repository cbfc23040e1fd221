package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// The listening state of sockets: in proc/net/unix the flag __SO_ACCEPTCON, in proc/net/tcp the
// state TCP_LISTEN.
const (
	unixListens = "00010000"
	tcpListens  = "0A"
)

// displayServers returns the processes that listen where programs connect to show windows (X11
// and Wayland): they work for the watched player.
func displayServers(proc string) []int {
	var inodes []string
	eachLine(filepath.Join(proc, "net", "unix"), func(fields []string) {
		if len(fields) < 8 || fields[3] != unixListens {
			return
		}
		path := strings.TrimPrefix(fields[7], "@")
		if strings.HasPrefix(path, "/tmp/.X11-unix/X") || strings.HasPrefix(filepath.Base(path), "wayland-") {
			inodes = append(inodes, fields[6])
		}
	})
	return holders(proc, inodes)
}

// Listeners returns the processes on this computer that listen on a TCP port.
func Listeners(port int) []int { return listeners("/proc", port) }

func listeners(proc string, port int) []int {
	suffix := ":" + strings.ToUpper(strconv.FormatInt(0x10000+int64(port), 16)[1:])
	var inodes []string
	for _, name := range []string{"tcp", "tcp6"} {
		eachLine(filepath.Join(proc, "net", name), func(fields []string) {
			if len(fields) > 9 && fields[3] == tcpListens && strings.HasSuffix(fields[1], suffix) {
				inodes = append(inodes, fields[9])
			}
		})
	}
	return holders(proc, inodes)
}

// eachLine calls take with the fields of each line of a file, if the file exists.
func eachLine(path string, take func(fields []string)) {
	var f files
	data, err := f.read(path)
	if err != nil {
		return
	}
	for l := range bytes.Lines(data) {
		take(strings.Fields(string(l)))
	}
}

// holders returns the processes that have a socket with one of these inodes open, as far as they
// may be inspected.
func holders(proc string, inodes []string) (pids []int) {
	if len(inodes) == 0 {
		return nil
	}
	wanted := map[string]bool{}
	for _, inode := range inodes {
		wanted["socket:["+inode+"]"] = true
	}
	entries, err := os.ReadDir(proc)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		dir := filepath.Join(proc, e.Name(), "fd")
		fds, err := os.ReadDir(dir)
		if err != nil {
			continue // belongs to another user
		}
		for _, fd := range fds {
			if to, err := os.Readlink(filepath.Join(dir, fd.Name())); err == nil && wanted[to] {
				pids = append(pids, pid)
				break
			}
		}
	}
	return pids
}
