package nal

import (
	"bytes"
	"slices"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// ChromaFormatIDC is chroma_format_idc (Rec. ITU-T H.264 and H.265, table 6-1).
func ChromaFormatIDC(c picture.Chroma) int {
	return map[picture.Chroma]int{picture.C400: 0, picture.C420: 1, picture.C422: 2, picture.C444: 3}[c]
}

// AppendSet appends a parameter set with its length in two bytes, as in configuration records (ISO/IEC
// 14496-15, 5.3.3.1 and 8.3.3.1).
func AppendSet(dst, unit []byte) []byte {
	return append(append(dst, byte(len(unit)>>8), byte(len(unit))), unit...)
}

// ToPackets returns the filter from the byte stream format (annex B) to length-prefixed packets,
// without access unit delimiters and without the parameter sets that the configuration record has.
func ToPackets(sets [][]byte, isDelimiter func(unit []byte) bool) media.Filter {
	return inPlace(func(dst []byte, p *media.Packet) []byte {
		for unit := range ByteStream(p.Data) {
			if !isDelimiter(unit) && !slices.ContainsFunc(sets, func(set []byte) bool { return bytes.Equal(set, unit) }) {
				dst = AppendPrefixed(dst, unit)
			}
		}
		return dst
	})
}

// ToByteStream returns the filter from packets with lengths of prefix bytes to the byte stream format
// (annex B): delimiter, an access unit delimiter, begins each packet, and key frames repeat the
// parameter sets.
func ToByteStream(prefix int, sets [][]byte, delimiter []byte, isDelimiter func(unit []byte) bool) media.Filter {
	return inPlace(func(dst []byte, p *media.Packet) []byte {
		dst = AppendStartCode(dst, delimiter)
		if p.Key {
			for _, unit := range sets {
				dst = AppendStartCode(dst, unit)
			}
		}
		for unit := range All(NewCursor(p.Data, prefix)) {
			if !isDelimiter(unit) {
				dst = AppendStartCode(dst, unit)
			}
		}
		return dst
	})
}

// inPlace turns a function that appends a packet in another form into a filter.
func inPlace(convert func(dst []byte, p *media.Packet) []byte) media.Filter {
	var out media.Packet
	var data []byte
	return func(p *media.Packet) ([]*media.Packet, error) {
		data = convert(data[:0], p)
		out = *p
		out.Data = data
		return []*media.Packet{&out}, nil
	}
}
