// Package hevc decodes video of Rec. ITU-T H.265 | ISO/IEC 23008-2: the Main and Main 10 profiles,
// and of the range extensions 4:0:0 and 4:2:2 with up to 12 bits. Section and table numbers in the
// comments are the standard's.
//
// Left out are 4:4:4 chroma, more than 12 bits, extended precision, and the scalable, multiview, 3D
// and screen content extensions.
package hevc

import (
	"vividstrain/core/media"
)

// Name is the codec word.
const Name = "hevc"

// nal_unit_type (table 7-1).
const (
	nalTrailN    = 0
	nalRADLN     = 6
	nalRADLR     = 7
	nalRASLN     = 8
	nalRASLR     = 9
	nalBLAWLP    = 16
	nalBLANLP    = 18
	nalIDRWRADL  = 19
	nalIDRNLP    = 20
	nalCRA       = 21
	nalIRAPLast  = 23
	nalVPS       = 32
	nalSPS       = 33
	nalPPS       = 34
	nalDelimiter = 35
	nalEndOfSeq  = 36
	nalEndOfBits = 37
	nalPrefixSEI = 39
	nalSuffixSEI = 40
)

func damaged(what string) error {
	return &media.FormatError{Format: Name, Offset: -1, What: what}
}

func unsupported(what string) error {
	return &media.UnsupportedError{Format: Name, What: what}
}
