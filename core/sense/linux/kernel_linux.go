package linux

import (
	"bytes"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// ofKernel reports whether a file is one of the kernel's own, which are gone when what they tell of is gone.
func ofKernel(f *os.File) bool {
	var of unix.Statfs_t
	if unix.Fstatfs(int(f.Fd()), &of) != nil {
		return false
	}
	switch int64(of.Type) {
	case unix.PROC_SUPER_MAGIC, unix.SYSFS_MAGIC, unix.CGROUP2_SUPER_MAGIC, unix.CGROUP_SUPER_MAGIC:
		return true
	}
	return false
}

// folder lists the entries of a folder that are named by numbers, as those of processes and threads are.
type folder struct {
	path string
	open *os.File
	list []int
	buf  []byte
}

// numbers returns the numbers, valid until the next call.
func (d *folder) numbers() ([]int, error) {
	if d.open == nil {
		f, err := os.Open(d.path)
		if err != nil {
			return nil, err
		}
		d.open, d.buf = f, make([]byte, 16<<10)
	}
	fd := int(d.open.Fd())
	if _, err := unix.Seek(fd, 0, io.SeekStart); err != nil {
		return nil, &os.PathError{Op: "seek", Path: d.path, Err: err}
	}
	d.list = d.list[:0]
	for {
		n, err := unix.ReadDirent(fd, d.buf)
		if err != nil {
			return nil, &os.PathError{Op: "read", Path: d.path, Err: err}
		}
		if n <= 0 {
			return d.list, nil
		}
		d.add(d.buf[:n])
	}
}

// add adds the numbers among entries as the system call getdents64(2) returns them: the length of an entry is
// at byte 16 of it, its name begins at byte 19.
func (d *folder) add(entries []byte) {
	for len(entries) > 19 {
		size := int(entries[16]) | int(entries[17])<<8
		if size <= 19 || size > len(entries) {
			return
		}
		name := entries[19:size]
		if end := bytes.IndexByte(name, 0); end >= 0 {
			name = name[:end]
		}
		if n, ok := parseUint(name); ok && n < 1<<31 {
			d.list = append(d.list, int(n))
		}
		entries = entries[size:]
	}
}

func (d *folder) close() {
	if d.open != nil {
		d.open.Close()
		d.open = nil
	}
}
