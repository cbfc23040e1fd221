package mp4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"vividstrain/core/media"
)

// writer is a Muxer. The samples go into one mdat; space for moov is reserved before it, so that
// players can start before they have the whole file.
type writer struct {
	w      io.WriteSeeker
	tracks []*trackWriter
	room   int64        // bytes reserved for moov
	mdat   int64        // offset of the mdat box
	at     int64        // offset of the next sample
	last   *trackWriter // of the last sample
}

// trackWriter collects the tables of one track.
type trackWriter struct {
	media.Track
	ids     *media.Identifiers
	sizes   []uint32
	keys    []uint32 // sample numbers, from 1
	allKeys bool
	times   []run // durations
	shifts  []run // PTS - DTS, as signed numbers
	least   int64 // smallest of shifts, at most 0
	length  int64 // sum of the durations
	end     int64 // of the picture that is shown last
	chunks  []chunk
}

// run is one entry of a run-length coded table.
type run struct{ count, value uint32 }

// chunk is a group of samples of one track that are stored together.
type chunk struct {
	offset int64
	count  uint32
}

func appendRun(runs []run, value uint32) []run {
	if n := len(runs); n > 0 && runs[n-1].value == value {
		runs[n-1].count++
		return runs
	}
	return append(runs, run{1, value})
}

// roomFor returns more bytes than moov usually needs for this many samples.
func roomFor(packets, tracks int) int64 { return 3072*int64(tracks) + int64(packets)*28 }

// newTrackWriters prepares to write the tracks, or returns why they cannot be written.
func newTrackWriters(tracks []media.Track, codecs media.Codecs) (list []*trackWriter, err error) {
	if len(tracks) == 0 || len(tracks) > 64 {
		return nil, errors.New("mp4: a file has 1 to 64 tracks")
	}
	for _, t := range tracks {
		codec := codecs.Named(t.Codec)
		if codec == nil || !codec.IDs.InMP4() {
			return nil, &media.UnsupportedError{Format: Name, What: "writing " + t.Codec}
		}
		if t.Timescale <= 0 || t.Timescale > math.MaxUint32 ||
			t.Format.Width > math.MaxUint16 || t.Format.Height > math.MaxUint16 {
			return nil, errors.New("mp4: a track of this timescale and size cannot be written")
		}
		list = append(list, &trackWriter{Track: t, ids: &codec.IDs})
	}
	return list, nil
}

// create writes the beginning of the file.
func create(w io.WriteSeeker, tracks []media.Track, packets int, codecs media.Codecs) (media.Muxer, error) {
	list, err := newTrackWriters(tracks, codecs)
	if err != nil {
		return nil, err
	}
	m := &writer{w: w, tracks: list, room: roomFor(packets, len(tracks))}
	for _, t := range list {
		t.allKeys = true
	}
	var b builder
	b.fileType()
	b.u32(uint32(m.room))
	b.text("free")
	b.zeros(int(m.room) - 8)
	m.mdat = int64(len(b))
	b.u32(1) // the size follows as 64 bits, written by Close
	b.text("mdat")
	b.u64(0)
	m.at = int64(len(b))
	_, err = w.Write(b)
	return m, err
}

func (b *builder) fileType() {
	b.box("ftyp", func() { // 4.3
		b.text("iso6")
		b.u32(0)
		b.text("iso6", "mp41")
	})
}

// checkPacket returns an error if a packet cannot be written.
func checkPacket(p *media.Packet, tracks int) error {
	if p.Track < 0 || p.Track >= tracks || p.Duration <= 0 || p.Duration > math.MaxUint32 || len(p.Data) > maxPacket ||
		p.PTS == media.NoTime || p.PTS-p.DTS > math.MaxInt32 || p.PTS-p.DTS < math.MinInt32 {
		return fmt.Errorf("mp4: a packet of track %d with time %d, %d units long and %d bytes cannot be written",
			p.Track, p.PTS, p.Duration, len(p.Data))
	}
	return nil
}

// WritePacket appends one sample. The packets of a track must come in decoding order; each has a
// duration, and its DTS is the sum of the durations before it.
func (m *writer) WritePacket(p *media.Packet) error {
	if err := checkPacket(p, len(m.tracks)); err != nil {
		return err
	}
	if _, err := m.w.Write(p.Data); err != nil {
		return err
	}
	t := m.tracks[p.Track]
	t.add(p)
	if m.last == t {
		t.chunks[len(t.chunks)-1].count++
	} else {
		t.chunks = append(t.chunks, chunk{m.at, 1})
		m.last = t
	}
	m.at += int64(len(p.Data))
	return nil
}

// add adds a sample to the tables.
func (t *trackWriter) add(p *media.Packet) {
	t.sizes = append(t.sizes, uint32(len(p.Data)))
	if p.Key {
		t.keys = append(t.keys, uint32(len(t.sizes)))
	}
	t.allKeys = t.allKeys && p.Key
	shift := p.PTS - t.length
	t.times = appendRun(t.times, uint32(p.Duration))
	t.shifts = appendRun(t.shifts, uint32(int32(shift)))
	t.least, t.end = min(t.least, shift), max(t.end, p.PTS+p.Duration)
	t.length += p.Duration
}

