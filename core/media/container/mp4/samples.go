package mp4

import (
	"encoding/binary"
	"io"

	"vividstrain/core/media"
)

// sample is the location of one packet and its times.
type sample struct {
	offset int64
	size   int64
	media.Packet
}

// samples iterates over the sample tables of one track (8.6, 8.7).
type samples struct {
	durations runs // stts
	offsets   runs // ctts, signed from version 1 and in most of version 0 too
	sizes     *table
	size      uint32 // size of every sample where sizes is nil
	count     int
	toChunk   *table // stsc
	chunks    *table // stco or co64
	sync      *table // stss, nil: every sample

	// state
	index    int
	dts      int64
	chunk    int // the present chunk, from 0
	inChunk  uint32
	perChunk uint32
	nextRun  int   // stsc entry that begins after the present chunk
	offset   int64 // of the next sample
	nextSync int   // stss entry not yet passed
}

// openSamples opens the tables of stbl.
func openSamples(r io.ReaderAt, stbl box) (*samples, error) {
	s := &samples{}
	list, err := children(r, stbl.start, stbl.end)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		switch b.kind {
		case "stts":
			s.durations.table, err = openTable(r, b, 4, 8)
		case "ctts":
			s.offsets.table, err = openTable(r, b, 4, 8)
		case "stss":
			s.sync, err = openTable(r, b, 4, 4)
		case "stsc":
			s.toChunk, err = openTable(r, b, 4, 12)
		case "stco":
			s.chunks, err = openTable(r, b, 4, 4)
		case "co64":
			s.chunks, err = openTable(r, b, 4, 8)
		case "stsz":
			err = s.openSizes(r, b)
		case "stz2":
			err = &media.UnsupportedError{Format: Name, What: "a compact sample size table"}
		}
		if err != nil {
			return nil, err
		}
	}
	if s.count > 0 && (s.durations.table == nil || s.toChunk == nil || s.chunks == nil) {
		return nil, damaged(stbl.start, "sample tables are missing")
	}
	return s, nil
}

// openSizes reads stsz (8.7.3.2).
func (s *samples) openSizes(r io.ReaderAt, b box) error {
	head, err := b.payload(r, 12, 12)
	if err != nil {
		return err
	}
	s.size = binary.BigEndian.Uint32(head[4:])
	s.count = int(binary.BigEndian.Uint32(head[8:]))
	if s.size == 0 {
		s.sizes, err = openTable(r, b, 8, 4)
	}
	return err
}

// rewind returns to the first sample.
func (s *samples) rewind() {
	s.durations = runs{table: s.durations.table}
	s.offsets = runs{table: s.offsets.table}
	s.index, s.dts, s.chunk, s.inChunk, s.perChunk = 0, 0, 0, 0, 0
	s.nextRun, s.offset, s.nextSync = 0, 0, 0
}

// next returns the next sample, or io.EOF.
func (s *samples) next() (sample, error) {
	var out sample
	if s.index >= s.count {
		return out, io.EOF
	}
	if s.inChunk == 0 {
		if err := s.enterChunk(); err != nil {
			return out, err
		}
	}
	out.size = int64(s.size)
	if s.sizes != nil {
		size, _, err := s.sizes.uint32s(s.index)
		if err != nil {
			return out, err
		}
		out.size = int64(size)
	}
	duration, err := s.durations.take()
	if err != nil {
		return out, err
	}
	shift, err := s.offsets.take()
	if err != nil {
		return out, err
	}
	if out.Key, err = s.isSync(); err != nil {
		return out, err
	}
	out.offset = s.offset
	out.DTS, out.PTS, out.Duration = s.dts, s.dts+int64(int32(shift)), int64(duration)
	s.dts += int64(duration)
	s.offset += out.size
	s.inChunk--
	s.index++
	return out, nil
}

// enterChunk moves to the chunk that holds the next sample.
func (s *samples) enterChunk() error {
	if s.index > 0 {
		s.chunk++
	}
	for s.nextRun < s.toChunk.count {
		first, n, err := s.toChunk.uint32s(s.nextRun)
		if err != nil {
			return err
		}
		if int64(first) > int64(s.chunk)+1 {
			break
		}
		s.perChunk = n
		s.nextRun++
	}
	if s.chunk >= s.chunks.count {
		return damaged(s.chunks.start, "there are fewer chunks than %d samples need", s.count)
	}
	if s.perChunk == 0 {
		return damaged(s.toChunk.start, "chunk %d holds no samples", s.chunk+1)
	}
	s.inChunk = s.perChunk
	high, low, err := s.chunks.uint32s(s.chunk)
	if err != nil {
		return err
	}
	s.offset = int64(high)
	if s.chunks.entry == 8 {
		s.offset = int64(high)<<32 | int64(low)
	}
	return nil
}

// isSync reports whether the sample at index is a sync sample (8.6.2).
func (s *samples) isSync() (bool, error) {
	if s.sync == nil {
		return true, nil
	}
	for s.nextSync < s.sync.count {
		number, _, err := s.sync.uint32s(s.nextSync)
		if err != nil {
			return false, err
		}
		if int64(number) >= int64(s.index)+1 {
			return int64(number) == int64(s.index)+1, nil
		}
		s.nextSync++
	}
	return false, nil
}
