// Package partial writes files that are there whole or not at all, and clears
// away what programs that were killed have left of theirs. What is being written
// is locked (flock(2), or its like), so that a leftover can be told from the work
// of another program that goes on.
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

// ErrExists means that there is a file already that is not to be overwritten.
var ErrExists = errors.New("it is there already")

// File is a file under a temporary name beside its own: ".NAME.PID.part".
type File struct {
	*os.File
	path string
	lock *flock.Flock
}

// Create begins a file that Commit gives the name path. It clears away what was
// left in the folder.
func Create(path string) (*File, error) {
	dir := filepath.Dir(path)
	Sweep(dir)
	name := filepath.Join(dir, fmt.Sprintf(".%s.%d.part", filepath.Base(path), os.Getpid()))
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o666)
	if err != nil {
		return nil, err
	}
	lock := flock.New(name)
	if _, err := lock.TryLock(); err != nil { // a file system without locks: nobody will take it for a leftover soon
		lock = nil
	}
	return &File{File: f, path: path, lock: lock}, nil
}

// Commit writes everything to disk and gives the file its name. Where that fails
// nothing is left.
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

// Abort throws the file away. After Commit it does nothing.
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

// Write writes a whole file.
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

// young is an age under which nothing is taken for a leftover: its maker may not
// have locked it yet.
const young = 2 * time.Second

// Sweep removes the temporary files in a folder that nobody is writing any more.
func Sweep(dir string) {
	list, _ := filepath.Glob(filepath.Join(escape(dir), ".*.part")) // a folder's name that is no pattern
	for _, path := range list {
		if abandoned(path, path) {
			os.Remove(path)
		}
	}
}

// abandoned tells whether something is old enough and its lock is free.
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

// NewFolder makes a folder for temporary files below the system's, whose name
// begins with prefix, and removes those that were left.
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

// Close removes the folder with all that is in it.
func (f *Folder) Close() error { return errors.Join(f.lock.Close(), os.RemoveAll(f.Path)) }

// escape makes the name of a folder a pattern that matches it alone.
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
