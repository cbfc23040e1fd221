package nal

import (
	"encoding/binary"
	"iter"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
)

// Payload types of supplemental enhancement information (Rec. ITU-T H.264, table D.1; H.265
// has the same numbers).
const (
	SEIRecoveryPoint = 6
	SEIMastering     = 137 // mastering_display_colour_volume
	SEIContentLight  = 144 // content_light_level_info
)

// Messages yields the payload type and the payload of each message of an SEI RBSP (Rec. ITU-T
// H.264, 7.3.2.3.1). A truncated message ends it.
func Messages(rbsp []byte) iter.Seq2[int, []byte] {
	return func(yield func(int, []byte) bool) {
		for data := rbsp; len(data) > 2; {
			var kind, size int
			if kind, data = messageNumber(data); len(data) < 2 {
				return
			}
			if size, data = messageNumber(data); size > len(data) {
				return
			}
			if !yield(kind, data[:size]) {
				return
			}
			data = data[size:]
		}
	}
}

// messageNumber reads a number in which each byte 255 adds 255.
func messageNumber(data []byte) (n int, rest []byte) {
	for len(data) > 0 && data[0] == 255 {
		n, data = n+255, data[1:]
	}
	if len(data) == 0 {
		return n, nil
	}
	return n + int(data[0]), data[1:]
}

// ReadHDR stores in *h what a message states about high dynamic range: the mastering display
// (D.1.29) or the content light level (D.1.31). Other messages leave *h unchanged.
func ReadHDR(h **media.HDR, kind int, payload []byte) {
	r := bits.NewReader(payload)
	switch {
	case kind == SEIMastering && len(payload) >= 24:
		h := media.HDROf(h)
		for i := range h.Primaries {
			h.Primaries[i] = [2]uint16{uint16(r.U(16)), uint16(r.U(16))}
		}
		h.White = [2]uint16{uint16(r.U(16)), uint16(r.U(16))}
		h.MaxLuminance, h.MinLuminance = r.U(32), r.U(32)
	case kind == SEIContentLight && len(payload) >= 4:
		h := media.HDROf(h)
		h.MaxCLL, h.MaxFALL = uint16(r.U(16)), uint16(r.U(16))
	}
}

// AppendHDR appends both messages, as an RBSP, to dst.
func AppendHDR(dst []byte, h *media.HDR) []byte {
	dst = append(dst, SEIMastering, 24)
	for _, p := range append(h.Primaries[:], h.White) {
		dst = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(dst, p[0]), p[1])
	}
	dst = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(dst, h.MaxLuminance), h.MinLuminance)
	dst = append(dst, SEIContentLight, 4)
	dst = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(dst, h.MaxCLL), h.MaxFALL)
	return append(dst, 0x80) // rbsp_trailing_bits
}
