package mkv

import (
	"encoding/binary"
	"errors"
	"io"
	"math"
	"slices"
	"time"

	"vividstrain/core/media"
)

// Limits on what a file may ask for.
const (
	maxPacket = 1 << 28
	maxLaced  = 256
	maxTracks = 256
)

// reader is a Demuxer.
type reader struct {
	file    io.ReaderAt
	size    int64
	segment element
	start   int64 // of the first cluster
	scale   int64 // nanoseconds per unit
	codecs  media.Codecs
	tracks  []media.Track
	extra   []trackExtra

	at      int64 // of the next element
	cluster element
	time    int64 // of the cluster
	frames  [][]byte
	block   media.Packet // the fields that all packets of a block share
	raw     []byte       // data of the current block
}

// trackExtra holds further properties of a track.
type trackExtra struct {
	duration int64  // nanoseconds per frame, 0: not stated
	prefix   []byte // bytes that were stripped from every packet
	packets  int64  // read so far
	first    int64  // PTS of the first packet
}

func open(file io.ReaderAt, size int64, codecs media.Codecs) (media.Demuxer, error) {
	d := &reader{file: file, size: size, scale: 1e6, codecs: codecs}
	head, err := readElement(file, 0, size)
	if err != nil {
		return nil, err
	}
	if head.id != idEBML {
		return nil, damaged(0, "it does not begin like such a file")
	}
	d.segment, err = readElement(file, head.end, size)
	if err != nil {
		return nil, err
	}
	if d.segment.id != idSegment {
		return nil, damaged(head.end, "there is no segment")
	}
	if err := d.readHead(); err != nil {
		return nil, err
	}
	return d, d.Rewind()
}

// readHead reads what is before the first cluster.
func (d *reader) readHead() error {
	length := 0.0
	for at := d.segment.start; at < d.segment.end; {
		e, err := readElement(d.file, at, d.segment.end)
		if err != nil {
			return err
		}
		if e.id == idCluster {
			d.start = at
			break
		}
		if e.unknown {
			return damaged(at, "element %X has no size", e.id)
		}
		if e.id == idInfo || e.id == idTracks {
			data, err := e.content(d.file)
			if err != nil {
				return err
			}
			if e.id == idTracks {
				err = d.readTracks(data, e.start)
			} else {
				length, err = d.readInfo(data, e.start)
			}
			if err != nil {
				return err
			}
		}
		at = e.end
	}
	if len(d.tracks) == 0 || d.start == 0 {
		return damaged(d.segment.start, "there are no tracks, or no clusters after them")
	}
	for i := range d.tracks {
		t := &d.tracks[i]
		t.Timescale = int64(math.Round(1e9 / float64(d.scale)))
		t.Duration = time.Duration(min(length*float64(d.scale), math.MaxInt64/2))
		if ns := d.extra[i].duration; ns > 0 && t.Kind == media.Video {
			t.Format.Rate, _ = media.RateOf(1e9 / float64(ns))
		}
	}
	return nil
}

func (d *reader) readInfo(data []byte, at int64) (length float64, err error) {
	err = children(data, at, func(id uint32, data []byte, at int64) error {
		switch id {
		case idTimestampScale:
			if d.scale = int64(number(data)); d.scale < 1 || d.scale > 1e9 {
				return damaged(at, "the unit of time is out of range")
			}
		case idDuration:
			length = max(float(data), 0)
		}
		return nil
	})
	return length, err
}

func (d *reader) readTracks(data []byte, at int64) error {
	return children(data, at, func(id uint32, data []byte, at int64) error {
		if id != idTrackEntry {
			return nil
		}
		if len(d.tracks) == maxTracks {
			return damaged(at, "there are more than %d tracks", maxTracks)
		}
		t, x := media.Track{Kind: media.Other}, trackExtra{}
		err := children(data, at, func(id uint32, data []byte, at int64) error { return d.readEntry(&t, &x, id, data, at) })
		t.Format.Codec = t.Codec
		d.tracks, d.extra = append(d.tracks, t), append(d.extra, x)
		return err
	})
}

// readEntry reads one element of a TrackEntry.
func (d *reader) readEntry(t *media.Track, x *trackExtra, id uint32, data []byte, at int64) error {
	switch id {
	case idTrackNumber:
		t.ID = int(number(data) & math.MaxInt32)
	case idTrackType:
		switch number(data) {
		case 1:
			t.Kind = media.Video
		case 2:
			t.Kind = media.Audio
		}
	case idCodecID:
		name := string(data)
		t.Codec = name
		if codec := d.codecs.ByMatroska(name); codec != nil {
			t.Codec = codec.Name
		}
	case idCodecPrivate:
		t.Config, t.ConfigOffset = slices.Clone(data), at
	case idDefaultDuration:
		x.duration = int64(number(data) & math.MaxInt64)
	case idVideo:
		return children(data, at, func(id uint32, data []byte, at int64) error { return readVideo(t, id, data, at) })
	case idAudio:
		return children(data, at, func(id uint32, data []byte, at int64) error {
			switch id {
			case idSampling:
				t.Rate = int(max(0, min(float(data), 1e7)))
			case idChannels:
				t.Channels = int(number(data) & 255)
			}
			return nil
		})
	case idEncodings:
		return readEncodings(x, data, at)
	}
	return nil
}