// Close writes the sizes and moov.
func (m *writer) Close() error {
	var size builder
	size.u64(uint64(m.at - m.mdat))
	if err := m.writeAt(m.mdat+8, size); err != nil {
		return err
	}
	var b builder
	b.movie(m.tracks, false)
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

// movieScale is the timescale of the movie box: milliseconds.
const movieScale = 1000

// inMovie converts a time of the track to units of the movie.
func (t *trackWriter) inMovie(units int64) uint64 {
	return uint64(math.Round(float64(units) / float64(t.Timescale) * movieScale))
}

// movie writes moov (8.2.1); for a file in fragments it has no samples.
func (b *builder) movie(tracks []*trackWriter, fragmented bool) {
	length := uint64(0)
	for _, t := range tracks {
		length = max(length, t.inMovie(t.end))
	}
	b.box("moov", func() {
		b.full("mvhd", 1, 0, func() { // 8.2.2
			b.zeros(16)
			b.u32(movieScale)
			b.u64(length)
			b.u32(0x10000) // rate 1.0
			b.u16(0x100)   // volume 1.0
			b.zeros(10)
			b.matrix()
			b.zeros(24)
			b.u32(uint32(len(tracks) + 1)) // next track
		})
		for i, t := range tracks {
			b.track(t, i+1)
		}
		if fragmented {
			b.box("mvex", func() { // 8.8.1
				for i := range tracks {
					b.full("trex", 0, 0, func() { // 8.8.3
						b.u32(uint32(i + 1))
						b.u32(1)
						b.zeros(12)
					})
				}
			})
		}
	})
}

func (b *builder) track(t *trackWriter, id int) {
	b.box("trak", func() {
		b.full("tkhd", 1, 3, func() { // 8.3.2: enabled, in movie
			b.zeros(16)
			b.u32(uint32(id))
			b.u32(0)
			b.u64(t.inMovie(t.end))
			b.zeros(12)
			if t.Kind == media.Audio {
				b.u16(0x100) // volume 1.0
			} else {
				b.u16(0)
			}
			b.u16(0)
			b.matrix()
			b.u32(uint32(t.Format.Width) << 16)
			b.u32(uint32(t.Format.Height) << 16)
		})
		b.edits(t)
		b.box("mdia", func() { b.media(t) })
	})
}

// edits writes an edit list that undoes the shift that keeps composition times from being
// negative (8.6.6).
func (b *builder) edits(t *trackWriter) {
	start := -t.least
	if start == 0 {
		return
	}
	b.box("edts", func() {
		b.full("elst", 1, 0, func() {
			b.u32(1)
			b.u64(t.inMovie(t.end))
			b.u64(uint64(start))
			b.u32(0x10000) // rate 1.0
		})
	})
}

// media writes the content of mdia (8.4.1).
func (b *builder) media(t *trackWriter) {
	b.full("mdhd", 1, 0, func() {
		b.zeros(16)
		b.u32(uint32(t.Timescale))
		b.u64(uint64(t.length))
		b.u16(0x55C4) // language: undetermined
		b.u16(0)
	})
	b.full("hdlr", 0, 0, func() {
		b.u32(0)
		if t.Kind == media.Audio {
			b.text("soun")
		} else {
			b.text("vide")
		}
		b.zeros(12 + 1) // and an empty name
	})
	b.box("minf", func() {
		if t.Kind == media.Audio {
			b.full("smhd", 0, 0, func() { b.zeros(4) })
		} else {
			b.full("vmhd", 0, 1, func() { b.zeros(8) })
		}
		b.box("dinf", func() {
			b.full("dref", 0, 0, func() {
				b.u32(1)
				b.full("url ", 0, 1, func() {}) // in this file
			})
		})
		b.box("stbl", func() { b.tables(t) })
	})
}

// tables writes the content of stbl (8.5.1).
func (b *builder) tables(t *trackWriter) {
	b.full("stsd", 0, 0, func() {
		b.u32(1)
		b.entry(t)
	})
	b.runs("stts", t.times, 0)
	if t.least != 0 || len(t.shifts) > 1 {
		b.runs("ctts", t.shifts, uint32(-t.least))
	}
	if !t.allKeys {
		b.full("stss", 0, 0, func() {
			b.u32(uint32(len(t.keys)))
			for _, k := range t.keys {
				b.u32(k)
			}
		})
	}
	b.chunks(t.chunks)
	b.full("stsz", 0, 0, func() {
		b.u32(0)
		b.u32(uint32(len(t.sizes)))
		for _, s := range t.sizes {
			b.u32(s)
		}
	})
	b.full("co64", 0, 0, func() {
		b.u32(uint32(len(t.chunks)))
		for _, c := range t.chunks {
			b.u64(uint64(c.offset))
		}
	})
}

// runs writes a run-length coded table; add is added to every value.
func (b *builder) runs(kind string, runs []run, add uint32) {
	b.full(kind, 0, 0, func() {
		b.u32(uint32(len(runs)))
		for _, r := range runs {
			b.u32(r.count)
			b.u32(r.value + add)
		}
	})
}

// chunks writes the number of samples of each chunk (8.7.4).
func (b *builder) chunks(chunks []chunk) {
	b.full("stsc", 0, 0, func() {
		at := len(*b)
		b.u32(0)
		n, last := uint32(0), uint32(0)
		for i, c := range chunks {
			if c.count == last {
				continue
			}
			b.u32(uint32(i + 1))
			b.u32(c.count)
			b.u32(1)
			n, last = n+1, c.count
		}
		binary.BigEndian.PutUint32((*b)[at:], n)
	})
}
