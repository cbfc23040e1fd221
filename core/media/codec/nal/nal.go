package nal

import (
	"bytes"
	"encoding/binary"
	"iter"
	"math/bits"
)

// cursor iterates over the NAL units of a packet.
type cursor struct {
	rest   []byte
	prefix int // bytes of the length before each unit, 0: start codes
}

// Next returns the next unit that is not empty, or nil.
func (c *cursor) Next() []byte {
	for len(c.rest) > 0 {
		var unit []byte
		if c.prefix > 0 {
			unit = c.prefixed()
		} else {
			unit, c.rest = CutStartCode(c.rest)
			unit = bytes.TrimRight(unit, "\x00")
		}
		if len(unit) > 0 {
			return unit
		}
	}
	return nil
}

// prefixed returns a unit that follows its length (ISO/IEC 14496-15, 5.3.4.2). A length beyond
// the end is cut to what is left.
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

// NewCursor iterates over data with lengths of prefix bytes, or with start codes (annex B) if
// prefix is 0.
func NewCursor(data []byte, prefix int) cursor {
	if prefix == 0 {
		_, data = CutStartCode(data)
	}
	return cursor{data, prefix}
}

// ByteStream yields the NAL units of a byte stream (annex B), without their start codes and
// trailing zeros.
func ByteStream(data []byte) iter.Seq[[]byte] { return All(NewCursor(data, 0)) }

func All(c cursor) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for unit := c.Next(); unit != nil && yield(unit); unit = c.Next() {
		}
	}
}

// CutStartCode returns the data before and after the first start code.
func CutStartCode(data []byte) (before, after []byte) {
	i := afterZeros(data, 1)
	if i < 0 {
		return data, nil
	}
	return data[:i], data[i+3:]
}

// afterZeros returns the index of the first two zero bytes that b follows, or -1.
func afterZeros(data []byte, b byte) int {
	rest := data
	for len(rest) >= 16 {
		found := zeroPairs(binary.LittleEndian.Uint64(rest))
		if found == 0 {
			if found = zeroPairs(binary.LittleEndian.Uint64(rest[7:])); found == 0 {
				rest = rest[14:]
				continue
			}
			rest = rest[7:]
			if len(rest) < 10 {
				break
			}
		}
		if rest = rest[bits.TrailingZeros64(found)>>3&7:]; rest[2] == b {
			return len(data) - len(rest)
		}
		rest = rest[1:]
	}
	i := bytes.Index(rest, []byte{0, 0, b})
	if i < 0 {
		return -1
	}
	return len(data) - len(rest) + i
}

// zeroPairs has the top bit set of each of the lower seven bytes of v that is zero and before a zero.
func zeroPairs(v uint64) uint64 {
	const sevens = 0x7F7F7F7F7F7F7F7F
	zeros := ^(v&sevens + sevens | v | sevens)
	return zeros & (zeros >> 8)
}

// Unescape appends the RBSP of a NAL unit's payload to dst, removing the emulation prevention
// bytes (7.3.1). Eight zero bytes follow it, not counted in its length, so that readers may look
// ahead.
func Unescape(dst, payload []byte) []byte {
	for {
		i := afterZeros(payload, 3)
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

// Escapes returns the places of the emulation prevention bytes in a NAL unit's payload.
func Escapes(payload []byte) (places []int) {
	for at := 0; ; {
		i := afterZeros(payload[at:], 3)
		if i < 0 {
			return places
		}
		places = append(places, at+i+2)
		at += i + 3
	}
}

// AppendUnit appends a NAL unit with a header and a payload, adding emulation prevention
// (7.4.1).
func AppendUnit(dst []byte, header []byte, rbsp []byte) []byte {
	dst = append(dst, header...)
	from := 0
	for at := 0; ; {
		i := bytes.Index(rbsp[at:], []byte{0, 0})
		if i < 0 {
			break
		}
		at += i + 2
		if at == len(rbsp) || rbsp[at] <= 3 {
			dst = append(append(dst, rbsp[from:at]...), 3)
			from = at
		}
	}
	dst = append(dst, rbsp[from:]...)
	if n := len(rbsp); n > 0 && rbsp[n-1] == 0 && dst[len(dst)-1] == 0 { // a unit must not end with a zero
		dst = append(dst, 3)
	}
	return dst
}

// AppendPrefixed appends a unit with its length in four bytes (ISO/IEC 14496-15, 5.3.4.2).
func AppendPrefixed(dst, unit []byte) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(unit))), unit...)
}

// AppendStartCode appends a unit after a start code of four bytes (annex B).
func AppendStartCode(dst, unit []byte) []byte { return append(append(dst, 0, 0, 0, 1), unit...) }