func readVideo(t *media.Track, id uint32, data []byte, at int64) error {
	switch id {
	case idPixelWidth:
		t.Format.Width = int(number(data) & math.MaxInt32)
	case idPixelHeight:
		t.Format.Height = int(number(data) & math.MaxInt32)
	case idFlagInterlaced:
		t.Format.Interlaced = number(data) == 1
	case idColour:
		return children(data, at, func(id uint32, data []byte, at int64) error { return readColour(t, id, data, at) })
	}
	return nil
}

func readColour(t *media.Track, id uint32, data []byte, at int64) error {
	v := int(number(data) & 0xFFFF)
	switch id {
	case idMatrix:
		t.Colour.Matrix = v
	case idTransfer:
		t.Colour.Transfer = v
	case idPrimaries:
		t.Colour.Primaries = v
	case idRange:
		t.Colour.FullRange = v == 2
	case idMaxCLL:
		media.HDROf(&t.HDR).MaxCLL = uint16(v)
	case idMaxFALL:
		media.HDROf(&t.HDR).MaxFALL = uint16(v)
	case idMastering:
		h := media.HDROf(&t.HDR)
		return children(data, at, func(id uint32, data []byte, at int64) error {
			if i := id - idMasteringFirst; i < 10 {
				setMastering(h, int(i), float(data))
			}
			return nil
		})
	}
	return nil
}

// setMastering sets the i-th value of mastering metadata. The file lists red, green, blue;
// media.HDR lists green, blue, red.
func setMastering(h *media.HDR, i int, v float64) {
	const most = math.MaxUint16
	coordinate := uint16(max(0, min(math.Round(v*50000), most)))
	switch {
	case i < 6:
		h.Primaries[(i/2+2)%3][i%2] = coordinate
	case i < 8:
		h.White[i%2] = coordinate
	case i == 8:
		h.MaxLuminance = uint32(max(0, min(math.Round(v*10000), math.MaxUint32)))
	default:
		h.MinLuminance = uint32(max(0, min(math.Round(v*10000), math.MaxUint32)))
	}
}

// readEncodings accepts only header stripping (5.1.4.1.31.6).
func readEncodings(x *trackExtra, data []byte, at int64) error {
	stripped := false
	var walk func(id uint32, data []byte, at int64) error
	walk = func(id uint32, data []byte, at int64) error {
		switch id {
		case idEncoding, idCompression:
			return children(data, at, walk)
		case idCompAlgo:
			stripped = number(data) == 3
		case idCompSettings:
			x.prefix = slices.Clone(data)
		}
		return nil
	}
	if err := children(data, at, walk); err != nil {
		return err
	}
	if !stripped {
		return &media.UnsupportedError{Format: Name, What: "a compressed or encrypted track"}
	}
	return nil
}

func (d *reader) Tracks() []media.Track { return d.tracks }

func (d *reader) Rewind() error {
	d.at, d.cluster, d.frames = d.start, element{}, nil
	for i := range d.extra {
		d.extra[i].packets = 0
	}
	return nil
}

func (d *reader) ReadPacket(p *media.Packet) error {
	for len(d.frames) == 0 {
		if err := d.next(); err != nil {
			return err
		}
	}
	t, x := &d.tracks[d.block.Track], &d.extra[d.block.Track]
	data := append(p.Data[:0], x.prefix...)
	*p = d.block
	p.Data = append(data, d.frames[0]...)
	d.frames = d.frames[1:]
	unit := float64(x.duration) / float64(d.scale)
	if p.Duration == 0 && x.duration > 0 {
		p.Duration = int64(math.Round(unit))
	}
	d.block.PTS += p.Duration // of the next frame in a lace
	p.DTS = p.PTS
	if t.Kind == media.Video && x.duration > 0 {
		if x.packets == 0 {
			x.first = p.PTS
		}
		p.DTS = x.first + int64(math.Round(unit*float64(x.packets)))
	}
	x.packets++
	return nil
}

