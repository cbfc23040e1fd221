package mp4

import (
	"encoding/binary"
	"errors"
	"io"
	"time"

	"vividstrain/core/media"
)

// maxPacket is the largest size of one packet, in bytes.
const maxPacket = 1 << 28

// reader is a Demuxer.
type reader struct {
	file   io.ReaderAt
	size   int64
	codecs media.Codecs
	tracks []media.Track
	tables []*samples
	edits  []edit
	ahead  []sample // the next sample of each track
	ended  []bool
	// fragments is nil where moov lists all samples.
	fragments *fragments
}

// open reads the movie box of the file.
func open(file io.ReaderAt, size int64, codecs media.Codecs) (media.Demuxer, error) {
	d := &reader{file: file, size: size, codecs: codecs}
	moov, err := d.findMovie()
	if err != nil {
		return nil, err
	}
	list, err := children(file, moov.start, moov.end)
	if err != nil {
		return nil, err
	}
	var extends box
	for _, b := range list {
		switch b.kind {
		case "trak":
			if err := d.openTrack(b); err != nil {
				return nil, err
			}
		case "mvex":
			extends = b
		}
	}
	if extends.kind != "" {
		d.fragments = &fragments{file: file, size: size, start: moov.end}
		for _, t := range d.tracks {
			d.fragments.ids = append(d.fragments.ids, t.ID)
		}
		if err := d.fragments.readExtends(extends); err != nil {
			return nil, err
		}
	}
	if err := d.readEdits(moov, list); err != nil {
		return nil, err
	}
	return d, d.Rewind()
}

// findMovie searches the boxes of the file for moov.
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
	return box{}, damaged(d.size, "there is no moov box: the file is truncated or not an mp4 file")
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
	if err := d.readEntry(stbl, &t); err != nil {
		return err
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
		t.Kind = media.Audio
	}
	return nil
}

func (d *reader) Tracks() []media.Track { return d.tracks }

// Rewind returns to the first packet of every track.
func (d *reader) Rewind() error {
	d.ahead, d.ended = make([]sample, len(d.tables)), make([]bool, len(d.tables))
	if d.fragments != nil {
		d.fragments.rewind()
	}
	for i, t := range d.tables {
		t.rewind()
		if err := d.advance(i); err != nil {
			return err
		}
	}
	return nil
}

// SeekTo seeks to the last key frame of a track that is shown no later than pts. Files in
// fragments cannot seek, since they do not list their key frames.
func (d *reader) SeekTo(track int, pts int64) error {
	if d.fragments != nil {
		return &media.UnsupportedError{Format: "mp4", What: "seeking in a file in fragments"}
	}
	if err := d.Rewind(); err != nil {
		return err
	}
	key := d.ahead[track].offset
	for !d.ended[track] {
		p := d.ahead[track].Packet
		d.edits[track].apply(&p)
		if p.DTS > pts {
			break
		}
		if p.Key && p.PTS <= pts {
			key = d.ahead[track].offset
		}
		if err := d.advance(track); err != nil {
			return err
		}
	}
	if err := d.Rewind(); err != nil {
		return err
	}
	for i := range d.tables {
		for !d.ended[i] && d.ahead[i].offset < key {
			if err := d.advance(i); err != nil {
				return err
			}
		}
	}
	return nil
}

// advance reads the next sample of track i.
func (d *reader) advance(i int) (err error) {
	d.ahead[i], err = d.tables[i].next()
	if errors.Is(err, io.EOF) {
		d.ended[i], err = true, nil
	}
	return err
}

// ReadPacket reads, of the next packets of all tracks, the one that is first in the file; then
// those of fragments.
func (d *reader) ReadPacket(p *media.Packet) error {
	first := -1
	for i := range d.ahead {
		if !d.ended[i] && (first < 0 || d.ahead[i].offset < d.ahead[first].offset) {
			first = i
		}
	}
	if first >= 0 {
		if err := d.read(p, &d.ahead[first], first); err != nil {
			return err
		}
		return d.advance(first)
	}
	if d.fragments == nil {
		return io.EOF
	}
	s, err := d.fragments.peek()
	if err != nil {
		return err
	}
	if s == nil {
		return io.EOF
	}
	d.fragments.taken++
	return d.read(p, &s.sample, s.track)
}

// read reads the data of a sample.
func (d *reader) read(p *media.Packet, s *sample, track int) error {
	if s.offset < 0 || s.size > maxPacket || s.offset > d.size-s.size {
		return damaged(s.offset, "a packet of %d bytes is beyond the end of the file", s.size)
	}
	data := p.Data
	if int64(cap(data)) < s.size {
		data = make([]byte, s.size)
	}
	*p = s.Packet
	p.Track, p.Data, p.Offset = track, data[:s.size], s.offset
	d.edits[track].apply(p)
	return readFull(d.file, p.Data, s.offset)
}
