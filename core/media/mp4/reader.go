package mp4

import (
	"encoding/binary"
	"errors"
	"io"
	"time"

	"vividstrain/core/media"
)

// maxPacket bounds the size of one packet, in bytes.
const maxPacket = 1 << 28

// reader is a Demuxer.
type reader struct {
	file   io.ReaderAt
	size   int64
	tracks []media.Track
	tables []*samples
	ahead  []sample // the next sample of each track
	ended  []bool
}

// open reads the movie box of the file.
func open(file io.ReaderAt, size int64) (media.Demuxer, error) {
	d := &reader{file: file, size: size}
	moov, err := d.findMovie()
	if err != nil {
		return nil, err
	}
	list, err := children(file, moov.start, moov.end)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		switch b.kind {
		case "trak":
			if err := d.openTrack(b); err != nil {
				return nil, err
			}
		case "mvex":
			return nil, &media.UnsupportedError{Format: Name, What: "a file in movie fragments"}
		}
	}
	return d, d.Rewind()
}

// findMovie looks through the boxes of the file for moov.
func (d *reader) findMovie() (box, error) {
	for offset := int64(0); offset+8 <= d.size; {
		b, err := readBox(d.file, offset, d.size, true)
		if err != nil {
			return box{}, err
		}
		if b.kind == "moov" {
			return b, nil
		}
		offset = b.end
	}
	return box{}, damaged(d.size, "there is no moov box: the file was cut short or is no mp4")
}

// openTrack reads one trak box (8.3.1).
func (d *reader) openTrack(trak box) error {
	t := media.Track{Kind: media.Other}
	tkhd, err := trak.need(d.file, "tkhd")
	if err != nil {
		return err
	}
	head, err := tkhd.payload(d.file, 24, 24)
	if err != nil {
		return err
	}
	if t.ID = int(binary.BigEndian.Uint32(head[12:])); head[0] == 1 {
		t.ID = int(binary.BigEndian.Uint32(head[20:]))
	}
	mdia, err := trak.need(d.file, "mdia")
	if err != nil {
		return err
	}
	if err := d.readHeader(mdia, &t); err != nil {
		return err
	}
	stbl, err := mdia.need(d.file, "minf", "stbl")
	if err != nil {
		return err
	}
	if t.Kind == media.Video {
		if err := d.readEntry(stbl, &t); err != nil {
			return err
		}
	}
	table, err := openSamples(d.file, stbl)
	if err != nil {
		return err
	}
	t.Packets = table.count
	d.tracks, d.tables = append(d.tracks, t), append(d.tables, table)
	return nil
}

// readHeader reads mdhd (8.4.2) and hdlr (8.4.3).
func (d *reader) readHeader(mdia box, t *media.Track) error {
	mdhd, err := mdia.need(d.file, "mdhd")
	if err != nil {
		return err
	}
	head, err := mdhd.payload(d.file, 20, 32)
	if err != nil {
		return err
	}
	scaleAt, duration := 12, uint64(binary.BigEndian.Uint32(head[16:]))
	if head[0] == 1 {
		if len(head) < 32 {
			return damaged(mdhd.start, "box \"mdhd\" is too short for its version")
		}
		scaleAt, duration = 20, binary.BigEndian.Uint64(head[24:])
	}
	t.Timescale = int64(binary.BigEndian.Uint32(head[scaleAt:]))
	if t.Timescale == 0 {
		return damaged(mdhd.start, "the timescale is zero")
	}
	t.Duration = time.Duration(float64(duration) / float64(t.Timescale) * float64(time.Second))
	hdlr, err := mdia.need(d.file, "hdlr")
	if err != nil {
		return err
	}
	if head, err = hdlr.payload(d.file, 12, 12); err != nil {
		return err
	}
	switch string(head[8:12]) {
	case "vide":
		t.Kind = media.Video
	case "soun":
		t.Kind = media.Sound
	}
	return nil
}

