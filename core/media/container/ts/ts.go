// Package ts reads and writes MPEG-2 transport streams (Rec. ITU-T H.222.0 | ISO/IEC 13818-1):
// the first program of a stream, in packets of 188 bytes, or of 192 bytes that begin with a
// time.
package ts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"

	"github.com/asticode/go-astits"

	"vividstrain/core/media"
)

// Name is the container's name.
const Name = "ts"

// New returns the container, which recognises streams of these codecs.
func New(codecs media.Codecs) media.Container {
	return media.Container{
		Name:       Name,
		Extensions: []string{".ts", ".m2ts", ".mts"},
		Match:      func(head []byte) bool { return packetSize(head) > 0 },
		Open:       func(r io.ReaderAt, size int64) (media.Demuxer, error) { return open(r, size, codecs) },
		Create: func(w io.WriteSeeker, tracks []media.Track, _ int) (media.Muxer, error) {
			return create(w, tracks, codecs)
		},
		ByteStreams: true,
	}
}

const (
	syncByte  = 0x47
	clockRate = 90000 // Hz, of times
	wrap      = 1 << 33
	maxPacket = 1 << 26
	// searched is how many bytes of a file are searched for its tracks.
	searched = 8 << 20
	maxTrack = 64
)

// packetSize returns the distance between sync bytes.
func packetSize(head []byte) int {
	for _, layout := range [][2]int{{188, 0}, {192, 4}} {
		size, at := layout[0], layout[1]
		n := 0
		for ; at < len(head) && head[at] == syncByte; at += size {
			n++
		}
		if at >= len(head) && n >= 2 || n >= 5 {
			return size
		}
	}
	return 0
}

// reader is a Demuxer.
type reader struct {
	file   io.ReaderAt
	size   int64
	step   int // distance from packet to packet, bytes
	codecs media.Codecs
	tracks []media.Track
	pids   []uint16
	last   []int64 // the last DTS of each track, unwrapped
	demux  *astits.Demuxer
	read   counter // how far the file was read
	first  int64   // the first DTS of all tracks; times are relative to it
	began  bool
}

func open(file io.ReaderAt, size int64, codecs media.Codecs) (media.Demuxer, error) {
	head := make([]byte, min(size, media.SniffLen))
	if _, err := file.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	d := &reader{file: file, size: size, codecs: codecs, step: packetSize(head)}
	if d.step == 0 {
		return nil, damaged(0, "there are no packets")
	}
	if err := d.findTracks(); err != nil {
		return nil, err
	}
	return d, d.Rewind()
}

// input reads whole packets of 188 bytes.
func (d *reader) input(limit int64) io.Reader {
	d.read = counter{r: io.NewSectionReader(d.file, 0, min(d.size-d.size%int64(d.step), limit))}
	if d.step == 188 {
		return &d.read
	}
	return &stripper{r: &d.read}
}

// counter counts the bytes that are read.
type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// stripper removes the time from packets of 192 bytes.
type stripper struct {
	r    io.Reader
	buf  [192]byte
	rest []byte
}

func (s *stripper) Read(p []byte) (int, error) {
	if len(s.rest) == 0 {
		if _, err := io.ReadFull(s.r, s.buf[:]); err != nil {
			return 0, err
		}
		s.rest = s.buf[4:]
	}
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	return n, nil
}

func (d *reader) demuxer(limit int64) *astits.Demuxer {
	return astits.NewDemuxer(context.Background(), d.input(limit), astits.DemuxerOptPacketSize(188))
}

// findTracks searches for the first program map.
func (d *reader) findTracks() error {
	demux := d.demuxer(searched)
	for {
		data, err := nextData(demux)
		if errors.Is(err, astits.ErrNoMorePackets) {
			return damaged(d.read.n, "there is no program map: the file is truncated or not a transport stream")
		}
		if err != nil {
			continue
		}
		if data.PMT == nil {
			continue
		}
		for _, s := range data.PMT.ElementaryStreams {
			if len(d.tracks) == maxTrack {
				return damaged(d.read.n, "a program has too many streams")
			}
			t := media.Track{ID: int(s.ElementaryPID), Kind: media.Other, Timescale: clockRate, Codec: fmt.Sprintf("type %#x", uint8(s.StreamType))}
			if codec := d.codecs.ByTS(uint8(s.StreamType)); codec != nil {
				t.Kind, t.Codec = codec.Kind, codec.Name
			}
			t.Format.Codec = t.Codec
			d.tracks, d.pids = append(d.tracks, t), append(d.pids, s.ElementaryPID)
		}
		return nil
	}
}

// errBroken means that a packet is damaged and is skipped.
var errBroken = errors.New("a packet is broken")

// nextData calls NextData and turns its panics on damaged packets into errors.
func nextData(demux *astits.Demuxer) (data *astits.DemuxerData, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = errBroken
		}
	}()
	return demux.NextData()
}

func (d *reader) Tracks() []media.Track { return d.tracks }

func (d *reader) Rewind() error {
	d.demux, d.began = d.demuxer(math.MaxInt64), false
	d.last = make([]int64, len(d.tracks))
	return nil
}

