// Package hls reads and writes playlists of HTTP Live Streaming (RFC 8216).
package hls

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/stream"
)

// hls is a parser of a playlist (RFC 8216, 4) that was fetched from base.
type hls struct {
	base     *url.URL
	line     int
	list     *stream.Playlist
	variants []stream.Variant

	next    stream.Segment
	pending bool            // a tag of a segment has been read
	stream  *stream.Variant // EXT-X-STREAM-INF has been read
	head    *stream.Reference
	key     *stream.Key
	ownIV   bool
	ends    map[string]int64 // end of the last byte range of each address
	target  time.Duration
	ranged  bool
	letters int // total length of all addresses
}

// Parse parses a media playlist, or a multivariant playlist: then list is nil.
func Parse(data []byte, base *url.URL) (list *stream.Playlist, variants []stream.Variant, err error) {
	h := &hls{base: base, list: &stream.Playlist{}, ends: map[string]int64{}}
	scanner := bufio.NewScanner(bytes.NewReader(data))
	scanner.Buffer(make([]byte, 4096), 1<<16)
	for scanner.Scan() {
		h.line++
		text := strings.TrimSpace(scanner.Text())
		if h.line == 1 {
			if strings.TrimPrefix(text, "\ufeff") != "#EXTM3U" {
				return nil, nil, h.wrong("it does not begin with #EXTM3U")
			}
			continue
		}
		if err := h.take(text); err != nil {
			return nil, nil, err
		}
	}
	if err := scanner.Err(); err != nil {
		return nil, nil, h.wrong("a line is too long")
	}
	if len(h.variants) > 0 {
		return nil, h.variants, nil
	}
	if len(h.list.Segments) == 0 && h.list.Ended {
		return nil, nil, &stream.PlaylistError{What: "it lists nothing"}
	}
	if h.target <= 0 {
		h.target = 4 * time.Second
	}
	h.list.Refresh = max(h.target, time.Second)
	return h.list, nil, nil
}

func (h *hls) wrong(format string, args ...any) error {
	return &stream.PlaylistError{Line: h.line, What: fmt.Sprintf(format, args...)}
}

// take parses one line.
func (h *hls) take(text string) error {
	switch {
	case text == "":
		return nil
	case !strings.HasPrefix(text, "#"):
		return h.address(text)
	}
	tag, value, _ := strings.Cut(text, ":")
	switch tag {
	case "#EXT-X-STREAM-INF":
		return h.streamInf(attributes(value))
	case "#EXTINF":
		seconds, _, _ := strings.Cut(value, ",")
		d, err := h.seconds(seconds)
		h.next.Duration, h.pending = d, true
		return err
	case "#EXT-X-TARGETDURATION":
		d, err := h.seconds(value)
		h.target = d
		return err
	case "#EXT-X-MEDIA-SEQUENCE":
		n, err := strconv.Atoi(strings.TrimSpace(value))
		if err != nil || n < 0 || n > 1<<30 {
			return h.wrong("%q is not a number of a segment", value)
		}
		h.list.First = n
	case "#EXT-X-DISCONTINUITY":
		h.next.Discontinuity = true
	case "#EXT-X-ENDLIST":
		h.list.Ended = true
	case "#EXT-X-BYTERANGE":
		s, err := h.byteRange(value)
		h.next.Bytes, h.ranged = s, true
		return err
	case "#EXT-X-MAP":
		return h.mapped(attributes(value))
	case "#EXT-X-KEY":
		return h.keyed(attributes(value))
	}
	return nil
}

// seconds parses a duration in seconds.
func (h *hls) seconds(s string) (time.Duration, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	if err != nil || !(v >= 0) || v > stream.MaxDuration.Seconds() {
		return 0, h.wrong("%q is not a duration of a segment", stream.Shorten(s))
	}
	return time.Duration(v * float64(time.Second)), nil
}

// byteRange parses n[@o]; an offset of -1 means where the previous range ended.
func (h *hls) byteRange(s string) (stream.Span, error) {
	size, offset, given := strings.Cut(strings.TrimSpace(s), "@")
	n, err := strconv.ParseInt(size, 10, 64)
	o := int64(-1)
	if given && err == nil {
		o, err = strconv.ParseInt(offset, 10, 64)
	}
	if err != nil || n <= 0 || n > stream.MaxSegmentBytes || given && (o < 0 || o > 1<<50) {
		return stream.Span{}, h.wrong("%q is not a range of bytes", stream.Shorten(s))
	}
	return stream.Span{Offset: o, Size: n}, nil
}

// resolve resolves an address against the playlist's.
func (h *hls) resolve(s string) (string, error) {
	u, err := h.base.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return "", h.wrong("%q is not an address", stream.Shorten(s))
	}
	return u.String(), nil
}

