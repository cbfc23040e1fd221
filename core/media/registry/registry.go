// Package registry is the list of the codecs and containers that the program
// knows, and opens files with them. A new one is one line here.
package registry

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/codec/mjpeg"
	"vividstrain/core/media/codec/raw"
	"vividstrain/core/media/container/mkv"
	"vividstrain/core/media/container/mp4"
	"vividstrain/core/media/container/ts"
	"vividstrain/core/media/container/y4m"
)

// codecs that can be decoded.
var codecs = []media.Codec{
	mjpeg.Codec,
	h264.Codec,
	raw.Codec,
}

// containers that can be read.
var containers = []media.Container{
	mp4.Container,
	mkv.Container,
	ts.Container,
	h264.Raw,
	y4m.Container,
}

// Codec returns the codec of that name.
func Codec(name string) (media.Codec, error) {
	var known []string
	for _, c := range codecs {
		if c.Name == name {
			return c, nil
		}
		known = append(known, c.Name)
	}
	return media.Codec{}, &media.UnsupportedError{Format: name,
		What: fmt.Sprintf("decoding it (decoded are %s)", strings.Join(known, ", "))}
}

// CanEncode tells whether a clip of this format can be made here, and if not why.
func CanEncode(f media.Format) error {
	c, err := Codec(f.Codec)
	switch {
	case err != nil || c.CheckFormat == nil:
		var makers []string
		for _, c := range codecs {
			if c.CheckFormat != nil {
				makers = append(makers, c.Name)
			}
		}
		return fmt.Errorf("%s clips cannot be made here yet; %s clips can", f.Codec, strings.Join(makers, ", "))
	default:
		return c.CheckFormat(f)
	}
}

// ContainerFor returns the container that is written to files named like path.
func ContainerFor(path string) (media.Container, error) {
	var known []string
	for _, c := range containers {
		if c.Create == nil {
			continue
		}
		if slices.Contains(c.Extensions, strings.ToLower(filepath.Ext(path))) {
			return c, nil
		}
		known = append(known, c.Extensions[0])
	}
	return media.Container{}, fmt.Errorf("%s: no files of this kind are written here (%s are)", path, strings.Join(known, ", "))
}

// Find lists the files in a folder, and in those below it, whose names end as
// those of a container that is read here do; in the order of their names.
func Find(folder string) (paths []string, err error) {
	err = filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		end := strings.ToLower(filepath.Ext(path))
		if !entry.Type().IsRegular() || strings.HasPrefix(entry.Name(), ".") {
			return nil
		}
		for _, c := range containers {
			if slices.Contains(c.Extensions, end) {
				paths = append(paths, path)
				break
			}
		}
		return nil
	})
	return paths, err
}

// File is an open media file.
type File struct {
	media.Demuxer
	Container  string
	Size       int64 // bytes
	byteStream bool
	timed      bool
	close      func() error
}

// Open opens the file at path with the container that its first bytes show.
func Open(path string) (*File, error) {
	// Opening a pipe would wait for whoever writes into it.
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return nil, fmt.Errorf("%s: it is not an ordinary file", path)
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	f, err := open(file)
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	f.close = file.Close
	return f, nil
}

func open(file *os.File) (*File, error) {
	info, err := file.Stat()
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, errors.New("it is a folder, not a file")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not an ordinary file")
	case info.Size() == 0:
		return nil, errors.New("the file is empty")
	}
	return Read(file, info.Size())
}

// Read reads a file of size bytes from wherever it is. Where the size is not
// known it may be too large, as long as reading ends with io.EOF.
func Read(file io.ReaderAt, size int64) (*File, error) {
	head := make([]byte, min(media.SniffLen, size))
	n, err := file.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	for _, c := range containers {
		if c.Match(head[:n]) {
			d, err := c.Open(file, size)
			return &File{Demuxer: d, Container: c.Name, Size: size, byteStream: c.ByteStreams, timed: !c.Untimed, close: func() error { return nil }}, err
		}
	}
	var known []string
	for _, c := range containers {
		known = append(known, c.Name)
	}
	return nil, fmt.Errorf("this is no video file of a kind that is read here (%s)", strings.Join(known, ", "))
}

// ByteStream tells that the container holds NAL units with start codes.
func (f *File) ByteStream() bool { return f.byteStream }

// Timed tells whether the file holds times; where it does not, they follow from
// the frame rate.
func (f *File) Timed() bool { return f.timed }

// Close closes the file.
func (f *File) Close() error { return f.close() }

// Video returns the index of the first video track.
func (f *File) Video() (int, error) {
	for i, t := range f.Tracks() {
		if t.Kind == media.Video {
			return i, nil
		}
	}
	return 0, media.ErrNoVideo
}
