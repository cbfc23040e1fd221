package mediaserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// film is a clip that the server delivers in segments: a copy in movie fragments, made when it
// is first requested.
type film struct {
	file  string // its name
	path  string
	track media.Track // the video

	once     sync.Once
	err      error
	copy     *os.File
	size     int64
	first    int64 // size of what precedes the first segment
	begins   float64
	segments []segment
	tracks   []media.Track // of the copy
}

// segment is a part of a film that begins with a key frame.
type segment struct {
	at, lasts    float64 // seconds from the start of the film
	offset, size int64   // in the copy
}

// openFilm reads the properties of a clip.
func openFilm(ctx context.Context, path string) (*film, error) {
	f, err := registry.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	track, err := registry.DescribeRate(ctx, f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if track.Format.Bitrate == 0 && track.Duration > 0 {
		track.Format.Bitrate = int64(8 * float64(f.Size) / track.Duration.Seconds())
	}
	return &film{file: filepath.Base(path), path: path, track: track}, nil
}

// cuts is a writer that records where each fragment begins.
type cuts struct {
	w  io.Writer
	at []int64
	n  int64
}

func (c *cuts) Write(p []byte) (int, error) {
	c.at = append(c.at, c.n)
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

func (c *cuts) Seek(int64, int) (int64, error) { return c.n, nil }

// divide makes the copy in folder and divides it into segments of the given duration.
func (f *film) divide(ctx context.Context, folder string, seconds float64) error {
	f.once.Do(func() { f.err = f.doDivide(ctx, folder, seconds) })
	return f.err
}

func (f *film) doDivide(ctx context.Context, folder string, seconds float64) error {
	source, err := registry.Open(f.path)
	if err != nil {
		return err
	}
	defer source.Close()
	if f.copy, err = os.CreateTemp(folder, "film-*.mp4"); err != nil {
		return err
	}
	c := &cuts{w: f.copy}
	if _, err := registry.Rewrap(ctx, source, registry.MP4, c, true); err != nil {
		return err
	}
	f.size = c.n
	return f.index(c.at, seconds)
}

// index finds the time of each fragment and groups fragments into segments.
func (f *film) index(at []int64, seconds float64) error {
	d, err := registry.MP4.Open(f.copy, f.size)
	if err != nil {
		return err
	}
	f.tracks = d.Tracks()
	scale := float64(f.tracks[0].Timescale)
	var keys []float64
	end := 0.0
	var p media.Packet
	for {
		err := d.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if p.Track != 0 {
			continue
		}
		if p.Key {
			keys = append(keys, float64(p.PTS)/scale)
		}
		end = max(end, float64(p.PTS+p.Duration)/scale)
	}
	if len(at) < 2 || len(keys) < len(at)-1 {
		return errors.New("it cannot be divided into segments")
	}
	f.begins, f.first = keys[0], at[1]
	for i, offset := range at[1:] {
		time := keys[i] - f.begins
		if last := len(f.segments) - 1; last >= 0 && time-f.segments[last].at < seconds-0.01 {
			continue
		}
		f.segments = append(f.segments, segment{at: time, offset: offset})
	}
	for i := range f.segments {
		s := &f.segments[i]
		s.lasts, s.size = end-f.begins-s.at, f.size-s.offset
		if i+1 < len(f.segments) {
			s.lasts, s.size = f.segments[i+1].at-s.at, f.segments[i+1].offset-s.offset
		}
	}
	return nil
}

// length returns the duration of a divided film, in seconds.
func (f *film) length() float64 {
	last := f.segments[len(f.segments)-1]
	return last.at + last.lasts
}

// from returns the film from the last key frame that is not after the given time.
func (f *film) from(at float64) (*part, error) {
	i := 0
	for i+1 < len(f.segments) && f.segments[i+1].at <= at+1e-6 {
		i++
	}
	p := &part{file: f.copy, head: f.first, offset: f.segments[i].offset}
	d, err := registry.MP4.Open(p, f.first+f.size-p.offset)
	p.Demuxer = d
	return p, err
}

// part is the end of a film, from some segment on.
type part struct {
	media.Demuxer
	file         *os.File
	head, offset int64
}

func (p *part) ReadAt(b []byte, at int64) (int, error) {
	if at >= p.head {
		return p.file.ReadAt(b, at-p.head+p.offset)
	}
	if at+int64(len(b)) <= p.head {
		return p.file.ReadAt(b, at)
	}
	n, err := p.file.ReadAt(b[:p.head-at], at)
	if err != nil {
		return n, err
	}
	m, err := p.file.ReadAt(b[n:], p.offset)
	return n + m, err
}

// Video returns 0, the index of the video track.
func (p *part) Video() (int, error) { return 0, nil }

// ByteStream returns false: packets are length-prefixed.
func (p *part) ByteStream() bool { return false }
