// Package registry lists the codecs and containers of the program, and opens files with them. A
// new one is one line here.
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
	"vividstrain/core/media/codec/aac"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/codec/hevc"
	"vividstrain/core/media/codec/mjpeg"
	"vividstrain/core/media/codec/raw"
	"vividstrain/core/media/container/annexb"
	"vividstrain/core/media/container/mkv"
	"vividstrain/core/media/container/mp4"
	"vividstrain/core/media/container/ts"
	"vividstrain/core/media/container/y4m"
)

// codecs lists all codecs, in the order in which ladders and messages name them.
var codecs = append(media.Codecs{
	mjpeg.Codec,
	h264.Codec,
	hevc.Codec,
	raw.Codec,
	aac.Codec,
}, namedOnly...)

// Containers that are used for what they can do, not by a file's name: MP4 for segments, TS for
// streams, MKV for recordings.
var (
	MP4 = mp4.New(codecs)
	MKV = mkv.New(codecs)
	TS  = ts.New(codecs)
)

// containers lists all containers, in the order in which a file is tried.
var containers = append([]media.Container{
	MP4,
	MKV,
	TS,
	y4m.Container,
}, byteStreams()...)

// byteStreams returns the containers of codecs whose byte streams are files of their own.
func byteStreams() (list []media.Container) {
	for _, c := range codecs {
		if c.Stream != nil {
			list = append(list, annexb.New(c))
		}
	}
	return list
}

// VideoCodecs returns the names of the codecs that a format may have, decoded here or not.
func VideoCodecs() (names []string) {
	for _, c := range codecs {
		if c.Kind == media.Video {
			names = append(names, c.Name)
		}
	}
	return names
}

// NearVideoCodec returns the codec that was probably meant by a word, "" if none is similar.
func NearVideoCodec(word string) string {
	for _, c := range codecs {
		if c.Kind == media.Video && slices.Contains(c.Nicknames, strings.ToLower(word)) {
			return c.Name
		}
	}
	return media.Near(word, VideoCodecs())
}

// Codec returns the codec of that name if it can be decoded.
func Codec(name string) (media.Codec, error) {
	if c := codecs.Named(name); c != nil && c.NewDecoder != nil {
		return *c, nil
	}
	return media.Codec{}, &media.UnsupportedError{Format: name,
		What: fmt.Sprintf("decoding it (decoded are %s)", names(func(c *media.Codec) bool { return c.NewDecoder != nil }))}
}

// names returns the codecs for which is returns true, as a list for messages.
func names(is func(c *media.Codec) bool) string {
	var list []string
	for i := range codecs {
		if is(&codecs[i]) {
			list = append(list, codecs[i].Name)
		}
	}
	return strings.Join(list, ", ")
}

// codesGroups reports whether a codec has an encoder of groups of pictures.
func codesGroups(c *media.Codec) bool { return c.NewEncoder != nil }

// DefaultEncoder returns the codec to which videos are converted by default.
func DefaultEncoder() media.Codec {
	return codecs[slices.IndexFunc(codecs, func(c media.Codec) bool { return codesGroups(&c) })]
}

// GroupEncoder returns the codec of that name if it has an encoder of groups of pictures; ""
// means the default one. An error names those that have.
func GroupEncoder(name string) (media.Codec, error) {
	if name == "" {
		return DefaultEncoder(), nil
	}
	if c := codecs.Named(name); c != nil && codesGroups(c) {
		return *c, nil
	}
	if IntraOnly(name) {
		return media.Codec{}, fmt.Errorf("%s codes every picture by itself; choose %s", name, names(codesGroups))
	}
	return media.Codec{}, fmt.Errorf("%s is not encoded here yet; %s is", name, names(codesGroups))
}

// Encoder returns the codec of that name, if clips of it can be made.
func Encoder(name string) (media.Codec, error) {
	if c := codecs.Named(name); c != nil && c.CheckFormat != nil {
		return *c, nil
	}
	return media.Codec{}, fmt.Errorf("%s clips cannot be made here yet; %s clips can", name, names(func(c *media.Codec) bool { return c.CheckFormat != nil }))
}

// CanEncode returns why a clip of this format cannot be made, nil if it can.
func CanEncode(f media.Format) error {
	c, err := Encoder(f.Codec)
	if err != nil {
		return err
	}
	return c.CheckFormat(f)
}

// ParseCodecString reads the video codec, depth and transfer of a codecs parameter (RFC 6381);
// false if none of its elements is known.
func ParseCodecString(s string) (media.Format, bool) {
	for part := range strings.SplitSeq(s, ",") {
		for i := range codecs {
			if codecs[i].ParseCodecString == nil {
				continue
			}
			if f, ok := codecs[i].ParseCodecString(strings.TrimSpace(part)); ok {
				return f, true
			}
		}
	}
	return media.Format{}, false
}

// CodecString returns the codecs parameter of a track, "" where it is not known.
func CodecString(t media.Track) string {
	if c := codecs.Named(t.Codec); c != nil && c.CodecString != nil {
		return c.CodecString(t)
	}
	return ""
}

// IntraOnly reports whether every picture of a codec is coded without reference to others.
func IntraOnly(name string) bool {
	c := codecs.Named(name)
	return c != nil && c.IntraOnly
}

// Level returns the name of the lowest level of its codec that allows a format, "" where not
// known.
func Level(f media.Format) string {
	if c := codecs.Named(f.Codec); c != nil && c.Level != nil {
		return c.Level(f)
	}
	return ""
}

// FrameSamples returns the number of samples per channel in a packet of an audio codec, 0 where
// it varies or is not known.
func FrameSamples(name string) int64 {
	if c := codecs.Named(name); c != nil {
		return c.FrameSamples
	}
	return 0
}

// ContainerFor returns the container for a file name that is to be written.
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

// Find returns the files in a folder, and in those below it, whose names end like those of a
// readable container, sorted by name.
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

// Open opens the file at path with the container that its first bytes indicate.
func Open(path string) (*File, error) {
	// Opening a pipe would wait for its writer.
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

// Read opens a file of size bytes from any source. If the size is not known it may be too large,
// provided that reading ends with io.EOF.
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

// ByteStream reports whether the container stores NAL units with start codes.
func (f *File) ByteStream() bool { return f.byteStream }

// Timed reports whether the file has times; otherwise they follow from the frame rate.
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
