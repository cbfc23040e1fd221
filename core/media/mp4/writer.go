package mp4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"vividstrain/core/media"
)

// writer is a Muxer. The samples go into one mdat; room for the movie box is
// kept in front of it, so that players can start before the end has arrived.
type writer struct {
	w       io.WriteSeeker
	track   media.Track
	room    int64 // bytes kept for moov
	mdat    int64 // offset of the mdat box
	at      int64 // offset of the next sample
	sizes   []uint32
	keys    []uint32 // sample numbers, from 1
	allKeys bool
	times   []run // durations
	length  int64 // sum of the durations
}

// run is one entry of a run-length coded table.
type run struct{ count, value uint32 }

// roomFor is more than a movie box with so many samples needs.
func roomFor(packets int) int64 { return 2048 + int64(packets)*16 }

// create writes the head of the file.
func create(w io.WriteSeeker, track media.Track, packets int) (media.Muxer, error) {
	if track.Codec != "mjpeg" {
		return nil, &media.UnsupportedError{Format: Name, What: "writing " + track.Codec}
	}
	if track.Timescale <= 0 || track.Timescale > math.MaxUint32 ||
		track.Format.Width > math.MaxUint16 || track.Format.Height > math.MaxUint16 {
		return nil, errors.New("mp4: a track of this timescale and size cannot be written")
	}
	m := &writer{w: w, track: track, room: roomFor(packets), allKeys: true}
	var b builder
	b.box("ftyp", func() { // 4.3
		b.text("iso6")
		b.u32(0)
		b.text("iso6", "mp41")
	})
	b.u32(uint32(m.room))
	b.text("free")
	b.zeros(int(m.room) - 8)
	m.mdat = int64(len(b))
	b.u32(1) // the size follows as 64 bits, written by Close
	b.text("mdat")
	b.u64(0)
	m.at = int64(len(b))
	_, err := w.Write(b)
	return m, err
}

// WritePacket appends one sample. Packets come in decoding order and are shown
// in the same order; each has a duration.
func (m *writer) WritePacket(p *media.Packet) error {
	if p.Duration <= 0 || p.Duration > math.MaxUint32 || len(p.Data) > maxPacket {
		return fmt.Errorf("mp4: packet %d has a duration of %d units and %d bytes", len(m.sizes), p.Duration, len(p.Data))
	}
	if _, err := m.w.Write(p.Data); err != nil {
		return err
	}
	m.at += int64(len(p.Data))
	m.sizes = append(m.sizes, uint32(len(p.Data)))
	if p.Key {
		m.keys = append(m.keys, uint32(len(m.sizes)))
	}
	m.allKeys = m.allKeys && p.Key
	if n := len(m.times); n > 0 && m.times[n-1].value == uint32(p.Duration) {
		m.times[n-1].count++
	} else {
		m.times = append(m.times, run{1, uint32(p.Duration)})
	}
	m.length += p.Duration
	return nil
}

// Close writes the sizes and the movie box.
func (m *writer) Close() error {
	var size builder
	size.u64(uint64(m.at - m.mdat))
	if err := m.writeAt(m.mdat+8, size); err != nil {
		return err
	}
	var b builder
	m.movie(&b)
	if rest := m.room - int64(len(b)); rest >= 8 {
		b.u32(uint32(rest))
		b.text("free")
		return m.writeAt(m.mdat-m.room, b)
	}
	return m.writeAt(m.at, b) // more packets came than were announced
}

func (m *writer) writeAt(offset int64, data []byte) error {
	if _, err := m.w.Seek(offset, io.SeekStart); err != nil {
		return err
	}
	_, err := m.w.Write(data)
	return err
}

// movie writes moov (8.2.1).
func (m *writer) movie(b *builder) {
	length := uint64(m.length)
	b.box("moov", func() {
		b.full("mvhd", 1, 0, func() { // 8.2.2
			b.zeros(16)
			b.u32(uint32(m.track.Timescale))
			b.u64(length)
			b.u32(0x10000) // rate 1.0
			b.u16(0x100)   // volume 1.0
			b.zeros(10)
			b.matrix()
			b.zeros(24)
			b.u32(2) // next track
		})
		b.box("trak", func() {
			b.full("tkhd", 1, 3, func() { // 8.3.2: enabled, in movie
				b.zeros(16)
				b.u32(1)
				b.u32(0)
				b.u64(length)
				b.zeros(16)
				b.matrix()
				b.u32(uint32(m.track.Format.Width) << 16)
				b.u32(uint32(m.track.Format.Height) << 16)
			})
			b.box("mdia", func() { m.media(b, length) })
		})
	})
}

