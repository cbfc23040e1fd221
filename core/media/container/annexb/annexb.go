// Package annexb reads raw streams of NAL units with start codes between them (Rec. ITU-T H.264
// and H.265, annex B). Such a file has no times: they follow from the display order, which the
// codec's parser finds, and from the frame rate that the stream states, or else 25 Hz.
package annexb

import (
	"bytes"
	"errors"
	"io"

	"vividstrain/core/media"
)

// New returns the container of a codec's raw streams. The codec must have a Stream and a parser.
func New(c media.Codec) media.Container {
	return media.Container{Name: c.Name + " stream", Extensions: c.Stream.Extensions, Match: c.Stream.Match, ByteStreams: true, Untimed: true,
		Open: func(r io.ReaderAt, size int64) (media.Demuxer, error) { return open(&c, r, size) }}
}

// Limits on what is buffered.
const (
	window    = 1 << 16
	maxUnit   = 1 << 26
	maxQueued = 64 // frames whose time is not yet known
)

// reader is a Demuxer.
type reader struct {
	codec *media.Codec
	file  io.ReaderAt
	size  int64
	track [1]media.Track

	at      int64  // file offset of the next byte to be read
	buffer  []byte // read, but not yet split into units; begins after a start code
	ended   bool
	parser  media.UnitParser
	packet  *frame // the frame to which units are being added
	pending []byte // units that belong to the next picture
	queue   []*frame
	free    []*frame
	number  int // of the first frame in the queue
	shown   int64
}

// frame is a packet whose position in display order may not be known yet.
type frame struct {
	data  []byte
	at    int64 // file offset of its first unit with samples
	key   bool
	place int64 // -1: not known
}

var startCode = []byte{0, 0, 1}

func open(c *media.Codec, file io.ReaderAt, size int64) (media.Demuxer, error) {
	d := &reader{codec: c, file: file, size: size}
	if err := d.Rewind(); err != nil {
		return nil, err
	}
	for len(d.queue) == 0 && d.more() {
		if err := d.step(); err != nil {
			return nil, err
		}
	}
	info := d.parser.Info()
	if info.Format.Width == 0 || info.Frames == 0 {
		return nil, &media.FormatError{Format: c.Name, Offset: d.at, What: "there is no picture in the stream"}
	}
	rate := info.Format.Rate
	if hz := rate.Hz(); !(rate.Den > 0 && hz >= 1 && hz <= 1000) {
		rate = media.Rate{Num: 25, Den: 1}
	}
	info.Format.Rate = rate
	d.track[0] = media.Track{ID: 1, Kind: media.Video, Codec: c.Name, Timescale: int64(rate.Num), Format: info.Format,
		Colour: info.Colour, HDR: info.HDR}
	return d, nil
}

func (d *reader) Tracks() []media.Track { return d.track[:] }

func (d *reader) Rewind() error {
	d.at, d.buffer, d.ended, d.parser = 0, d.buffer[:0], false, d.codec.NewParser()
	d.packet, d.pending = nil, d.pending[:0]
	d.free = append(d.free, d.queue...)
	d.queue, d.number, d.shown = d.queue[:0], 0, 0
	for !d.ended && len(d.buffer) < maxUnit { // up to the first start code
		if err := d.fill(); err != nil {
			return err
		}
		if i := bytes.Index(d.buffer, startCode); i >= 0 {
			d.buffer = append(d.buffer[:0], d.buffer[i+3:]...)
			return nil
		}
	}
	return &media.FormatError{Format: d.codec.Name, Offset: 0, What: "there is no start code"}
}

// fill reads more of the file.
func (d *reader) fill() error {
	n := len(d.buffer)
	d.buffer = append(d.buffer, make([]byte, window)...)
	read, err := d.file.ReadAt(d.buffer[n:], d.at)
	d.buffer = d.buffer[:n+read]
	d.at += int64(read)
	if errors.Is(err, io.EOF) || err == nil && read == 0 {
		d.ended, err = true, nil
	}
	return err
}

// more reports whether there are further units.
func (d *reader) more() bool { return !d.ended || len(d.buffer) > 0 }

// step handles the next unit.
func (d *reader) step() error {
	from := 0
	for {
		if i := bytes.Index(d.buffer[from:], startCode); i >= 0 {
			unit := d.buffer[:from+i]
			err := d.unit(bytes.TrimRight(unit, "\x00"), d.at-int64(len(d.buffer)))
			d.buffer = append(d.buffer[:0], d.buffer[from+i+3:]...)
			return err
		}
		if d.ended {
			err := d.unit(bytes.TrimRight(d.buffer, "\x00"), d.at-int64(len(d.buffer)))
			d.buffer = d.buffer[:0]
			d.parser.End()
			d.order()
			return err
		}
		from = max(0, len(d.buffer)-2)
		if len(d.buffer) > maxUnit {
			return &media.FormatError{Format: d.codec.Name, Offset: d.at, What: "a unit is too large"}
		}
		if err := d.fill(); err != nil {
			return err
		}
	}
}

// unit adds the unit at file offset at to its frame.
func (d *reader) unit(unit []byte, at int64) error {
	if len(unit) == 0 {
		return nil
	}
	what, err := d.parser.Unit(unit)
	if err != nil {
		return media.At(err, at)
	}
	d.pending = append(append(d.pending, 0, 0, 0, 1), unit...)
	if what.Begins {
		d.packet = d.newFrame(what.Key, at)
		d.queue = append(d.queue, d.packet)
	}
	if what.Picture && d.packet != nil {
		d.packet.data = append(d.packet.data, d.pending...)
		d.pending = d.pending[:0]
	}
	if len(d.pending) > maxUnit {
		d.pending = d.pending[:0]
	}
	d.order()
	return nil
}

func (d *reader) newFrame(key bool, at int64) *frame {
	f := &frame{}
	if n := len(d.free); n > 0 {
		f = d.free[n-1]
		d.free = d.free[:n-1]
	}
	f.data, f.key, f.at, f.place = f.data[:0], key, at, -1
	return f
}

// order stores the positions that are known so far.
func (d *reader) order() {
	for _, n := range d.parser.Shown() {
		if i := n - d.number; i >= 0 && i < len(d.queue) {
			d.queue[i].place = d.shown
		}
		d.shown++
	}
}

func (d *reader) ReadPacket(p *media.Packet) error {
	for d.more() {
		// The last frame may still gain units.
		if len(d.queue) > 1 && (d.queue[0].place >= 0 || len(d.queue) > maxQueued) {
			break
		}
		if err := d.step(); err != nil {
			return err
		}
	}
	if len(d.queue) == 0 {
		return io.EOF
	}
	f := d.queue[0]
	d.queue = append(d.queue[:0], d.queue[1:]...)
	data := p.Data
	unit := int64(max(d.track[0].Format.Rate.Den, 1))
	*p = media.Packet{Data: f.data, PTS: media.NoTime, DTS: int64(d.number) * unit, Duration: unit, Key: f.key, Offset: f.at}
	if f.place >= 0 {
		p.PTS = f.place * unit
	}
	d.number++
	f.data = data
	d.free = append(d.free, f)
	return nil
}
