package hevc

import (
	"bytes"
	"fmt"
	mathbits "math/bits"
	"slices"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/nal"
)

// Codec describes the format. Nothing is encoded yet.
var Codec = media.Codec{
	Name: Name, Nicknames: []string{"h265", "h.265"},
	IDs: media.Identifiers{
		MP4: []string{"hvc1", "hev1"}, MP4Config: "hvcC", Matroska: []string{"V_MPEGH/ISO/HEVC"}, TS: []byte{0x24},
	},
	Stream:     &media.ByteStream{Extensions: []string{".265", ".h265", ".hevc"}, Match: match},
	NewDecoder: NewDecoder, NewParser: NewParser, Disposable: disposable, Level: formatLevel,
	ToPackets: toPackets, ToByteStream: toByteStream,
	CheckFormat: CheckFormat, EncoderVersion: 6,
	NewEncoder: func(set media.EncoderSettings, out func(*media.Packet) error) (media.Encoder, error) {
		return NewEncoder(set, out)
	},
	CodecString: codecString, ParseCodecString: parseCodecString,
}

// match reports whether a file begins like a raw stream: with a start code and a NAL unit that may
// come first.
func match(head []byte) bool {
	before, rest := nal.CutStartCode(head)
	if len(bytes.Trim(before, "\x00")) > 0 || len(rest) < 3 || rest[0]&0x81 != 0 || rest[1] != 1 {
		return false
	}
	switch int(rest[0] >> 1) {
	case nalVPS, nalDelimiter:
		return true
	case nalSPS:
		return rest[2]>>1&7 < maxSubLayers
	}
	return false
}

// configSets yields the parameter sets of a configuration record.
func configSets(record []byte) (prefix int, units [][]byte, err error) {
	truncated := damaged("a configuration record is truncated")
	if len(record) < 23 {
		return 0, nil, truncated
	}
	rest := record[23:]
	for range record[22] {
		if len(rest) < 3 {
			return 0, nil, truncated
		}
		n := int(rest[1])<<8 | int(rest[2])
		rest = rest[3:]
		for range n {
			if len(rest) < 2 {
				return 0, nil, truncated
			}
			size := int(rest[0])<<8 | int(rest[1])
			if rest = rest[2:]; len(rest) < size {
				return 0, nil, truncated
			}
			units, rest = append(units, rest[:size]), rest[size:]
		}
	}
	return int(record[21]&3) + 1, units, nil
}

// toPackets converts a byte stream's track to one of length-prefixed packets with an
// HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1), and returns the filter for its packets.
// The parameter sets come from first, the first packet of the byte stream.
func toPackets(t media.Track, first []byte) (media.Track, media.Filter, error) {
	kinds := [3]int{nalVPS, nalSPS, nalPPS}
	var sets [3][][]byte
	for unit := range nal.ByteStream(first) {
		for i, kind := range kinds {
			if len(unit) > 3 && kindOf(unit) == kind && len(sets[i]) < 16 {
				sets[i] = append(sets[i], bytes.Clone(unit))
			}
		}
	}
	if len(sets[1]) == 0 || len(sets[2]) == 0 {
		return t, nil, damaged("the stream does not begin with its parameter sets")
	}
	rbsp := nal.Unescape(nil, sets[1][0][2:])
	s, err := parseSPS(rbsp)
	if err != nil {
		return t, nil, err
	}
	if len(rbsp) < 13 {
		return t, nil, damaged("a sequence parameter set is truncated")
	}
	c := append([]byte{1}, rbsp[1:13]...) // general profile, tier and level
	chroma := byte(nal.ChromaFormatIDC(s.chroma))
	c = append(c, 0xF0, 0, 0xFC, 0xFC|chroma, 0xF8|byte(s.depth-8), 0xF8|byte(s.chromaDepth-8), 0, 0, 1<<3|1<<2|3, 3)
	for i, kind := range kinds {
		c = append(c, 0x80|byte(kind), byte(len(sets[i])>>8), byte(len(sets[i])))
		for _, unit := range sets[i] {
			c = nal.AppendSet(c, unit)
		}
	}
	t.Config = c
	return t, nal.ToPackets(slices.Concat(sets[:]...), isDelimiter), nil
}

// kindOf returns the nal_unit_type of a unit.
func kindOf(unit []byte) int { return int(unit[0] >> 1 & 63) }

func isDelimiter(unit []byte) bool { return kindOf(unit) == nalDelimiter }

// toByteStream returns the filter from length-prefixed packets to the byte stream format.
func toByteStream(t media.Track) (media.Filter, error) {
	prefix, sets, err := configSets(t.Config)
	if err != nil {
		return nil, media.At(err, t.ConfigOffset)
	}
	return nal.ToByteStream(prefix, sets, []byte{nalDelimiter << 1, 1, 0x50}, isDelimiter), nil // any slice types
}

// disposable returns a function that reports whether a packet holds a picture to which no other of
// the highest sub-layer refers: the even types below 16.
func disposable(t media.Track) func(data []byte) bool {
	prefix, _, err := configSets(t.Config)
	if err != nil {
		prefix = 0
	}
	return func(data []byte) bool {
		c := nal.NewCursor(data, prefix)
		for unit := c.Next(); unit != nil; unit = c.Next() {
			if kind := kindOf(unit); kind < nalVPS {
				return kind < nalBLAWLP && kind&1 == 0
			}
		}
		return false
	}
}

// codecString returns the codecs parameter of a track (ISO/IEC 14496-15, E.3), from the general
// profile, tier and level of its configuration record.
func codecString(t media.Track) string {
	c := t.Config
	if len(c) < 13 {
		return ""
	}
	space := []string{"", "A", "B", "C"}[c[1]>>6]
	compatible := mathbits.Reverse32(uint32(c[2])<<24 | uint32(c[3])<<16 | uint32(c[4])<<8 | uint32(c[5]))
	tier := "L"
	if c[1]&0x20 != 0 {
		tier = "H"
	}
	text := fmt.Sprintf("hvc1.%s%d.%X.%s%d", space, c[1]&31, compatible, tier, c[12])
	last := 11
	for last > 5 && c[last] == 0 {
		last--
	}
	for _, b := range c[6 : last+1] {
		text += fmt.Sprintf(".%X", b)
	}
	return text
}

// parseCodecString reads the profile from a codecs parameter, and from it the bit depth.
func parseCodecString(s string) (f media.Format, ok bool) {
	entry, rest, _ := strings.Cut(s, ".")
	if entry != "hvc1" && entry != "hev1" {
		return f, false
	}
	f = media.Format{Codec: Name, Depth: 8, Transfer: media.SDR}
	if strings.HasPrefix(rest, "2") { // Main 10
		f.Depth = 10
	}
	return f, true
}
