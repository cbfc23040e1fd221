// Package cabac implements context-adaptive binary arithmetic coding as Rec. ITU-T H.264 and
// H.265 share it: the engines for decoding and encoding, and the initial states and transitions
// of contexts. Which contexts there are, and the meaning of bins, is up to the codec. Section
// numbers are those of H.264.
package cabac

import (
	"encoding/binary"
	mathbits "math/bits"
)

// Decoder is the arithmetic decoding engine with its contexts (9.3.1, 9.3.3.2). Start must be
// called first. offset holds codIOffset followed by spare bits that were read in advance.
type Decoder struct {
	offset uint64
	spare  int    // at least 16 between calls
	rng    uint32 // codIRange
	pos    int    // index of the next byte in data
	ended  bool   // the last bin that terminate decoded was 1
	data   []byte
	State  [512]uint8 // of the contexts: pStateIdx<<1 | valMPS
}

// Start initialises the engine at the first byte of data (9.3.1.2).
func (c *Decoder) Start(data []byte) {
	c.data, c.pos, c.rng, c.offset, c.spare = data, 0, 510, 0, -9
	c.refill()
	c.refill()
	c.offset = min(c.offset, 510<<c.spare-1) // no valid data begin with more: it is always below the range
}

// refill appends 32 bits if fewer than 16 are spare.
func (c *Decoder) refill() {
	if c.spare >= 16 {
		return
	}
	c.offset = c.offset<<32 | uint64(c.next32())
	c.spare += 32
}

func (c *Decoder) next32() (v uint32) {
	if c.pos+4 <= len(c.data) {
		v = binary.BigEndian.Uint32(c.data[c.pos:])
	} else {
		for i := range 4 {
			v <<= 8
			if c.pos+i < len(c.data) {
				v |= uint32(c.data[c.pos+i])
			}
		}
	}
	c.pos += 4
	return v
}

// Overrun reports whether far more was read than there is.
func (c *Decoder) Overrun() bool { return c.pos*8-c.spare > len(c.data)*8+16 }

// Decision decodes a bin with context ctx (9.3.3.2.1).
func (c *Decoder) Decision(ctx int) int {
	state := &c.State[ctx&511]
	s := uint32(*state)
	lps := uint32(rangeLPS[(s>>1<<2|c.rng>>6&3)&255])
	rng := c.rng - lps
	scaled := uint64(rng) << (c.spare & 63)
	least := int64(c.offset-scaled) >> 63 // all ones for the most probable symbol
	c.offset -= scaled &^ uint64(least)
	rng = uint32(int64(lps) + (int64(rng)-int64(lps))&least)
	*state = nextState[(s|^uint32(least)&128)&255]
	n := mathbits.LeadingZeros32(rng) - 23
	c.rng = rng << (n & 31)
	if c.spare -= n; c.spare < 16 {
		c.offset = c.offset<<32 | uint64(c.next32())
		c.spare += 32
	}
	return int(s^uint32(^least)) & 1
}

// Bypass decodes an equiprobable bin (9.3.3.2.3).
func (c *Decoder) Bypass() int {
	c.spare--
	scaled := uint64(c.rng) << (c.spare & 63)
	least := int64(c.offset-scaled) >> 63
	c.offset -= scaled &^ uint64(least)
	if c.spare < 16 {
		c.offset = c.offset<<32 | uint64(c.next32())
		c.spare += 32
	}
	return int(least + 1)
}

// Bypasses decodes n equiprobable bins, at most 32, the first one as the highest bit.
func (c *Decoder) Bypasses(n int) (v uint32) {
	for ; n > 8; n -= 8 {
		v = v<<8 | c.Bypasses(8)
	}
	c.spare -= n
	q := uint64(uint32(c.offset>>(c.spare&63)) / c.rng)
	c.offset -= q * uint64(c.rng) << (c.spare & 63)
	if c.spare < 16 {
		c.offset = c.offset<<32 | uint64(c.next32())
		c.spare += 32
	}
	return v<<n | uint32(q)
}

// Terminate decodes the bin before the end of a slice (9.3.3.2.2.3).
func (c *Decoder) Terminate() bool {
	c.rng -= 2
	scaled := uint64(c.rng) << (c.spare & 63)
	if c.ended = c.offset >= scaled; c.ended {
		// The nine bits of codIOffset are the last ones of the coded data.
		return true
	}
	if c.rng < 256 {
		c.rng <<= 1
		c.spare--
		c.refill()
	}
	return false
}

// Ending returns the start of whole, which the data end with, up to here, changed at its end so that the
// same bins are followed by a terminating one of 1 and the stop bit. Tests make slices of random data by it.
func (c *Decoder) Ending(whole []byte) []byte {
	n := (len(whole)-len(c.data))*8 + c.pos*8 - c.spare // bits of which codIOffset is the last nine
	data := make([]byte, (n+7)>>3)
	copy(data, whole)
	last, unused := len(data)-1, -n&7
	data[last] &= 0xFF << unused
	add := c.rng - 2 - uint32(c.offset>>(c.spare&63)) // up to the range all values have the same bins before
	if (uint32(data[last])>>unused+add)&1 == 0 {
		add++ // the last bit is the stop bit
	}
	for carry := add << unused; carry != 0; last-- {
		carry += uint32(data[last])
		data[last] = byte(carry)
		carry >>= 8
	}
	return data
}

// Rest returns the data after the byte that the engine has reached. It may be called after
// Terminate returned true.
func (c *Decoder) Rest() []byte {
	return c.data[min((c.pos*8-c.spare+7)>>3, len(c.data)):]
}

// ExpGolomb reads a k-th order Exp-Golomb suffix in bypass bins (9.3.2.3).
func (c *Decoder) ExpGolomb(k int) (v int32) {
	for c.Bypass() != 0 {
		v += 1 << k
		if k++; k > 24 {
			return v // no valid value is that large
		}
	}
	for k--; k >= 0; k-- {
		v += int32(c.Bypass()) << k
	}
	return v
}
