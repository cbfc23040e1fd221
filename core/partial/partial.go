// Package partial writes files that exist either completely or not at all, and removes what
// killed programs left behind. A file that is being written is locked (flock(2), or its
// equivalent), which distinguishes it from a leftover.
package partial

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// ErrExists means that a file exists and must not be overwritten.
var ErrExists = errors.New("it is there already")

// File is a file that is being written under a temporary name next to its own: ".NAME.PID.part".
type File struct {
	*os.File
	path string
	lock *flock.Flock
}

// Create starts a file to which Commit gives the name path. It removes leftovers from the
// folder.
func Create(path string) (*File, error) {
	dir := filepath.Dir(path)
	Sweep(dir)
	name := filepath.Join(dir, fmt.Sprintf(".%s.%d.part", filepath.Base(path), os.Getpid()))
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o666)
	if err != nil {
		return nil, err
	}
	lock := flock.New(name)
	if _, err := lock.TryLock(); err != nil { // a file system without locks: its age protects it for now
		lock = nil
	}
	return &File{File: f, path: path, lock: lock}, nil
}

// Commit flushes the file to disk and gives it its name. If that fails, nothing is left.
func (f *File) Commit() error {
	err := errors.Join(f.Sync(), f.Close(), f.unlock())
	if err == nil {
		err = os.Rename(f.Name(), f.path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// Abort deletes the file. After Commit it does nothing.
func (f *File) Abort() {
	if f.Close() == nil {
		f.unlock()
		os.Remove(f.Name())
	}
}

func (f *File) unlock() error {
	if f.lock == nil {
		return nil
	}
	return f.lock.Close()
}

// Write writes a complete file.
func Write(path string, data []byte) error {
	f, err := Create(path)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		f.Abort()
		return err
	}
	return f.Commit()
}

// young is the age below which nothing counts as a leftover: its owner may not have locked it
// yet.
const young = 2 * time.Second

// Sweep removes the temporary files in a folder that nobody is writing.
func Sweep(dir string) {
	list, _ := filepath.Glob(filepath.Join(escape(dir), ".*.part")) // a folder's name that is no pattern
	for _, path := range list {
		if abandoned(path, path) {
			os.Remove(path)
		}
	}
}

// abandoned reports whether a file is old enough and its lock is free.
func abandoned(path, lockFile string) bool {
	info, err := os.Lstat(path)
	if err != nil || time.Since(info.ModTime()) < young {
		return false
	}
	if _, err := os.Lstat(lockFile); errors.Is(err, fs.ErrNotExist) {
		return true
	}
	lock := flock.New(lockFile)
	free, err := lock.TryLock()
	lock.Close()
	return free && err == nil
}

// Folder is a temporary folder.
type Folder struct {
	Path string
	lock *flock.Flock
}

// lockName is the file in a temporary folder that its maker keeps locked.
const lockName = ".lock"

// NewFolder makes a temporary folder whose name begins with prefix, and removes leftovers of the
// same prefix.
func NewFolder(prefix string) (*Folder, error) {
	list, _ := filepath.Glob(filepath.Join(escape(os.TempDir()), prefix+"*")) // a prefix that is no pattern
	for _, path := range list {
		if abandoned(path, filepath.Join(path, lockName)) {
			os.RemoveAll(path)
		}
	}
	path, err := os.MkdirTemp("", prefix)
	if err != nil {
		return nil, err
	}
	f := &Folder{Path: path, lock: flock.New(filepath.Join(path, lockName))}
	if _, err := f.lock.TryLock(); err != nil {
		os.RemoveAll(path)
		return nil, err
	}
	return f, nil
}

// Close removes the folder and its contents.
func (f *Folder) Close() error { return errors.Join(f.lock.Close(), os.RemoveAll(f.Path)) }

// escape returns a pattern that matches only the given path.
func escape(dir string) string {
	out := make([]rune, 0, len(dir))
	for _, r := range dir {
		if (r == '*' || r == '?' || r == '[' || r == '\\') && filepath.Separator != '\\' {
			out = append(out, '\\')
		}
		out = append(out, r)
	}
	return string(out)
}