// address handles the address of a segment or of a variant.
func (h *hls) address(text string) error {
	u, err := h.resolve(text)
	if err != nil {
		return err
	}
	if h.stream != nil {
		h.stream.URL = u
		h.variants = append(h.variants, *h.stream)
		h.stream = nil
		if len(h.variants) > stream.MaxVariants {
			return h.wrong("there are more than %d variants", stream.MaxVariants)
		}
		return nil
	}
	if !h.pending {
		return h.wrong("a segment without #EXTINF")
	}
	p := h.next
	p.URL, p.Init, p.Key = u, h.head, h.key
	if h.letters += len(u); h.letters > stream.MaxURLBytes {
		return h.wrong("its addresses are longer than %d MB together", stream.MaxURLBytes>>20)
	}
	if p.Bytes.Size > 0 {
		if p.Bytes.Offset < 0 {
			p.Bytes.Offset = h.ends[u]
		}
		h.ends[u] = p.Bytes.Offset + p.Bytes.Size
	}
	if p.Key != nil && !h.ownIV {
		k := *p.Key
		number := h.list.First + len(h.list.Segments)
		for i := range 8 {
			k.IV[15-i] = byte(number >> (8 * i))
		}
		p.Key = &k
	}
	if h.list.Segments = append(h.list.Segments, p); len(h.list.Segments) > stream.MaxSegments {
		return h.wrong("there are more than %d segments", stream.MaxSegments)
	}
	h.next, h.pending = stream.Segment{}, false
	return nil
}

// streamInf handles the attributes of a variant (4.3.4.2).
func (h *hls) streamInf(a map[string]string) error {
	v := stream.Variant{}
	v.Bitrate, _ = strconv.ParseInt(a["BANDWIDTH"], 10, 64)
	if mean, err := strconv.ParseInt(a["AVERAGE-BANDWIDTH"], 10, 64); err == nil {
		v.Bitrate = mean
	}
	if v.Bitrate <= 0 || v.Bitrate > media.MaxBitrate {
		return h.wrong("a variant without a bandwidth")
	}
	fmt.Sscanf(a["RESOLUTION"], "%dx%d", &v.Format.Width, &v.Format.Height) // optional
	if hz, err := strconv.ParseFloat(a["FRAME-RATE"], 64); err == nil {
		v.Format.Rate, _ = media.RateOf(hz)
	}
	v.Format.Codec, v.Format.Depth = stream.Codec(a["CODECS"])
	v.Format.Bitrate = v.Bitrate
	h.stream = &v
	return nil
}

// mapped handles the initialisation segment of the segments that follow (4.3.2.5).
func (h *hls) mapped(a map[string]string) error {
	u, err := h.resolve(a["URI"])
	if err != nil {
		return err
	}
	h.head = &stream.Reference{URL: u}
	if a["BYTERANGE"] != "" {
		if h.head.Bytes, err = h.byteRange(a["BYTERANGE"]); err != nil {
			return err
		}
		h.head.Bytes.Offset = max(h.head.Bytes.Offset, 0)
	}
	return nil
}

// keyed handles the encryption of the segments that follow (4.3.2.4).
func (h *hls) keyed(a map[string]string) error {
	switch a["METHOD"] {
	case "NONE":
		h.key = nil
		return nil
	case "AES-128":
	default:
		return h.wrong("segments encrypted with %q; only AES-128 is supported", stream.Shorten(a["METHOD"]))
	}
	u, err := h.resolve(a["URI"])
	if err != nil {
		return err
	}
	h.key, h.ownIV = &stream.Key{URL: u}, false
	if iv := a["IV"]; iv != "" {
		digits, _ := strings.CutPrefix(strings.ToLower(iv), "0x")
		b, err := hex.DecodeString(digits)
		if err != nil || len(b) != 16 {
			return h.wrong("%q is not an initialisation vector", stream.Shorten(iv))
		}
		h.key.IV, h.ownIV = [16]byte(b), true
	}
	return nil
}

// attributes parses an attribute list (4.2).
func attributes(s string) map[string]string {
	list := map[string]string{}
	for s != "" && len(list) < 64 {
		name, rest, found := strings.Cut(s, "=")
		if !found {
			break
		}
		value := ""
		if quoted, ok := strings.CutPrefix(rest, `"`); ok {
			value, rest, _ = strings.Cut(quoted, `"`)
			_, s, _ = strings.Cut(rest, ",")
		} else {
			value, s, _ = strings.Cut(rest, ",")
		}
		list[strings.TrimSpace(name)] = strings.TrimSpace(value)
	}
	return list
}
