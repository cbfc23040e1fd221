package mjpeg

import (
	"encoding/binary"
	"math"
	"math/bits"

	"vividstrain/core/media/picture"
)

// MinQuality and MaxQuality are the range of qualities.
const (
	MinQuality = 1
	MaxQuality = 100
)

// Markers (ISO/IEC 10918-1, B.1.1.3).
const (
	soi  = 0xD8
	eoi  = 0xD9
	sof0 = 0xC0
	dht  = 0xC4
	sos  = 0xDA
	dqt  = 0xDB
)

// Encoder encodes pictures as baseline JPEG images. It keeps its tables from one picture to the
// next and is for one goroutine at a time.
type Encoder struct {
	quality int
	quant   [2][64]byte    // luma, chroma, in zigzag order
	divide  [2][64]float32 // 1 / (quantiser * scale of the transform), natural order
	block   [64]float32    // natural order
	levels  [64]int32      // zigzag order
	out     []byte
	pending uint64 // bits not yet in out, the oldest in the highest place
	count   int    // number of pending bits
}

// Encode appends p, an 8-bit 4:2:0 picture, to b as one JPEG image and returns the extended
// slice. quality is from MinQuality (few bits) to MaxQuality.
func (e *Encoder) Encode(b []byte, p *picture.Picture, quality int) []byte {
	if quality != e.quality {
		e.setQuality(quality)
	}
	e.out, e.pending, e.count = b, 0, 0
	e.header(p)
	e.scan(p)
	e.put(0x7F, 7) // fill the last byte with ones
	e.flush()
	return append(e.out, 0xFF, eoi)
}

// setQuality scales the example tables K.1 and K.2: unchanged at 50, all ones at 100.
func (e *Encoder) setQuality(quality int) {
	e.quality = quality
	percent := 200 - 2*quality
	if quality < 50 {
		percent = 5000 / quality
	}
	for t, table := range quantTables {
		for k, q := range table {
			e.quant[t][k] = byte(max(1, min((int(q)*percent+50)/100, 255)))
			n := zigzag[k]
			e.divide[t][n] = float32(1 / (8 * float64(e.quant[t][k]) * dctScale[n/8] * dctScale[n%8]))
		}
	}
}

// header writes everything before the coded blocks (B.2).
func (e *Encoder) header(p *picture.Picture) {
	e.out = append(e.out, 0xFF, soi, 0xFF, dqt, 0, 2+2*65)
	for t := range e.quant {
		e.out = append(append(e.out, byte(t)), e.quant[t][:]...)
	}
	e.out = append(e.out, 0xFF, sof0, 0, 17, 8, byte(p.Height>>8), byte(p.Height), byte(p.Width>>8), byte(p.Width),
		3, 1, 0x22, 0, 2, 0x11, 1, 3, 0x11, 1)
	e.out = appendTables(e.out)
	e.out = append(e.out, 0xFF, sos, 0, 12, 3, 1, 0x00, 2, 0x11, 3, 0x11, 0, 63, 0)
}

// appendTables appends the Huffman tables (B.2.4.2).
func appendTables(out []byte) []byte {
	for i, h := range huffTables {
		out = append(out, 0xFF, dht, 0, byte(2+17+len(h.values)), byte(i>>1|i&1<<4))
		out = append(append(out, h.counts[:]...), h.values...)
	}
	return out
}

// scan encodes the blocks: for each 16x16 samples four of luma and one of each chroma (A.2.3).
func (e *Encoder) scan(p *picture.Picture) {
	var dc [3]int32
	for y := 0; y < p.Height; y += 16 {
		for x := 0; x < p.Width; x += 16 {
			for i := range 4 {
				e.code(p, 0, x+i&1*8, y+i>>1*8, &dc[0])
			}
			e.code(p, 1, x/2, y/2, &dc[1])
			e.code(p, 2, x/2, y/2, &dc[2])
		}
	}
}