// media writes the content of mdia (8.4.1).
func (m *writer) media(b *builder, length uint64) {
	b.full("mdhd", 1, 0, func() {
		b.zeros(16)
		b.u32(uint32(m.track.Timescale))
		b.u64(length)
		b.u16(0x55C4) // language: undetermined
		b.u16(0)
	})
	b.full("hdlr", 0, 0, func() {
		b.u32(0)
		b.text("vide")
		b.zeros(12 + 1) // and an empty name
	})
	b.box("minf", func() {
		b.full("vmhd", 0, 1, func() { b.zeros(8) })
		b.box("dinf", func() {
			b.full("dref", 0, 0, func() {
				b.u32(1)
				b.full("url ", 0, 1, func() {}) // in this file
			})
		})
		b.box("stbl", func() { m.tables(b) })
	})
}

// tables writes the content of stbl (8.5.1).
func (m *writer) tables(b *builder) {
	b.full("stsd", 0, 0, func() {
		b.u32(1)
		m.entry(b)
	})
	b.full("stts", 0, 0, func() {
		b.u32(uint32(len(m.times)))
		for _, t := range m.times {
			b.u32(t.count)
			b.u32(t.value)
		}
	})
	if !m.allKeys {
		b.full("stss", 0, 0, func() {
			b.u32(uint32(len(m.keys)))
			for _, k := range m.keys {
				b.u32(k)
			}
		})
	}
	b.full("stsc", 0, 0, func() { // one chunk holds all
		b.u32(1)
		b.u32(1)
		b.u32(uint32(len(m.sizes)))
		b.u32(1)
	})
	b.full("stsz", 0, 0, func() {
		b.u32(0)
		b.u32(uint32(len(m.sizes)))
		for _, s := range m.sizes {
			b.u32(s)
		}
	})
	b.full("co64", 0, 0, func() {
		b.u32(1)
		b.u64(uint64(m.mdat + 16))
	})
}

// entry writes the visual sample entry (12.1.3) with the descriptor of a JPEG
// stream (ISO/IEC 14496-14, 5.6; ISO/IEC 14496-1, 7.2.6).
func (m *writer) entry(b *builder) {
	b.box("mp4v", func() {
		b.zeros(6)
		b.u16(1) // data reference
		b.zeros(16)
		b.u16(uint16(m.track.Format.Width))
		b.u16(uint16(m.track.Format.Height))
		b.u32(72 << 16) // dots an inch
		b.u32(72 << 16)
		b.u32(0)
		b.u16(1) // frames a sample
		b.zeros(32)
		b.u16(24)     // depth: colour without alpha
		b.u16(0xFFFF) // no colour table
		b.full("esds", 0, 0, func() {
			b.u8(3, 21, 0, 1, 0) // ES descriptor: id 1, no flags
			b.u8(4, 13, objectJPEG, 4<<2|1)
			b.u8(0, 0, 0)                         // buffer size
			b.u32(uint32(m.track.Format.Bitrate)) // at most
			b.u32(uint32(m.track.Format.Bitrate)) // on average
			b.u8(6, 1, 2)                         // SL descriptor: as in MP4 files
		})
	})
}

// builder appends boxes to itself.
type builder []byte

func (b *builder) u8(v ...byte) { *b = append(*b, v...) }
func (b *builder) u16(v uint16) { *b = binary.BigEndian.AppendUint16(*b, v) }
func (b *builder) u32(v uint32) { *b = binary.BigEndian.AppendUint32(*b, v) }
func (b *builder) u64(v uint64) { *b = binary.BigEndian.AppendUint64(*b, v) }
func (b *builder) zeros(n int)  { *b = append(*b, make([]byte, n)...) }
func (b *builder) text(s ...string) {
	for _, s := range s {
		*b = append(*b, s...)
	}
}

// matrix writes the transformation that changes nothing.
func (b *builder) matrix() {
	for _, v := range [9]uint32{0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000} {
		b.u32(v)
	}
}

// box writes a box around what content writes.
func (b *builder) box(kind string, content func()) {
	start := len(*b)
	b.u32(0)
	b.text(kind)
	content()
	binary.BigEndian.PutUint32((*b)[start:], uint32(len(*b)-start))
}

// full writes a full box: one with a version and flags.
func (b *builder) full(kind string, version byte, flags uint32, content func()) {
	b.box(kind, func() {
		b.u32(uint32(version)<<24 | flags)
		content()
	})
}
