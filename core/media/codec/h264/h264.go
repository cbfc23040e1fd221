// Package h264 decodes video of Rec. ITU-T H.264 | ISO/IEC 14496-10: the
// Constrained Baseline, Main, High, High 10 and High 4:2:2 profiles and their
// intra profiles, 4:0:0 to 4:2:2, 8 to 10 bits, progressive and interlaced.
// Section and table numbers in the comments are the standard's.
//
// Left out are flexible macroblock ordering, arbitrary slice order and
// redundant pictures (Baseline alone), data partitioning and SP and SI slices
// (Extended profile), and the 4:4:4 profiles.
package h264

import (
	"vividstrain/core/media"
)

// Name is the codec word.
const Name = "h264"

// Codec describes the format.
var Codec = media.Codec{
	Name: Name, Nicknames: []string{"avc", "h.264"},
	IDs: media.Identifiers{
		MP4: []string{"avc1", "avc3"}, MP4Config: "avcC", Matroska: []string{"V_MPEG4/ISO/AVC"}, TS: []byte{0x1B},
	},
	Stream:     &media.ByteStream{Extensions: []string{".264", ".h264", ".avc"}, Match: match},
	NewDecoder: NewDecoder, NewParser: NewParser, Disposable: disposable, Level: formatLevel,
	ToPackets: toPackets, ToByteStream: toByteStream,
	CheckFormat: CheckFormat, EncoderVersion: 10,
	NewEncoder: func(set media.EncoderSettings, out func(*media.Packet) error) (media.Encoder, error) {
		e, err := NewEncoder(set, out)
		return e, err
	},
	CodecString: codecString, ParseCodecString: parseCodecString,
}

// nal_unit_type (table 7-1).
const (
	nalSlice      = 1
	nalPartitionA = 2
	nalPartitionC = 4
	nalIDR        = 5
	nalSEI        = 6
	nalSPS        = 7
	nalPPS        = 8
	nalDelimiter  = 9
	nalEndOfSeq   = 10
)

func damaged(what string) error {
	return &media.FormatError{Format: Name, Offset: -1, What: what}
}

func unsupported(what string) error {
	return &media.UnsupportedError{Format: Name, What: what}
}