// readEntry reads the first visual sample entry of stsd (8.5.2, 12.1.3).
func (d *reader) readEntry(stbl box, t *media.Track) error {
	stsd, err := stbl.need(d.file, "stsd")
	if err != nil {
		return err
	}
	if stsd.size() < 16 {
		return damaged(stsd.start, "there is no sample entry")
	}
	entry, err := readBox(d.file, stsd.start+8, stsd.end, false)
	if err != nil {
		return err
	}
	const fields = 78 // of a visual sample entry, before its boxes
	head, err := entry.payload(d.file, fields, fields)
	if err != nil {
		return err
	}
	t.Format = media.Format{
		Width:  int(binary.BigEndian.Uint16(head[24:])),
		Height: int(binary.BigEndian.Uint16(head[26:])),
	}
	t.Codec = entry.kind
	if word, known := codecs[entry.kind]; known {
		t.Codec = word
	}
	if entry.kind == "mp4v" {
		esds, found, err := box{entry.kind, entry.start + fields, entry.end}.find(d.file, "esds")
		if err != nil || !found {
			return err
		}
		data, err := esds.payload(d.file, 4, 4096)
		if err != nil {
			return err
		}
		if word, known := objectTypes[objectType(data[4:])]; known {
			t.Codec = word
		}
	}
	t.Format.Codec = t.Codec
	return nil
}

// objectType finds the object type indication in an elementary stream
// descriptor (ISO/IEC 14496-1, 7.2.6.5 and 7.2.6.6), or returns 0.
func objectType(d []byte) byte {
	const tagES, tagDecoderConfig = 3, 4
	body, tag := descriptor(d)
	if tag != tagES || len(body) < 3 {
		return 0
	}
	flags, body := body[2], body[3:]
	skip := 0
	if flags&0x80 != 0 { // depends on another stream
		skip += 2
	}
	if flags&0x40 != 0 && len(body) > skip { // a URL of this length follows
		skip += 1 + int(body[skip])
	}
	if flags&0x20 != 0 { // a clock stream
		skip += 2
	}
	if body, tag = descriptor(body[min(skip, len(body)):]); tag != tagDecoderConfig || len(body) < 1 {
		return 0
	}
	return body[0]
}

// descriptor splits the body off the first descriptor of d (8.3.3).
func descriptor(d []byte) (body []byte, tag byte) {
	if len(d) == 0 {
		return nil, 0
	}
	size, i := 0, 1
	for ; i < len(d) && i <= 4; i++ {
		size = size<<7 | int(d[i]&0x7f)
		if d[i]&0x80 == 0 {
			i++
			break
		}
	}
	return d[i:min(i+size, len(d))], d[0]
}

func (d *reader) Tracks() []media.Track { return d.tracks }

// Rewind goes back to the first packet of every track.
func (d *reader) Rewind() error {
	d.ahead, d.ended = make([]sample, len(d.tables)), make([]bool, len(d.tables))
	for i, t := range d.tables {
		t.rewind()
		if err := d.advance(i); err != nil {
			return err
		}
	}
	return nil
}

// advance looks up the next sample of track i.
func (d *reader) advance(i int) (err error) {
	d.ahead[i], err = d.tables[i].next()
	if errors.Is(err, io.EOF) {
		d.ended[i], err = true, nil
	}
	return err
}

// ReadPacket reads the packet that lies first in the file among the next ones
// of all tracks.
func (d *reader) ReadPacket(p *media.Packet) error {
	first := -1
	for i := range d.ahead {
		if !d.ended[i] && (first < 0 || d.ahead[i].offset < d.ahead[first].offset) {
			first = i
		}
	}
	if first < 0 {
		return io.EOF
	}
	s := d.ahead[first]
	if s.offset < 0 || s.size > maxPacket || s.offset > d.size-s.size {
		return damaged(s.offset, "packet %d of %d bytes lies beyond the end of the file", d.tables[first].index, s.size)
	}
	data := p.Data
	if int64(cap(data)) < s.size {
		data = make([]byte, s.size)
	}
	*p = s.Packet
	p.Track, p.Data = first, data[:s.size]
	if err := readFull(d.file, p.Data, s.offset); err != nil {
		return err
	}
	return d.advance(first)
}
