package mp4

import (
	"encoding/binary"
	"io"
	"math"
	"slices"

	"vividstrain/core/media"
)

// Flags of tfhd (8.8.7) and trun (8.8.8).
const (
	tfhdBase        = 0x000001
	tfhdDescription = 0x000002
	tfhdDuration    = 0x000008
	tfhdSize        = 0x000010
	tfhdFlags       = 0x000020
	tfhdMoofBase    = 0x020000
	trunOffset      = 0x000001
	trunFirstFlags  = 0x000004
	trunDuration    = 0x000100
	trunSize        = 0x000200
	trunFlags       = 0x000400
	trunShift       = 0x000800
	sampleNotSync   = 0x010000
)

// fragments reads the samples of a file in movie fragments (8.8), one fragment
// at a time.
type fragments struct {
	file  io.ReaderAt
	size  int64
	start int64 // offset from which to look for the first fragment
	at    int64 // offset from which to look for the next one
	ids   []int // of the tracks
	extra []defaults
	next  []int64 // decode time of each track's next sample
	ready []fragmentSample
	taken int
}

// fragmentSample is a sample of track.
type fragmentSample struct {
	sample
	track int
}

// defaults are the values of trex (8.8.3) and tfhd for samples that do not state their own.
type defaults struct{ duration, size, flags uint32 }

// maxFragment is the largest number of samples in one fragment.
const maxFragment = 1 << 20

// readExtends reads trex of every track.
func (f *fragments) readExtends(mvex box) error {
	f.extra = make([]defaults, len(f.ids))
	list, err := children(f.file, mvex.start, mvex.end)
	if err != nil {
		return err
	}
	for _, b := range list {
		if b.kind != "trex" {
			continue
		}
		data, err := b.payload(f.file, 24, 24)
		if err != nil {
			return err
		}
		if i := slices.Index(f.ids, int(binary.BigEndian.Uint32(data[4:]))); i >= 0 {
			f.extra[i] = defaults{binary.BigEndian.Uint32(data[12:]), binary.BigEndian.Uint32(data[16:]), binary.BigEndian.Uint32(data[20:])}
		}
	}
	return nil
}

func (f *fragments) rewind() {
	f.at, f.ready, f.taken = f.start, f.ready[:0], 0
	f.next = make([]int64, len(f.ids))
}

// peek returns the next sample, or nil after the last one.
func (f *fragments) peek() (*fragmentSample, error) {
	for f.taken == len(f.ready) {
		f.ready, f.taken = f.ready[:0], 0
		if f.at+8 > f.size {
			return nil, nil
		}
		b, err := readBox(f.file, f.at, f.size, true)
		if err != nil {
			return nil, err
		}
		if b.kind == "moof" {
			if err := f.readFragment(b, f.at); err != nil {
				return nil, err
			}
		}
		f.at = b.end
	}
	return &f.ready[f.taken], nil
}

func (f *fragments) readFragment(moof box, base int64) error {
	list, err := children(f.file, moof.start, moof.end)
	if err != nil {
		return err
	}
	for _, b := range list {
		if b.kind == "traf" {
			if err := f.readTrack(b, base); err != nil {
				return err
			}
		}
	}
	slices.SortStableFunc(f.ready, func(a, b fragmentSample) int { return int(min(max(a.offset-b.offset, -1), 1)) })
	return nil
}

