package bits

import (
	"encoding/binary"
	"math/bits"
)

// Writer writes fields of bits. The zero value is ready to use.
type Writer struct {
	Data []byte
	acc  uint64 // its low n bits follow Data
	n    int    // less than 32 between calls
}

// Reset discards what was written but keeps the memory.
func (w *Writer) Reset() { w.Data, w.acc, w.n = w.Data[:0], 0, 0 }

// Pos returns the number of bits written.
func (w *Writer) Pos() int { return 8*len(w.Data) + w.n }

// U writes the low n bits of v, n from 0 to 32; the higher bits must be 0.
func (w *Writer) U(n int, v uint32) {
	w.acc = w.acc<<n | uint64(v)
	if w.n += n; w.n >= 32 {
		w.n -= 32
		w.Data = binary.BigEndian.AppendUint32(w.Data, uint32(w.acc>>w.n))
	}
}

func (w *Writer) Flag(b bool) {
	v := uint32(0)
	if b {
		v = 1
	}
	w.U(1, v)
}

// UE writes an unsigned Exp-Golomb code (Rec. ITU-T H.264, 9.1) of a number under 2^31.
func (w *Writer) UE(v int) {
	n := bits.Len32(uint32(v + 1))
	w.U(n-1, 0)
	w.U(n, uint32(v+1))
}

// SE writes a signed Exp-Golomb code (9.1.1).
func (w *Writer) SE(v int) {
	if v > 0 {
		w.UE(2*v - 1)
	} else {
		w.UE(-2 * v)
	}
}

// Align writes fill up to a whole byte.
func (w *Writer) Align(fill uint32) {
	if n := -w.Pos() & 7; n > 0 {
		w.U(n, fill*(1<<n-1))
	}
}

// Bytes returns what was written, with zeros up to a whole byte. Nothing can be
// written after it.
func (w *Writer) Bytes() []byte {
	w.Align(0)
	for ; w.n > 0; w.n -= 8 {
		w.Data = append(w.Data, byte(w.acc>>(w.n-8)))
	}
	return w.Data
}

// Trailing writes rbsp_trailing_bits (7.3.2.11).
func (w *Writer) Trailing() {
	w.U(1, 1)
	w.Align(0)
}
