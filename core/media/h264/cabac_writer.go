package h264

import "math/bits"

// binWriter is the arithmetic encoder (9.3.4). It does in whole bytes what the
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
}

// start sets the engine to begin writing (9.3.4.1). The first bit that the
// standard would write is left out there, too.
func (e *binWriter) start(state *[512]uint8, out []byte) {
	*e = binWriter{rng: 510, pending: -1, held: -1, state: state, out: out}
}

// bin encodes a bin with a context (9.3.4.2).
func (e *binWriter) bin(ctx int, v int) {
	s := &e.state[ctx&511]
	state := uint32(*s)
	lps := uint32(rangeLPS[(state>>1<<2|e.rng>>6&3)&255])
	rng := e.rng - lps
	if uint32(v) != state&1 {
		e.low += uint64(rng)
		rng = lps
		state |= 128
	}
	*s = nextState[state&255]
	n := bits.LeadingZeros32(rng) - 23
	e.rng = rng << (n & 31)
	e.low <<= n & 63
	if e.pending += n; e.pending >= 40 {
		e.flush()
	}
}

// bypass encodes an equiprobable bin (9.3.4.4).
func (e *binWriter) bypass(v int) {
	e.low = e.low<<1 + uint64(uint32(-v)&e.rng)
	if e.pending++; e.pending >= 40 {
		e.flush()
	}
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
	e.rng -= 2
	if v == 0 {
		if e.rng < 256 {
			e.rng <<= 1
			e.low <<= 1
			if e.pending++; e.pending >= 40 {
				e.flush()
			}
		}
		return
	}
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
