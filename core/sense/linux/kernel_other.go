//go:build !linux

package linux

import (
	"os"
	"strconv"
)

// ofKernel reports whether a file is one of the kernel's own: there are none.
func ofKernel(*os.File) bool { return false }

// folder lists the entries of a folder that are named by numbers.
type folder struct{ path string }

func (d *folder) numbers() (list []int, err error) {
	entries, err := os.ReadDir(d.path)
	for _, e := range entries {
		if n, err := strconv.Atoi(e.Name()); err == nil {
			list = append(list, n)
		}
	}
	return list, err
}

func (*folder) close() {}
