package h264

import (
	"bytes"
	"fmt"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/nal"
)

// match reports whether a file begins like a raw stream: with a start code and a NAL unit that
// may come first.
func match(head []byte) bool {
	before, rest := nal.CutStartCode(head)
	if len(bytes.Trim(before, "\x00")) > 0 || len(rest) == 0 || rest[0]&0x80 != 0 {
		return false
	}
	switch refIDC, kind := rest[0]>>5, rest[0]&31; kind {
	case nalSPS:
		return refIDC > 0 && len(rest) > 1 && rest[1] >= 44
	case nalDelimiter, nalSEI:
		return refIDC == 0
	}
	return false
}

// toPackets converts a byte stream's track to one of length-prefixed packets and returns the
// filter for its packets. The parameter sets come from first, the first packet of the byte
// stream.
func toPackets(t media.Track, first []byte) (media.Track, media.Filter, error) {
	var sps, pps [][]byte
	for unit := range nal.ByteStream(first) {
		switch unit[0] & 31 {
		case nalSPS:
			sps = append(sps, bytes.Clone(unit))
		case nalPPS:
			pps = append(pps, bytes.Clone(unit))
		}
	}
	if len(sps) == 0 || len(sps) > 31 || len(pps) > 255 || len(sps[0]) < 4 {
		return t, nil, damaged("the stream does not begin with its parameter sets")
	}
	c := []byte{1, sps[0][1], sps[0][2], sps[0][3], 0xFC | 3, 0xE0 | byte(len(sps))}
	for _, unit := range sps {
		c = nal.AppendSet(c, unit)
	}
	c = append(c, byte(len(pps)))
	for _, unit := range pps {
		c = nal.AppendSet(c, unit)
	}
	if set, err := parseSPS(nal.Unescape(nil, sps[0][1:])); err == nil && statesChroma(set.profile) {
		c = append(c, 0xFC|byte(nal.ChromaFormatIDC(set.chroma)), 0xF8|byte(set.depth-8), 0xF8|byte(set.chromaDepth-8), 0)
	}
	t.Config = c
	return t, nal.ToPackets(append(sps, pps...), isDelimiter), nil
}

func isDelimiter(unit []byte) bool { return unit[0]&31 == nalDelimiter }

// toByteStream returns the filter from length-prefixed packets to the byte stream format.
func toByteStream(t media.Track) (media.Filter, error) {
	c, err := parseConfig(t.Config)
	if err != nil {
		return nil, media.At(err, t.ConfigOffset)
	}
	return nal.ToByteStream(c.prefix, c.sets, []byte{nalDelimiter, 0xF0}, isDelimiter), nil // any slice types
}

// disposable returns a function that reports whether a packet holds a picture to which no other
// refers.
func disposable(t media.Track) func(data []byte) bool {
	prefix := 0
	if c, err := parseConfig(t.Config); err == nil {
		prefix = c.prefix
	}
	return func(data []byte) bool {
		c := nal.NewCursor(data, prefix)
		for unit := c.Next(); unit != nil; unit = c.Next() {
			if kind := unit[0] & 31; kind == nalSlice || kind == nalIDR {
				return unit[0]>>5&3 == 0
			}
		}
		return false
	}
}

// codecString returns the codecs parameter of a track (RFC 6381, 3.3). The track's Config begins
// with version, profile, constraints and level.
func codecString(t media.Track) string {
	if len(t.Config) < 4 {
		return ""
	}
	return fmt.Sprintf("avc1.%02x%02x%02x", t.Config[1], t.Config[2], t.Config[3])
}

// parseCodecString reads the profile from a codecs parameter, and from it the bit depth.
func parseCodecString(s string) (f media.Format, ok bool) {
	entry, rest, _ := strings.Cut(s, ".")
	if entry != "avc1" && entry != "avc3" {
		return f, false
	}
	f = media.Format{Codec: Name, Depth: 8, Transfer: media.SDR}
	if strings.HasPrefix(strings.ToLower(rest), "6e") { // profile_idc 110: High 10
		f.Depth = 10
	}
	return f, true
}
