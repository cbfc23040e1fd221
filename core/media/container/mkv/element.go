package mkv

import (
	"encoding/binary"
	"errors"
	"io"
	"math"
	"math/bits"
)

// element is one element of the file: its ID and where its data is. An element of unknown size
// ends where its parent does.
type element struct {
	id         uint32
	start, end int64
	unknown    bool
}

func (e element) size() int64 { return e.end - e.start }

// readElement reads the header of the element at offset; the element must end by limit (RFC
// 8794, sections 4 to 6).
func readElement(r io.ReaderAt, offset, limit int64) (element, error) {
	var head [12]byte
	n, err := r.ReadAt(head[:min(int64(len(head)), limit-offset)], offset)
	if err != nil && !errors.Is(err, io.EOF) {
		return element{}, err
	}
	data := head[:n]
	id, length := vint(data)
	if length == 0 || length > 4 {
		return element{}, damaged(offset, "there is no element where one should be")
	}
	size, more := vint(data[length:])
	if more == 0 {
		return element{}, damaged(offset, "an element has no size")
	}
	e := element{id: uint32(id | 1<<(7*length)), start: offset + int64(length+more)}
	if size == 1<<(7*more)-1 {
		e.end, e.unknown = limit, true
		return e, nil
	}
	if size > uint64(limit-e.start) {
		if e.id != idSegment && e.id != idCluster {
			return element{}, damaged(offset, "element %X says it has %d bytes where %d are left", e.id, size, limit-e.start)
		}
		size = uint64(limit - e.start) // the file was cut short
	}
	e.end = e.start + int64(size)
	return e, nil
}

// vint reads a variable-size integer without its marker; length 0 means that data has none.
func vint(data []byte) (v uint64, length int) {
	if len(data) == 0 || data[0] == 0 {
		return 0, 0
	}
	length = bits.LeadingZeros8(data[0]) + 1
	if length > len(data) {
		return 0, 0
	}
	v = uint64(data[0]) & (1<<(8-length) - 1)
	for _, b := range data[1:length] {
		v = v<<8 | uint64(b)
	}
	return v, length
}

// maxMaster is the largest size of elements that are read whole, in bytes.
const maxMaster = 1 << 22

// content reads the data of e.
func (e element) content(r io.ReaderAt) ([]byte, error) {
	if e.size() > maxMaster {
		return nil, damaged(e.start, "element %X has %d bytes", e.id, e.size())
	}
	data := make([]byte, e.size())
	if n, err := r.ReadAt(data, e.start); n < len(data) {
		if errors.Is(err, io.EOF) {
			return nil, damaged(e.start, "the file ends here, too early")
		}
		return nil, err
	}
	return data, nil
}

// children calls each for every element in data, which is at offset in the file, with the
// element's data and where they are.
func children(data []byte, offset int64, each func(id uint32, data []byte, at int64) error) error {
	for at := 0; at < len(data); {
		id, length := vint(data[at:])
		if length == 0 || length > 4 {
			return damaged(offset+int64(at), "there is no element where one should be")
		}
		size, more := vint(data[at+length:])
		start := at + length + more
		if more == 0 || size > uint64(len(data)-start) {
			return damaged(offset+int64(at), "an element does not fit into the one around it")
		}
		at = start + int(size)
		if err := each(uint32(id|1<<(7*length)), data[start:at], offset+int64(start)); err != nil {
			return err
		}
	}
	return nil
}

// number reads an unsigned integer of at most eight bytes.
func number(data []byte) (v uint64) {
	for _, b := range data[:min(len(data), 8)] {
		v = v<<8 | uint64(b)
	}
	return v
}

// float reads a floating-point number; anything else is 0.
func float(data []byte) float64 {
	v := 0.0
	switch len(data) {
	case 4:
		v = float64(math.Float32frombits(binary.BigEndian.Uint32(data)))
	case 8:
		v = math.Float64frombits(binary.BigEndian.Uint64(data))
	}
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return 0
	}
	return v
}

// builder appends elements to itself.
type builder []byte

func (b *builder) id(id uint32) {
	var buf [4]byte
	binary.BigEndian.PutUint32(buf[:], id)
	*b = append(*b, buf[bits.LeadingZeros32(id)/8:]...)
}

// size8 appends a size in eight bytes.
func (b *builder) size8(n uint64) { *b = binary.BigEndian.AppendUint64(*b, 1<<56|n) }

// master appends an element whose data content appends.
func (b *builder) master(id uint32, content func()) {
	b.id(id)
	at := len(*b)
	b.size8(0)
	content()
	binary.BigEndian.PutUint64((*b)[at:], 1<<56|uint64(len(*b)-at-8))
}

func (b *builder) bytes(id uint32, data []byte) {
	b.id(id)
	b.size8(uint64(len(data)))
	*b = append(*b, data...)
}

func (b *builder) uint(id uint32, v uint64) {
	b.bytes(id, binary.BigEndian.AppendUint64(nil, v))
}

func (b *builder) float(id uint32, v float64) { b.uint(id, math.Float64bits(v)) }