func (d *reader) ReadPacket(p *media.Packet) error {
	for broken := 0; ; {
		data, err := nextData(d.demux)
		if errors.Is(err, astits.ErrNoMorePackets) {
			return io.EOF
		}
		if err != nil { // damaged packets are skipped
			if broken++; broken > 10000 {
				return damaged(d.read.n, "most packets are broken")
			}
			continue
		}
		if data.PES == nil || len(data.PES.Data) == 0 {
			continue
		}
		if track := d.trackOf(data.PID); track >= 0 && len(data.PES.Data) <= maxPacket {
			d.fill(p, data, track)
			return nil
		}
	}
}

func (d *reader) trackOf(pid uint16) int {
	for i, id := range d.pids {
		if id == pid {
			return i
		}
	}
	return -1
}

// fill converts a PES packet (2.4.3.6) to a packet.
func (d *reader) fill(p *media.Packet, data *astits.DemuxerData, track int) {
	*p = media.Packet{Track: track, Data: append(p.Data[:0], data.PES.Data...), PTS: media.NoTime}
	if a := data.FirstPacket; a != nil && a.AdaptationField != nil {
		p.Key = a.AdaptationField.RandomAccessIndicator
	}
	if d.tracks[track].Kind == media.Audio {
		p.Key = true
	}
	h := data.PES.Header
	if h == nil || h.OptionalHeader == nil || h.OptionalHeader.PTS == nil {
		p.DTS = d.last[track] - d.first
		return
	}
	pts := h.OptionalHeader.PTS.Base
	dts := pts
	if h.OptionalHeader.DTS != nil {
		dts = h.OptionalHeader.DTS.Base
	}
	if !d.began {
		d.first, d.began = dts, true
		for i := range d.last {
			d.last[i] = dts
		}
	}
	d.last[track] = unwrap(dts, d.last[track])
	p.DTS = d.last[track] - d.first
	p.PTS = unwrap(pts, d.last[track]) - d.first
}

// Origin returns the first time stamp, which is subtracted from all times; 0 before the first
// packet.
func (d *reader) Origin() int64 { return d.first }

// unwrap extends a time of 33 bits so that it follows the previous one.
func unwrap(t, before int64) int64 {
	t += (before - t + wrap/2) &^ (wrap - 1)
	return t
}

// writer is a Muxer.
type writer struct {
	mux    *astits.Muxer
	tracks []media.Track
}

// firstPID is the PID of the first track.
const firstPID = 256

// delay is added to all times, so that none is negative where pictures are reordered.
const delay = clockRate

func create(w io.WriteSeeker, tracks []media.Track, codecs media.Codecs) (media.Muxer, error) {
	m := &writer{mux: astits.NewMuxer(context.Background(), w), tracks: tracks}
	m.mux.SetPCRPID(firstPID)
	for i, t := range tracks {
		codec := codecs.Named(t.Codec)
		if codec == nil || len(codec.IDs.TS) == 0 || t.Timescale <= 0 {
			return nil, &media.UnsupportedError{Format: Name, What: "writing " + t.Codec}
		}
		kind := astits.StreamType(codec.IDs.TS[0])
		if err := m.mux.AddElementaryStream(astits.PMTElementaryStream{ElementaryPID: uint16(firstPID + i), StreamType: kind}); err != nil {
			return nil, err
		}
	}
	_, err := m.mux.WriteTables()
	return m, err
}

// WritePacket appends one PES packet. Packets of AAC must be in ADTS form, those of video in
// byte stream form.
func (m *writer) WritePacket(p *media.Packet) error {
	if p.Track < 0 || p.Track >= len(m.tracks) || p.PTS == media.NoTime {
		return fmt.Errorf("ts: a packet of track %d with time %d cannot be written", p.Track, p.PTS)
	}
	scale := m.tracks[p.Track].Timescale
	clock := func(t int64) *astits.ClockReference {
		ticks := int64(math.Round(float64(t)/float64(scale)*clockRate)) + delay
		return &astits.ClockReference{Base: ((ticks % wrap) + wrap) % wrap}
	}
	dts := min(p.DTS, p.PTS)
	header := &astits.PESOptionalHeader{MarkerBits: 2, DataAlignmentIndicator: true, PTSDTSIndicator: astits.PTSDTSIndicatorBothPresent,
		PTS: clock(p.PTS), DTS: clock(dts)}
	stream := uint8(0xE0)
	if m.tracks[p.Track].Kind == media.Audio {
		stream = 0xC0
	}
	field := &astits.PacketAdaptationField{RandomAccessIndicator: p.Key}
	if p.Track == 0 {
		field.HasPCR, field.PCR = true, clock(dts-scale/2)
	}
	_, err := m.mux.WriteData(&astits.MuxerData{PID: uint16(firstPID + p.Track), AdaptationField: field,
		PES: &astits.PESData{Data: p.Data, Header: &astits.PESHeader{StreamID: stream, OptionalHeader: header}}})
	return err
}

func (m *writer) Close() error { return nil }

func damaged(offset int64, what string) error {
	return &media.FormatError{Format: Name, Offset: offset, What: what}
}