// next reads the next element that may contain a block.
func (d *reader) next() error {
	if d.at >= d.segment.end {
		return io.EOF
	}
	limit := d.segment.end
	if d.cluster.id != 0 && d.at < d.cluster.end {
		limit = d.cluster.end
	}
	at := d.at
	e, err := readElement(d.file, at, limit)
	if err != nil {
		return err
	}
	d.at = e.end
	switch e.id {
	case idCluster:
		d.cluster, d.time, d.at = e, 0, e.start
	case idTimestamp:
		data, err := e.content(d.file)
		if d.time = int64(number(data)); err == nil && (d.time < 0 || d.time > math.MaxInt64/4) {
			err = damaged(at, "a cluster's time is out of range")
		}
		return err
	case idSimpleBlock:
		data, err := d.load(e)
		if err != nil {
			return err
		}
		return d.readBlock(data, at, len(data) > 3 && data[3]&0x80 != 0, 0)
	case idBlockGroup:
		return d.readGroup(e)
	default:
		if e.unknown {
			return damaged(at, "element %X has no size", e.id)
		}
	}
	return nil
}

// load reads the data of a block.
func (d *reader) load(e element) ([]byte, error) {
	if e.size() > maxPacket {
		return nil, damaged(e.start, "a block has %d bytes", e.size())
	}
	if int64(cap(d.raw)) < e.size() {
		d.raw = make([]byte, e.size())
	}
	d.raw = d.raw[:e.size()]
	if n, err := d.file.ReadAt(d.raw, e.start); n < len(d.raw) {
		if errors.Is(err, io.EOF) {
			return nil, damaged(e.start, "the file ends here, too early")
		}
		return nil, err
	}
	return d.raw, nil
}

func (d *reader) readGroup(e element) error {
	data, err := d.load(e)
	if err != nil {
		return err
	}
	var block []byte
	key, duration, begins := true, int64(0), int64(0)
	err = children(data, e.start, func(id uint32, data []byte, at int64) error {
		switch id {
		case idBlock:
			block, begins = data, at
		case idBlockDuration:
			duration = int64(number(data) & math.MaxInt32)
		case idReference:
			key = false
		}
		return nil
	})
	if err != nil || block == nil {
		return err
	}
	return d.readBlock(block, begins, key, duration)
}

// readBlock splits a block into its frames (RFC 9559, section 10).
func (d *reader) readBlock(data []byte, at int64, key bool, duration int64) error {
	id, n := vint(data)
	if n == 0 || len(data) < n+3 {
		return damaged(at, "a block is too short")
	}
	track := slices.IndexFunc(d.tracks, func(t media.Track) bool { return uint64(t.ID) == id })
	if track < 0 {
		return nil // of a track that is not described
	}
	shift, flags := int16(binary.BigEndian.Uint16(data[n:])), data[n+2]
	d.block = media.Packet{Track: track, PTS: d.time + int64(shift), Duration: duration, Key: key, Offset: at}
	d.frames = d.frames[:0]
	rest := data[n+3:]
	if flags&6 == 0 {
		d.frames = append(d.frames, rest)
		return nil
	}
	sizes, rest, ok := laceSizes(rest, flags>>1&3)
	if !ok {
		return damaged(at, "a lace of frames is broken")
	}
	if duration > 0 {
		d.block.Duration = duration / int64(len(sizes))
	}
	for _, size := range sizes {
		d.frames = append(d.frames, rest[:size])
		rest = rest[size:]
	}
	return nil
}

// Kinds of lacing.
const (
	laceXiph  = 1
	laceFixed = 2
	laceEBML  = 3
)

// laceSizes reads the sizes of the frames in a lace. Their sum is at most len(rest).
func laceSizes(data []byte, kind byte) (sizes []int, rest []byte, ok bool) {
	if len(data) == 0 {
		return nil, nil, false
	}
	count := int(data[0]) + 1
	data = data[1:]
	sum := 0
	for i := range count - 1 {
		size := 0
		switch kind {
		case laceFixed:
			size = len(data) / count
		case laceXiph:
			for {
				if len(data) == 0 {
					return nil, nil, false
				}
				b := data[0]
				data = data[1:]
				if size += int(b); b < 255 {
					break
				}
			}
		case laceEBML:
			v, n := vint(data)
			if n == 0 || v > maxPacket*2 && i == 0 {
				return nil, nil, false
			}
			data = data[n:]
			size = int(v)
			if i > 0 { // the difference to the previous size
				size = sizes[i-1] + int(int64(v)-(1<<(7*n-1)-1))
			}
		}
		if size < 0 || size > maxPacket {
			return nil, nil, false
		}
		sizes = append(sizes, size)
		sum += size
	}
	if sum > len(data) {
		return nil, nil, false
	}
	return append(sizes, len(data)-sum), data, true
}
