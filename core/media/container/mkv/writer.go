package mkv

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"vividstrain/core/media"
)

// writer is a Muxer. Clusters begin with key frames; an index of them is
// at the end.
type writer struct {
	w        io.WriteSeeker
	tracks   []media.Track
	segment  int64 // offset of the segment's data
	duration int64 // offset of the duration's data
	at       int64
	end      float64 // seconds
	start    int64   // of the cluster, milliseconds
	open     bool    // a cluster has begun
	size     int64   // offset of the cluster's size
	cues     []cue
	lead     int // the track whose key frames begin clusters
	scratch  builder
}

type cue struct{ time, cluster int64 }

// maxCluster is the longest duration of a cluster in milliseconds: block times have 16 bits.
const maxCluster = 5000

func create(w io.WriteSeeker, tracks []media.Track, codecs media.Codecs) (media.Muxer, error) {
	ids := make([]string, len(tracks))
	m := &writer{w: w, tracks: tracks}
	for i, t := range tracks {
		codec := codecs.Named(t.Codec)
		if codec == nil || len(codec.IDs.Matroska) == 0 || codec.IDs.NeedsConfig && len(t.Config) == 0 {
			return nil, &media.UnsupportedError{Format: Name, What: "writing " + t.Codec}
		}
		ids[i] = codec.IDs.Matroska[0]
		if t.Timescale <= 0 {
			return nil, errors.New("mkv: a track without a unit of time cannot be written")
		}
		if t.Kind == media.Video && tracks[m.lead].Kind != media.Video {
			m.lead = i
		}
	}
	var b builder
	b.master(idEBML, func() { b.bytes(idDocType, []byte("matroska")) })
	b.id(idSegment)
	b.size8(1<<56 - 1) // unknown until the end
	m.segment = int64(len(b))
	b.master(idInfo, func() {
		b.uint(idTimestampScale, 1e6)
		b.bytes(idMuxingApp, []byte("Vivid Strain"))
		b.bytes(idWritingApp, []byte("Vivid Strain"))
		b.float(idDuration, 0)
		m.duration = int64(len(b)) - 8
	})
	b.master(idTracks, func() {
		for i, t := range tracks {
			b.master(idTrackEntry, func() { b.track(&t, i+1, ids[i]) })
		}
	})
	m.at = int64(len(b))
	_, err := w.Write(b)
	return m, err
}

func (b *builder) track(t *media.Track, number int, codecID string) {
	b.uint(idTrackNumber, uint64(number))
	b.uint(idTrackUID, uint64(number))
	b.bytes(idCodecID, []byte(codecID))
	if len(t.Config) > 0 {
		b.bytes(idCodecPrivate, t.Config)
	}
	if t.Kind == media.Audio {
		b.uint(idTrackType, 2)
		b.master(idAudio, func() {
			b.float(idSampling, float64(t.Rate))
			b.uint(idChannels, uint64(t.Channels))
		})
		return
	}
	b.uint(idTrackType, 1)
	if r := t.Format.Rate; r.Num > 0 {
		b.uint(idDefaultDuration, uint64(math.Round(1e9*float64(r.Den)/float64(r.Num))))
	}
	b.master(idVideo, func() {
		b.uint(idPixelWidth, uint64(t.Format.Width))
		b.uint(idPixelHeight, uint64(t.Format.Height))
		if t.Format.Interlaced {
			b.uint(idFlagInterlaced, 1)
		}
		b.colour(t)
	})
}

