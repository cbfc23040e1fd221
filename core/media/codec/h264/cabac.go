package h264

import (
	"encoding/binary"
	mathbits "math/bits"
)

// numContexts is how many context variables there are without those of 4:4:4.
const numContexts = 460

// cabac is the arithmetic decoding engine with its contexts (9.3.1, 9.3.3.2).
//
// offset holds codIOffset followed by spare bits that were read ahead of need.
type cabac struct {
	offset uint64
	spare  int    // at least 16 between calls
	rng    uint32 // codIRange
	pos    int    // of the next byte in data
	ended  bool   // the last bin that terminate decoded was 1
	data   []byte
	state  [512]uint8 // pStateIdx<<1 | valMPS
}

// start sets the contexts for a slice (9.3.1.1) and the engine to the first
// byte of data.
func (c *cabac) start(data []byte, table, qp int) {
	qp = max(0, min(qp, 51))
	for i, mn := range &contextInit[table] {
		pre := max(1, min((int(mn[0])*qp)>>4+int(mn[1]), 126))
		if pre <= 63 {
			c.state[i] = uint8((63 - pre) << 1)
		} else {
			c.state[i] = uint8((pre-64)<<1 | 1)
		}
	}
	c.restart(data)
}

// restart sets the engine to the first byte of data (9.3.1.2).
func (c *cabac) restart(data []byte) {
	c.data, c.pos, c.rng, c.offset, c.spare = data, 0, 510, 0, -9
	c.refill()
	c.refill()
}

// refill appends 32 bits where fewer than 16 are spare.
func (c *cabac) refill() {
	if c.spare >= 16 {
		return
	}
	c.offset = c.offset<<32 | uint64(c.next32())
	c.spare += 32
}

func (c *cabac) next32() (v uint32) {
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

// overrun tells whether far more was read than there is.
func (c *cabac) overrun() bool { return c.pos*8-c.spare > len(c.data)*8+16 }

// bit decodes a bin with context ctx (9.3.3.2.1).
func (c *cabac) bit(ctx int) int {
	state := &c.state[ctx&511]
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

// bypass decodes an equiprobable bin (9.3.3.2.3).
func (c *cabac) bypass() int {
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

// terminate decodes the bin before the end of a slice (9.3.3.2.2.3).
func (c *cabac) terminate() bool {
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

// rest is what follows the byte in which the engine stands; to be called after
// terminate returned true.
func (c *cabac) rest() []byte {
	return c.data[min((c.pos*8-c.spare+7)>>3, len(c.data)):]
}

// nextState gives the state after the most (first half) and the least
// probable symbol (table 9-45).
var nextState = func() (next [256]uint8) {
	for s := range 128 {
		state, mps := s>>1, s&1
		next[s] = uint8(min(state+1, 62)<<1 | mps)
		if state == 63 {
			next[s] = uint8(s)
		}
		if state == 0 {
			mps = 1 - mps
		}
		next[128|s] = transLPS[state]<<1 | uint8(mps)
	}
	return next
}()

// transLPS is transIdxLPS of table 9-45.
var transLPS = [64]uint8{
	0, 0, 1, 2, 2, 4, 4, 5, 6, 7, 8, 9, 9, 11, 11, 12,
	13, 13, 15, 15, 16, 16, 18, 18, 19, 19, 21, 21, 22, 22, 23, 24,
	24, 25, 26, 26, 27, 27, 28, 29, 29, 30, 30, 30, 31, 32, 32, 33,
	33, 33, 34, 34, 35, 35, 35, 36, 36, 36, 37, 37, 37, 38, 38, 63}

// rangeLPS is rangeTabLPS of table 9-44, four entries a state.
var rangeLPS = [256]uint8{
	128, 176, 208, 240, 128, 167, 197, 227, 128, 158, 187, 216, 123, 150, 178, 205,
	116, 142, 169, 195, 111, 135, 160, 185, 105, 128, 152, 175, 100, 122, 144, 166,
	95, 116, 137, 158, 90, 110, 130, 150, 85, 104, 123, 142, 81, 99, 117, 135,
	77, 94, 111, 128, 73, 89, 105, 122, 69, 85, 100, 116, 66, 80, 95, 110,
	62, 76, 90, 104, 59, 72, 86, 99, 56, 69, 81, 94, 53, 65, 77, 89,
	51, 62, 73, 85, 48, 59, 69, 80, 46, 56, 66, 76, 43, 53, 63, 72,
	41, 50, 59, 69, 39, 48, 56, 65, 37, 45, 54, 62, 35, 43, 51, 59,
	33, 41, 48, 56, 32, 39, 46, 53, 30, 37, 43, 50, 29, 35, 41, 48,
	27, 33, 39, 45, 26, 31, 37, 43, 24, 30, 35, 41, 23, 28, 33, 39,
	22, 27, 32, 37, 21, 26, 30, 35, 20, 24, 29, 33, 19, 23, 27, 31,
	18, 22, 26, 30, 17, 21, 25, 28, 16, 20, 23, 27, 15, 19, 22, 25,
	14, 18, 21, 24, 14, 17, 20, 23, 13, 16, 19, 22, 12, 15, 18, 21,
	12, 14, 17, 20, 11, 14, 16, 19, 11, 13, 15, 18, 10, 12, 15, 17,
	10, 12, 14, 16, 9, 11, 13, 15, 9, 11, 12, 14, 8, 10, 12, 14,
	8, 9, 11, 13, 7, 9, 11, 12, 7, 9, 10, 12, 7, 8, 10, 11,
	6, 8, 9, 11, 6, 7, 9, 10, 6, 7, 8, 9, 2, 2, 2, 2}
