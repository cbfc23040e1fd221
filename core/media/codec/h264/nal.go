package h264

import (
	"bytes"
	"iter"
)

// nal_unit_type (table 7-1).
const (
	nalSlice      = 1
	nalPartitionA = 2
	nalPartitionC = 4
	nalIDR        = 5
	nalSEI        = 6
	nalSPS        = 7
	nalPPS        = 8
	nalDelimiter  = 9
	nalEndOfSeq   = 10
)

// cursor walks through the NAL units of a packet.
type cursor struct {
	rest   []byte
	prefix int // bytes of the length before each unit, 0: start codes
}

// next returns the next unit that is not empty, or nil.
func (c *cursor) next() []byte {
	for len(c.rest) > 0 {
		var unit []byte
		if c.prefix > 0 {
			unit = c.prefixed()
		} else {
			unit, c.rest = cutStartCode(c.rest)
			unit = bytes.TrimRight(unit, "\x00")
		}
		if len(unit) > 0 {
			return unit
		}
	}
	return nil
}

// prefixed takes a unit that follows its length (ISO/IEC 14496-15, 5.3.4.2). A
// length beyond the end ends with what there is.
func (c *cursor) prefixed() []byte {
	n := 0
	for _, b := range c.rest[:min(c.prefix, len(c.rest))] {
		n = n<<8 | int(b)
	}
	rest := c.rest[min(c.prefix, len(c.rest)):]
	n = min(n, len(rest))
	c.rest = rest[n:]
	return rest[:n]
}

// newCursor walks through data with lengths of prefix bytes, or with start
// codes (annex B).
func newCursor(data []byte, prefix int) cursor {
	if prefix == 0 {
		_, data = cutStartCode(data)
	}
	return cursor{data, prefix}
}

// annexB yields the NAL units of a byte stream, without their start codes and
// trailing zeros.
func annexB(data []byte) iter.Seq[[]byte] { return all(newCursor(data, 0)) }

func all(c cursor) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for unit := c.next(); unit != nil && yield(unit); unit = c.next() {
		}
	}
}

// cutStartCode returns what stands before and behind the first start code.
func cutStartCode(data []byte) (before, behind []byte) {
	i := bytes.Index(data, []byte{0, 0, 1})
	if i < 0 {
		return data, nil
	}
	return data[:i], data[i+3:]
}

// unescape appends the RBSP of a NAL unit's payload to dst: without the
// emulation prevention bytes (7.3.1) and with eight zero bytes behind it that
// are not counted in its length.
func unescape(dst, payload []byte) []byte {
	for {
		i := bytes.Index(payload, []byte{0, 0, 3})
		if i < 0 {
			break
		}
		dst = append(dst, payload[:i+2]...)
		payload = payload[i+3:]
	}
	dst = append(dst, payload...)
	n := len(dst)
	return append(dst, 0, 0, 0, 0, 0, 0, 0, 0)[:n]
}