func (b *builder) colour(t *media.Track) {
	if t.Colour == (media.Colour{}) && t.HDR == nil {
		return
	}
	b.master(idColour, func() {
		if t.Colour.Primaries > 0 {
			b.uint(idMatrix, uint64(t.Colour.Matrix))
			b.uint(idTransfer, uint64(t.Colour.Transfer))
			b.uint(idPrimaries, uint64(t.Colour.Primaries))
		}
		if t.Colour.FullRange {
			b.uint(idRange, 2)
		} else {
			b.uint(idRange, 1)
		}
		h := t.HDR
		if h == nil {
			return
		}
		b.uint(idMaxCLL, uint64(h.MaxCLL))
		b.uint(idMaxFALL, uint64(h.MaxFALL))
		b.master(idMastering, func() {
			p := h.Primaries
			for i, v := range [8]uint16{p[2][0], p[2][1], p[0][0], p[0][1], p[1][0], p[1][1], h.White[0], h.White[1]} {
				b.float(idMasteringFirst+uint32(i), float64(v)/50000)
			}
			b.float(idMasteringFirst+8, float64(h.MaxLuminance)/10000)
			b.float(idMasteringFirst+9, float64(h.MinLuminance)/10000)
		})
	})
}

// WritePacket appends a block. Packets must come in decoding order.
func (m *writer) WritePacket(p *media.Packet) error {
	if p.Track < 0 || p.Track >= len(m.tracks) || p.PTS == media.NoTime || p.PTS < 0 || len(p.Data) > maxPacket {
		return fmt.Errorf("mkv: a packet of track %d with time %d and %d bytes cannot be written", p.Track, p.PTS, len(p.Data))
	}
	scale := float64(m.tracks[p.Track].Timescale)
	ms := int64(math.Round(float64(p.PTS) / scale * 1000))
	m.end = max(m.end, float64(p.PTS+p.Duration)/scale)
	if begins := p.Track == m.lead && p.Key; !m.open || begins || ms-m.start > maxCluster || ms-m.start < math.MinInt16 {
		if err := m.begin(ms, begins); err != nil {
			return err
		}
	}
	b := m.scratch[:0]
	b.id(idSimpleBlock)
	b.size8(uint64(4 + len(p.Data)))
	flags := byte(0)
	if p.Key {
		flags = 0x80
	}
	b = append(b, 0x80|byte(p.Track+1))
	b = binary.BigEndian.AppendUint16(b, uint16(int16(ms-m.start)))
	b = append(append(b, flags), p.Data...)
	m.scratch = b
	return m.write(b)
}

func (m *writer) write(data []byte) error {
	n, err := m.w.Write(data)
	m.at += int64(n)
	return err
}

// begin ends the current cluster and begins another one.
func (m *writer) begin(ms int64, key bool) error {
	if err := m.endCluster(); err != nil {
		return err
	}
	m.start, m.open = ms, true
	if key {
		m.cues = append(m.cues, cue{ms, m.at - m.segment})
	}
	var b builder
	b.id(idCluster)
	m.size = m.at + int64(len(b))
	b.size8(1<<56 - 1)
	b.uint(idTimestamp, uint64(ms))
	return m.write(b)
}

// endCluster writes the size of the cluster.
func (m *writer) endCluster() error {
	if !m.open {
		return nil
	}
	return m.patch(m.size, 1<<56|uint64(m.at-m.size-8))
}

// patch overwrites eight bytes at offset.
func (m *writer) patch(offset int64, v uint64) error {
	if _, err := m.w.Seek(offset, io.SeekStart); err != nil {
		return err
	}
	if _, err := m.w.Write(binary.BigEndian.AppendUint64(nil, v)); err != nil {
		return err
	}
	_, err := m.w.Seek(m.at, io.SeekStart)
	return err
}

func (m *writer) Close() error {
	if err := m.endCluster(); err != nil {
		return err
	}
	var b builder
	b.master(idCues, func() {
		for _, c := range m.cues {
			b.master(idCuePoint, func() {
				b.uint(idCueTime, uint64(c.time))
				b.master(idCuePositions, func() {
					b.uint(idCueTrack, uint64(m.lead+1))
					b.uint(idCueCluster, uint64(c.cluster))
				})
			})
		}
	})
	if err := m.write(b); err != nil {
		return err
	}
	return errors.Join(m.patch(m.segment-8, 1<<56|uint64(m.at-m.segment)), m.patch(m.duration, math.Float64bits(m.end*1000)))
}
