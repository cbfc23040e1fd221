package mp4

import "encoding/binary"

// builder appends boxes to itself.
type builder []byte

func (b *builder) u8(v ...byte) { *b = append(*b, v...) }
func (b *builder) u16(v uint16) { *b = binary.BigEndian.AppendUint16(*b, v) }
func (b *builder) u32(v uint32) { *b = binary.BigEndian.AppendUint32(*b, v) }
func (b *builder) u64(v uint64) { *b = binary.BigEndian.AppendUint64(*b, v) }
func (b *builder) zeros(n int)  { *b = append(*b, make([]byte, n)...) }
func (b *builder) text(s ...string) {
	for _, s := range s {
		*b = append(*b, s...)
	}
}

// matrix writes the identity transformation.
func (b *builder) matrix() {
	for _, v := range [9]uint32{0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000} {
		b.u32(v)
	}
}

// box writes a box whose payload content writes.
func (b *builder) box(kind string, content func()) {
	start := len(*b)
	b.u32(0)
	b.text(kind)
	content()
	binary.BigEndian.PutUint32((*b)[start:], uint32(len(*b)-start))
}

// full writes a full box: one with a version and flags.
func (b *builder) full(kind string, version byte, flags uint32, content func()) {
	b.box(kind, func() {
		b.u32(uint32(version)<<24 | flags)
		content()
	})
}
