package mp4

import (
	"encoding/binary"
	"math"

	"vividstrain/core/media"
)

// edit states which part of a track is shown and from when on (8.6.6), in the track's units. Of
// several parts only the first is used.
type edit struct {
	shift int64 // is added to all times
	end   int64 // PTS, shifted, from which on nothing is shown
}

// apply shifts a packet in time and hides it if it is outside the edit.
func (e edit) apply(p *media.Packet) {
	p.PTS += e.shift
	p.DTS += e.shift
	p.Hidden = p.PTS+p.Duration <= 0 && e.shift < 0 || p.PTS >= e.end
}

// readEdits reads the edit list of every track.
func (d *reader) readEdits(moov box, list []box) error {
	mvhd, err := moov.need(d.file, "mvhd")
	if err != nil {
		return err
	}
	head, err := mvhd.payload(d.file, 20, 24)
	if err != nil {
		return err
	}
	scale := binary.BigEndian.Uint32(head[12:])
	if head[0] == 1 && len(head) == 24 {
		scale = binary.BigEndian.Uint32(head[20:])
	}
	for _, b := range list {
		if b.kind != "trak" {
			continue
		}
		e := edit{end: math.MaxInt64}
		elst, found, err := b.find(d.file, "edts", "elst")
		if err == nil && found && scale > 0 {
			e, err = d.readEdit(elst, float64(d.tracks[len(d.edits)].Timescale)/float64(scale))
		}
		if err != nil {
			return err
		}
		d.edits = append(d.edits, e)
	}
	return nil
}

// readEdit reads elst; units is the number of track units per unit of the movie.
func (d *reader) readEdit(elst box, units float64) (edit, error) {
	e := edit{end: math.MaxInt64}
	data, err := elst.payload(d.file, 8, 4096)
	if err != nil {
		return e, err
	}
	size := 12
	if data[0] == 1 {
		size = 20
	}
	delay := 0.0
	for rest := data[8:]; len(rest) >= size; rest = rest[size:] {
		length, from := float64(binary.BigEndian.Uint32(rest)), int64(int32(binary.BigEndian.Uint32(rest[4:])))
		if size == 20 {
			length, from = float64(binary.BigEndian.Uint64(rest)), int64(binary.BigEndian.Uint64(rest[8:]))
		}
		length *= units
		if from < 0 { // nothing is shown for a while
			delay += length
			continue
		}
		if delay > 1e15 || from > 1e15 {
			return e, damaged(elst.start, "an edit is out of range")
		}
		e.shift = int64(math.Round(delay)) - from
		// The length is rounded to units of the movie, and is 0 in files that were started
		// without knowing it.
		if length > 0 && length < 1e15 {
			e.end = int64(math.Ceil(delay + length + units))
		}
		break
	}
	return e, nil
}