// readTrack reads traf (8.8.6).
func (f *fragments) readTrack(traf box, base int64) error {
	list, err := children(f.file, traf.start, traf.end)
	if err != nil {
		return err
	}
	track, d := -1, defaults{}
	offset := base // of the data that follows
	for _, b := range list {
		data, err := b.payload(f.file, 0, maxConfig)
		if b.kind == "trun" {
			data, err = b.payload(f.file, 8, 16+16*maxFragment)
		}
		if err != nil {
			return err
		}
		switch {
		case b.kind == "tfhd" && len(data) >= 8:
			if track = slices.Index(f.ids, int(binary.BigEndian.Uint32(data[4:]))); track < 0 {
				return nil
			}
			d = f.extra[track]
			offset, err = d.override(data, base)
		case b.kind == "tfdt" && track >= 0 && len(data) >= 8: // 8.8.12
			f.next[track] = int64(binary.BigEndian.Uint32(data[4:]))
			if data[0] == 1 && len(data) >= 12 {
				f.next[track] = int64(binary.BigEndian.Uint64(data[4:]))
			}
			if f.next[track] < 0 || f.next[track] > math.MaxInt64/2 {
				return damaged(b.start, "a fragment's time is out of range")
			}
		case b.kind == "trun" && track >= 0:
			offset, err = f.readRun(b, data, track, d, base, offset)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// override reads tfhd and returns the offset of the data.
func (d *defaults) override(data []byte, base int64) (int64, error) {
	flags := binary.BigEndian.Uint32(data) & 0xFFFFFF
	rest := data[8:]
	word := func(size int) (v uint64) {
		if len(rest) < size {
			rest = nil
			return 0
		}
		for _, b := range rest[:size] {
			v = v<<8 | uint64(b)
		}
		rest = rest[size:]
		return v
	}
	offset := base
	if flags&tfhdBase != 0 {
		if offset = int64(word(8)); offset < 0 {
			return 0, damaged(base, "a fragment's data has a negative offset")
		}
	}
	if flags&tfhdDescription != 0 {
		word(4)
	}
	if flags&tfhdDuration != 0 {
		d.duration = uint32(word(4))
	}
	if flags&tfhdSize != 0 {
		d.size = uint32(word(4))
	}
	if flags&tfhdFlags != 0 {
		d.flags = uint32(word(4))
	}
	return offset, nil
}

// readRun reads trun and returns the offset of the end of its data.
func (f *fragments) readRun(b box, data []byte, track int, d defaults, base, offset int64) (int64, error) {
	flags := binary.BigEndian.Uint32(data) & 0xFFFFFF
	count := int(binary.BigEndian.Uint32(data[4:]))
	rest := data[8:]
	short := damaged(b.start, "box \"trun\" is too short for %d samples", count)
	word := func() uint32 {
		if len(rest) < 4 {
			rest = nil
			return 0
		}
		v := binary.BigEndian.Uint32(rest)
		rest = rest[4:]
		return v
	}
	if flags&trunOffset != 0 {
		offset = base + int64(int32(word()))
	}
	firstFlags, hasFirst := d.flags, flags&trunFirstFlags != 0
	if hasFirst {
		firstFlags = word()
	}
	fields := 0
	for _, bit := range []uint32{trunDuration, trunSize, trunFlags, trunShift} {
		if flags&bit != 0 {
			fields++
		}
	}
	if count > maxFragment || len(rest) < 4*fields*count || len(f.ready)+count > maxFragment {
		return 0, short
	}
	for i := range count {
		s := fragmentSample{track: track}
		now := d
		if i == 0 && hasFirst {
			now.flags = firstFlags
		}
		if flags&trunDuration != 0 {
			now.duration = word()
		}
		if flags&trunSize != 0 {
			now.size = word()
		}
		if flags&trunFlags != 0 {
			now.flags = word()
		}
		shift := int64(0)
		if flags&trunShift != 0 {
			shift = int64(int32(word()))
		}
		s.offset, s.size = offset, int64(now.size)
		s.DTS, s.Duration = f.next[track], int64(now.duration)
		s.PTS, s.Key = s.DTS+shift, now.flags&sampleNotSync == 0
		offset += s.size
		f.next[track] += s.Duration
		f.ready = append(f.ready, s)
	}
	return offset, nil
}

// fragmentWriter is a Muxer of a file in movie fragments. Each fragment begins with a key frame
// of the first video track, so that a viewer can start there.
type fragmentWriter struct {
	w       io.Writer
	tracks  []*trackWriter
	lead    int // the track whose key frames begin fragments
	pending [][]fragmentSample
	data    [][]byte
	count   uint32
	goes    bool // the file continues a film: the times of the first packets are kept
}

// createFragmented starts a file in movie fragments, which can be played while it grows.
func createFragmented(w io.Writer, tracks []media.Track, codecs media.Codecs) (media.Muxer, error) {
	list, err := newTrackWriters(tracks, codecs)
	if err != nil {
		return nil, err
	}
	m := &fragmentWriter{w: w, tracks: list, pending: make([][]fragmentSample, len(tracks)), data: make([][]byte, len(tracks))}
	for i, t := range tracks {
		if t.Kind == media.Video && tracks[m.lead].Kind != media.Video {
			m.lead = i
		}
	}
	var b builder
	b.fileType()
	b.movie(m.tracks, true)
	_, err = w.Write(b)
	return m, err
}

// continueFragmented starts a file in movie fragments that begins at the times of its first
// packets, in the middle of a film.
func continueFragmented(w io.Writer, tracks []media.Track, codecs media.Codecs) (media.Muxer, error) {
	m, err := createFragmented(w, tracks, codecs)
	if err == nil {
		m.(*fragmentWriter).goes = true
	}
	return m, err
}

func (m *fragmentWriter) WritePacket(p *media.Packet) error {
	if err := checkPacket(p, len(m.tracks)); err != nil {
		return err
	}
	if t := m.tracks[p.Track]; m.goes && t.length == 0 && len(m.pending[p.Track]) == 0 {
		t.length = max(0, p.DTS)
	}
	if p.Track == m.lead && p.Key && len(m.pending[m.lead]) > 0 {
		if err := m.flush(); err != nil {
			return err
		}
	}
	s := fragmentSample{track: p.Track}
	s.size, s.PTS, s.Duration, s.Key = int64(len(p.Data)), p.PTS, p.Duration, p.Key
	m.pending[p.Track] = append(m.pending[p.Track], s)
	m.data[p.Track] = append(m.data[p.Track], p.Data...)
	return nil
}

// flush writes a fragment of all waiting packets.
func (m *fragmentWriter) flush() error {
	m.count++
	var b builder
	var offsets []int // of the data offset fields of the runs
	b.box("moof", func() {
		b.full("mfhd", 0, 0, func() { b.u32(m.count) })
		for i, list := range m.pending {
			if len(list) > 0 {
				offsets = append(offsets, b.fragment(m.tracks[i], i+1, list))
			}
		}
	})
	at := uint32(len(b) + 8)
	for i, data := range m.data {
		if len(m.pending[i]) > 0 {
			binary.BigEndian.PutUint32(b[offsets[0]:], at)
			offsets = offsets[1:]
			at += uint32(len(data))
		}
	}
	b.u32(at - uint32(len(b)))
	b.text("mdat")
	for i := range m.data {
		b = append(b, m.data[i]...)
		m.data[i], m.pending[i] = m.data[i][:0], m.pending[i][:0]
	}
	_, err := m.w.Write(b)
	return err
}

// fragment writes traf and returns the position of its data offset field.
func (b *builder) fragment(t *trackWriter, id int, list []fragmentSample) (offset int) {
	b.box("traf", func() {
		b.full("tfhd", 0, tfhdMoofBase, func() { b.u32(uint32(id)) })
		b.full("tfdt", 1, 0, func() { b.u64(uint64(t.length)) })
		b.full("trun", 1, trunOffset|trunDuration|trunSize|trunFlags|trunShift, func() {
			b.u32(uint32(len(list)))
			offset = len(*b)
			b.u32(0)
			for _, s := range list {
				b.u32(uint32(s.Duration))
				b.u32(uint32(s.size))
				if s.Key {
					b.u32(0x02000000)
				} else {
					b.u32(0x01000000 | sampleNotSync)
				}
				b.u32(uint32(int32(s.PTS - t.length)))
				t.length += s.Duration
			}
		})
	})
	return offset
}

func (m *fragmentWriter) Close() error {
	for _, list := range m.pending {
		if len(list) > 0 {
			return m.flush()
		}
	}
	return nil
}
