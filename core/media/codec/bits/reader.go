// Package bits reads bit strings, the most significant bit of a byte first.
package bits

import (
	"encoding/binary"
	"math/bits"
)

// Reader reads fields of bits from a byte slice. Beyond the end it reads zeros, which Overrun
// reports. The zero value is at the end of an empty slice.
type Reader struct {
	data []byte
	pos  int // position in bits
}

// NewReader returns a reader at the first bit of data.
func NewReader(data []byte) Reader { return Reader{data: data} }

// Peek returns the next 32 bits without reading them.
func (r *Reader) Peek() uint32 {
	return uint32(r.Window() >> 32)
}

// Window returns at least the next 57 bits without reading them, the first one at the top, for
// loops that keep them in a register.
func (r *Reader) Window() uint64 {
	if i := uint(r.pos) >> 3; i+8 <= uint(len(r.data)) {
		return binary.BigEndian.Uint64(r.data[i:i+8]) << (r.pos & 7)
	}
	return r.windowEnd(r.pos >> 3)
}

func (r *Reader) windowEnd(i int) uint64 {
	var v uint64
	for k := range 8 {
		v <<= 8
		if i+k < len(r.data) {
			v |= uint64(r.data[i+k])
		}
	}
	return v << (r.pos & 7)
}

// Data returns the whole data, of which Pos bits were read.
func (r *Reader) Data() []byte { return r.data }

// Skip skips n bits.
func (r *Reader) Skip(n int) { r.pos += n }

// U reads n bits, 0 to 32, as an unsigned number.
func (r *Reader) U(n int) uint32 {
	v := uint32(uint64(r.Peek()) >> (32 - n))
	r.pos += n
	return v
}

// Flag reads one bit.
func (r *Reader) Flag() bool { return r.U(1) != 0 }

// UE reads an unsigned Exp-Golomb code (Rec. ITU-T H.264, 9.1), at most
// 2^32-2.
func (r *Reader) UE() uint32 {
	if code := shortCodes[r.Window()>>(64-shortCode)]; code != 0 {
		r.pos += int(code & 15)
		return uint32(code >> 4)
	}
	return r.longUE()
}

// longUE reads a code that is not in shortCodes.
func (r *Reader) longUE() uint32 {
	zeros := bits.LeadingZeros32(r.Peek())
	if zeros >= 32 {
		r.pos += 32
		if !r.Flag() {
			r.pos = max(r.pos, len(r.data)*8+1) // no code is that long
			return 0
		}
		return r.U(32) - 1 // of 2^32-1 and above only the low bits are kept
	}
	r.pos += zeros
	return r.U(zeros+1) - 1
}

// shortCode is how many bits the codes of shortCodes have at most.
const shortCode = 9

// shortCodes are Exp-Golomb codes by the bits they begin with: the value from bit 4 on, and the length. It is 0
// for longer ones.
var shortCodes = func() (list [1 << shortCode]uint16) {
	for v := 1 << (shortCode / 2); v < len(list); v++ {
		length := 2*(shortCode-bits.Len(uint(v))) + 1
		list[v] = uint16((v>>(shortCode-length)-1)<<4 | length)
	}
	return list
}()

// SE reads a signed Exp-Golomb code (9.1.1).
func (r *Reader) SE() int32 {
	k := r.UE()
	if k&1 != 0 {
		return int32(k>>1) + 1
	}
	return -int32(k >> 1)
}

// Pos returns the number of bits read.
func (r *Reader) Pos() int { return r.pos }

// Left returns the number of bits left, negative after an overrun.
func (r *Reader) Left() int { return len(r.data)*8 - r.pos }

// Overrun reports whether more was read than there is.
func (r *Reader) Overrun() bool { return r.pos > len(r.data)*8 }

// Aligned reports whether the next bit is the first of a byte.
func (r *Reader) Aligned() bool { return r.pos&7 == 0 }

// Align skips to the next whole byte.
func (r *Reader) Align() { r.pos = (r.pos + 7) &^ 7 }

// Rest returns the data from the next whole byte on.
func (r *Reader) Rest() []byte { return r.data[min((r.pos+7)>>3, len(r.data)):] }

// MoreRBSP reports whether there is data before the trailing bits of a raw byte sequence payload
// (more_rbsp_data, 7.2).
func (r *Reader) MoreRBSP() bool { return r.pos < r.TrailingBits() }

// TrailingBits returns the position in bits of the trailing bits of a raw byte sequence payload, 0 where it has none.
func (r *Reader) TrailingBits() int {
	last := len(r.data) - 1
	for last >= 0 && r.data[last] == 0 {
		last--
	}
	if last < 0 {
		return 0
	}
	return last*8 + 7 - bits.TrailingZeros8(r.data[last])
}
