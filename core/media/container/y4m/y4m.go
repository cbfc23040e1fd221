// Package y4m reads files of uncompressed video that have a line of text before the stream and
// before every picture.
package y4m

import (
	"bytes"
	"errors"
	"io"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Name is the container's name.
const Name = "y4m"

// Container describes the format.
var Container = media.Container{Name: Name, Extensions: []string{".y4m"}, Match: match, Open: open}

const (
	magic      = "YUV4MPEG2 "
	frameMagic = "FRAME"
	maxLine    = 1024
)

func match(head []byte) bool { return bytes.HasPrefix(head, []byte(magic)) }

type reader struct {
	file  io.ReaderAt
	size  int64
	start int64 // file offset of the first picture's line
	at    int64
	next  int64 // number of the next picture
	frame int64 // bytes per picture
	track [1]media.Track
}

// chromas are the supported colour spaces, by the header's C word.
var chromas = map[string]struct {
	chroma picture.Chroma
	depth  int
}{
	"": {picture.C420, 8}, "420": {picture.C420, 8}, "420jpeg": {picture.C420, 8}, "420mpeg2": {picture.C420, 8}, "420paldv": {picture.C420, 8},
	"422": {picture.C422, 8}, "444": {picture.C444, 8}, "mono": {picture.C400, 8},
	"420p10": {picture.C420, 10}, "422p10": {picture.C422, 10}, "444p10": {picture.C444, 10}, "mono10": {picture.C400, 10},
	"420p12": {picture.C420, 12}, "422p12": {picture.C422, 12}, "444p12": {picture.C444, 12}, "mono12": {picture.C400, 12},
}

func open(file io.ReaderAt, size int64) (media.Demuxer, error) {
	d := &reader{file: file, size: size}
	line, err := d.line(0)
	if err != nil {
		return nil, err
	}
	if len(line) < len(magic) {
		return nil, &media.FormatError{Format: Name, Offset: 0, What: "it does not begin like such a file"}
	}
	d.start = int64(len(line)) + 1
	f := media.Format{Codec: media.Raw, Depth: 8, Transfer: media.SDR, Rate: media.Rate{Num: 25, Den: 1}}
	space := ""
	for _, word := range strings.Fields(line[len(magic):]) {
		value := word[1:]
		switch word[0] {
		case 'W':
			f.Width, err = strconv.Atoi(value)
		case 'H':
			f.Height, err = strconv.Atoi(value)
		case 'F':
			f.Rate, err = ratio(value)
		case 'I':
			f.Interlaced = value == "t" || value == "b" || value == "m"
		case 'C':
			space = value
		}
		if err != nil {
			return nil, &media.FormatError{Format: Name, Offset: 0, What: strconv.Quote(word) + " in the header is not a number"}
		}
	}
	if f.Width < 1 || f.Height < 1 || f.Width > media.MaxSide || f.Height > media.MaxSide {
		return nil, &media.FormatError{Format: Name, Offset: 0, What: "the size in the header is out of range"}
	}
	kind, known := chromas[space]
	if !known {
		return nil, &media.UnsupportedError{Format: Name, What: "colour space " + strconv.Quote(space)}
	}
	f.Chroma, f.Depth = kind.chroma, kind.depth
	d.frame = f.FrameSize()
	frames := (size - d.start) / (d.frame + int64(len(frameMagic)) + 1)
	d.track[0] = media.Track{ID: 1, Kind: media.Video, Codec: media.Raw, Timescale: int64(f.Rate.Num), Format: f, Packets: int(frames),
		Duration: time.Duration(float64(frames) / f.Rate.Hz() * float64(time.Second))}
	return d, d.Rewind()
}

// ratio reads a frame rate like 30000:1001.
func ratio(s string) (media.Rate, error) {
	num, den, _ := strings.Cut(s, ":")
	n, err1 := strconv.ParseInt(num, 10, 64)
	m, err2 := strconv.ParseInt(den, 10, 64)
	r, ok := media.NewRate(n, min(m, 1<<40))
	if err1 != nil || err2 != nil || !ok {
		return media.Rate{}, errors.New("not a frame rate")
	}
	return r, nil
}

// line reads a line of text without its line end.
func (d *reader) line(at int64) (string, error) {
	text := make([]byte, min(maxLine, d.size-at))
	if n, err := d.file.ReadAt(text, at); err != nil && n < len(text) {
		return "", err
	}
	end := bytes.IndexByte(text, '\n')
	if end < 0 {
		return "", &media.FormatError{Format: Name, Offset: at, What: "a line of the header does not end"}
	}
	return string(text[:end]), nil
}

func (d *reader) Tracks() []media.Track { return d.track[:] }

func (d *reader) Rewind() error {
	d.at, d.next = d.start, 0
	return nil
}

func (d *reader) ReadPacket(p *media.Packet) error {
	if d.at >= d.size {
		return io.EOF
	}
	line, err := d.line(d.at)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(line, frameMagic) {
		return &media.FormatError{Format: Name, Offset: d.at, What: "there is no picture where one should be"}
	}
	at := d.at + int64(len(line)) + 1
	if d.frame > d.size-at {
		return &media.FormatError{Format: Name, Offset: at, What: "the file ends within a picture"}
	}
	data := p.Data
	if int64(cap(data)) < d.frame {
		data = make([]byte, d.frame)
	}
	unit := int64(d.track[0].Format.Rate.Den)
	*p = media.Packet{Data: data[:d.frame], PTS: d.next * unit, DTS: d.next * unit, Duration: unit, Key: true, Offset: at}
	if _, err := d.file.ReadAt(p.Data, at); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	d.at = at + d.frame
	d.next++
	return nil
}
