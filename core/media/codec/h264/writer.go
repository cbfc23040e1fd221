package h264

import (
	"bytes"
	"encoding/binary"
	"math/bits"
)

// bitWriter writes fields of bits (7.2).
type bitWriter struct {
	data []byte
	acc  uint64 // its low n bits follow data
	n    int    // under 32 between calls
}

// reset begins anew with the same memory.
func (w *bitWriter) reset() { w.data, w.acc, w.n = w.data[:0], 0, 0 }

// pos is how many bits were written.
func (w *bitWriter) pos() int { return 8*len(w.data) + w.n }

// u writes the low n bits of v, 0 to 32; those above must be 0.
func (w *bitWriter) u(n int, v uint32) {
	w.acc = w.acc<<n | uint64(v)
	if w.n += n; w.n >= 32 {
		w.n -= 32
		w.data = binary.BigEndian.AppendUint32(w.data, uint32(w.acc>>w.n))
	}
}

func (w *bitWriter) flag(b bool) {
	v := uint32(0)
	if b {
		v = 1
	}
	w.u(1, v)
}

// ue writes an unsigned Exp-Golomb code (9.1) of a number under 2^31.
func (w *bitWriter) ue(v int) {
	n := bits.Len32(uint32(v + 1))
	w.u(n-1, 0)
	w.u(n, uint32(v+1))
}

// se writes a signed Exp-Golomb code (9.1.1).
func (w *bitWriter) se(v int) {
	if v > 0 {
		w.ue(2*v - 1)
	} else {
		w.ue(-2 * v)
	}
}

// align writes fill up to a whole byte.
func (w *bitWriter) align(fill uint32) {
	if n := -w.pos() & 7; n > 0 {
		w.u(n, fill*(1<<n-1))
	}
}

// bytes gives what was written, with zeros up to a whole byte; nothing can be
// written behind it.
func (w *bitWriter) bytes() []byte {
	w.align(0)
	for ; w.n > 0; w.n -= 8 {
		w.data = append(w.data, byte(w.acc>>(w.n-8)))
	}
	return w.data
}

// trailing writes rbsp_trailing_bits.
func (w *bitWriter) trailing() {
	w.u(1, 1)
	w.align(0)
}

// appendUnit appends a NAL unit of that first byte with emulation prevention
// (7.4.1).
func appendUnit(dst []byte, head byte, rbsp []byte) []byte {
	dst = append(dst, head)
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
	if n := len(rbsp); n > 0 && rbsp[n-1] == 0 && dst[len(dst)-1] == 0 { // a unit does not end with a zero
		dst = append(dst, 3)
	}
	return dst
}
