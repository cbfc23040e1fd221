package h264

import "math/bits"

// binWriter is the arithmetic encoder (9.3.4). Bins are noted and encoded many
// at a time, with the engine in registers. It does in whole bytes what the
// standard does bit by bit: low holds codILow with the bits above it that were
// not written yet.
type binWriter struct {
	low     uint64
	rng     uint32 // codIRange
	pending int    // bits in low above the ten of codILow
	out     []byte
	held    int // the last byte, which a carry may still change, -1: none
	ones    int // bytes of 255 behind it, which a carry would run through
	state   *[512]uint8

	n     int             // bins that wait
	waits [binRoom]uint16 // as context<<1 | bin
}

// binRoom is twice what a macroblock without its coefficients takes, or a block
// of 64 of them: makeRoom comes before each.
const binRoom = 8192

// Contexts of bins that have none.
const (
	bypassed   = 510
	terminated = 511
)

// start sets the engine to begin writing (9.3.4.1). The first bit that the
// standard would write is left out there, too.
func (e *binWriter) start(state *[512]uint8, out []byte) {
	e.low, e.rng, e.pending, e.held, e.ones, e.n = 0, 510, -1, -1, 0, 0
	e.state, e.out = state, out
}

// bin encodes a bin with a context.
func (e *binWriter) bin(ctx, v int) {
	e.waits[e.n&(binRoom-1)] = uint16(ctx<<1 | v)
	e.n++
}

// bypass encodes an equiprobable bin.
func (e *binWriter) bypass(v int) { e.bin(bypassed, v) }

// makeRoom makes room for half of what may wait.
func (e *binWriter) makeRoom() {
	if e.n > binRoom/2 {
		e.encode()
	}
}

// encode encodes the bins that wait: with a context (9.3.4.2), equiprobable ones
// (9.3.4.4) and those that tell that the slice goes on (9.3.4.5).
func (e *binWriter) encode() {
	low, rng, pending, state := e.low, e.rng, e.pending, e.state
	for _, b := range e.waits[:e.n] {
		n := 1
		switch ctx := b >> 1; {
		case ctx < bypassed:
			s := uint32(state[ctx])
			lps := uint32(rangeLPS[(s>>1<<2|rng>>6&3)&255])
			least := -((s ^ uint32(b)) & 1) // all ones for the least probable symbol
			rng -= lps
			low += uint64(rng & least)
			rng ^= (rng ^ lps) & least
			state[ctx] = nextState[(s|least&128)&255]
			n = bits.LeadingZeros32(rng) - 23
			rng <<= n & 31
			low <<= n & 63
		case ctx == bypassed:
			low = low<<1 + uint64(-uint32(b&1)&rng)
		default:
			rng -= 2
			n = int(^rng>>8) & 1 // whether it is under 256
			rng <<= n & 31
			low <<= n & 63
		}
		if pending += n; pending >= 40 {
			e.low, e.pending = low, pending
			e.flush()
			low, pending = e.low, e.pending
		}
	}
	e.low, e.rng, e.pending, e.n = low, rng, pending, 0
}

// flush writes the whole bytes that are pending.
func (e *binWriter) flush() {
	for e.pending >= 8 {
		e.pending -= 8
		v := int(e.low >> (10 + e.pending)) // nine bits: the first is a carry
		e.low &= 1<<(10+e.pending) - 1
		e.put(v)
	}
}

func (e *binWriter) put(v int) {
	if v == 255 {
		e.ones++
		return
	}
	e.release(v >> 8)
	e.held = v & 255
}

// release writes the bytes that are held, with a carry into them.
func (e *binWriter) release(carry int) {
	if e.held >= 0 {
		e.out = append(e.out, byte(e.held+carry))
	}
	for ; e.ones > 0; e.ones-- {
		e.out = append(e.out, byte(255+carry))
	}
	e.held = -1
}

// terminate encodes end_of_slice_flag or the bin that tells of I_PCM
// (9.3.4.5).
func (e *binWriter) terminate(v int) {
	if v == 0 {
		e.makeRoom()
		e.bin(terminated, 0)
		return
	}
	e.encode()
	e.rng -= 2
	e.low += uint64(e.rng)
	e.low <<= 7
	e.pending += 7
	e.flush()
	// Three bits of codILow end the data, the last of them 1; behind the last
	// macroblock it is rbsp_stop_one_bit.
	v = int((e.low>>7 | 1) << (16 - 3 - e.pending))
	e.pending += 3
	e.put(v >> 8)
	if e.pending > 8 {
		e.put(v & 255)
	}
	e.release(0)
}

// expGolomb writes a k-th order Exp-Golomb suffix in bypass bins (9.3.2.3).
func (e *binWriter) expGolomb(v int32, k int) {
	for ; v >= 1<<k; k++ {
		e.bypass(1)
		v -= 1 << k
	}
	e.bypass(0)
	for k--; k >= 0; k-- {
		e.bypass(int(v >> k & 1))
	}
}