// code encodes the block of a plane whose first sample is at x, y.
func (e *Encoder) code(p *picture.Picture, plane, x, y int, dc *int32) {
	w, h := p.Chroma.PlaneSize(plane, p.Width, p.Height)
	e.load(&p.Planes[plane], w, h, x, y)
	fdct(&e.block)
	t := min(plane, 1)
	last := e.quantise(&e.divide[t])
	e.codeBlock(&huffCodes[2*t], &huffCodes[2*t+1], last, dc)
}

// load loads a block of w x h samples; beyond the edge the last samples repeat.
func (e *Encoder) load(plane *picture.Plane, w, h, x, y int) {
	if x+8 <= w && y+8 <= h {
		for j := range 8 {
			row := plane.Pix[(y+j)*plane.Stride+x:][:8]
			block := (*[8]float32)(e.block[8*j:])
			for i, v := range row {
				block[i] = float32(int32(v) - 128)
			}
		}
		return
	}
	for j := range 8 {
		row := plane.Pix[min(y+j, h-1)*plane.Stride:]
		for i := range 8 {
			e.block[8*j+i] = float32(int32(row[min(x+i, w-1)]) - 128)
		}
	}
}

// quantise sets e.levels and returns the index of the last level that is not 0.
func (e *Encoder) quantise(divide *[64]float32) (last int) {
	// Adding and subtracting 1.5 x 2^23 rounds to the nearest integer.
	const round = 3 << 22
	for k, n := range &zigzag {
		level := int32(math.Float32bits(e.block[n&63]*divide[n&63]+round)) - 0x4B400000
		e.levels[k] = level
		if level != 0 {
			last = k
		}
	}
	return last
}

// codeBlock writes the levels up to last (F.1.2).
func (e *Encoder) codeBlock(dcCodes, acCodes *[256]huffCode, last int, dc *int32) {
	diff := e.levels[0] - *dc
	*dc = e.levels[0]
	e.codeLevel(dcCodes, 0, diff)
	run := 0
	for _, level := range e.levels[1 : last+1] {
		if level == 0 {
			run++
			continue
		}
		for ; run > 15; run -= 16 {
			e.put(uint32(acCodes[0xF0].bits), int(acCodes[0xF0].length))
		}
		e.codeLevel(acCodes, run, level)
		run = 0
	}
	if last < 63 {
		e.put(uint32(acCodes[0].bits), int(acCodes[0].length))
	}
}

// codeLevel writes the code for run zeros and the size of level, and the bits
// of level.
func (e *Encoder) codeLevel(codes *[256]huffCode, run int, level int32) {
	sign := level >> 31 // 0 or -1
	size := bits.Len32(uint32((level ^ sign) - sign))
	code := codes[(run<<4|size)&255]
	e.put(uint32(code.bits)<<size|uint32(level+sign)&(1<<size-1), int(code.length)+size)
}

// put writes the low n bits of v, at most 32.
func (e *Encoder) put(v uint32, n int) {
	e.pending = e.pending<<n | uint64(v)
	if e.count += n; e.count >= 32 {
		e.count -= 32
		e.write(uint32(e.pending >> e.count))
	}
}

// write appends four bytes; a zero byte follows each byte 0xFF (F.1.2.3).
func (e *Encoder) write(word uint32) {
	if inverse := ^word; (inverse-0x01010101)&word&0x80808080 == 0 {
		e.out = binary.BigEndian.AppendUint32(e.out, word)
		return
	}
	for shift := 24; shift >= 0; shift -= 8 {
		b := byte(word >> shift)
		if e.out = append(e.out, b); b == 0xFF {
			e.out = append(e.out, 0)
		}
	}
}

// flush writes the pending whole bytes and discards the other bits.
func (e *Encoder) flush() {
	for ; e.count >= 8; e.count -= 8 {
		b := byte(e.pending >> (e.count - 8))
		if e.out = append(e.out, b); b == 0xFF {
			e.out = append(e.out, 0)
		}
	}
}
