package server

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
	"vividstrain/core/media/registry"
)

// piece is a part of a film that is fetched at once.
type piece struct {
	url   string
	bytes span
	lasts time.Duration // as the playlist says
	head  *reference    // what is to stand before it, nil: nothing
	key   *key          // nil: it is not encrypted
	cut   bool          // times begin anew with it
}

// reference is something that several pieces need.
type reference struct {
	url   string
	bytes span
}

// key is how a piece is encrypted: AES-128 in CBC mode (RFC 8216, 4.3.2.4).
type key struct {
	url string
	iv  [16]byte
}

// playlist is what there is to fetch of a film.
type playlist struct {
	pieces  []piece
	first   int           // number of the first piece
	over    bool          // nothing will be added
	byURL   bool          // the number of the first piece is not said: pieces are known by their addresses
	refresh time.Duration // when to look again where it is not over
}

// variant is one of the forms that a film is offered in.
type variant struct {
	url     string // of its playlist; empty: list is it
	list    *playlist
	format  media.Format
	bitrate int64
}

// Bounds on playlists.
const (
	mostPieces   = 1 << 18
	mostLetters  = 32 << 20 // of the addresses of all pieces
	mostVariants = 1000
	longestPiece = time.Hour
)

// PlaylistError says where a playlist or manifest is wrong.
type PlaylistError struct {
	Line int // from 1; 0: the whole
	What string
}

func (e *PlaylistError) Error() string {
	if e.Line == 0 {
		return "bad playlist: " + e.What
	}
	return fmt.Sprintf("bad playlist, line %d: %s", e.Line, e.What)
}

// hls reads a playlist (RFC 8216, 4) that was fetched from base.
type hls struct {
	base     *url.URL
	line     int
	list     *playlist
	variants []variant

	next    piece
	pending bool     // a tag of a segment has been read
	stream  *variant // EXT-X-STREAM-INF has been read
	head    *reference
	key     *key
	ownIV   bool
	ends    map[string]int64 // where the last byte range of an address ended
	target  time.Duration
	ranged  bool
	letters int // of all addresses
}

// parseHLS reads a media playlist, or a multivariant one: then list is nil.
func parseHLS(data []byte, base *url.URL) (list *playlist, variants []variant, err error) {
	h := &hls{base: base, list: &playlist{}, ends: map[string]int64{}}
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
	if len(h.list.pieces) == 0 && h.list.over {
		return nil, nil, &PlaylistError{0, "it lists nothing"}
	}
	if h.target <= 0 {
		h.target = 4 * time.Second
	}
	h.list.refresh = max(h.target, time.Second)
	return h.list, nil, nil
}

func (h *hls) wrong(format string, args ...any) error {
	return &PlaylistError{h.line, fmt.Sprintf(format, args...)}
}

// take takes one line.
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
		h.next.lasts, h.pending = d, true
		return err
	case "#EXT-X-TARGETDURATION":
		d, err := h.seconds(value)
		h.target = d
		return err
	case "#EXT-X-MEDIA-SEQUENCE":
		n, err := strconv.Atoi(strings.TrimSpace(value))
		if err != nil || n < 0 || n > 1<<30 {
			return h.wrong("%q is no number of a segment", value)
		}
		h.list.first = n
	case "#EXT-X-DISCONTINUITY":
		h.next.cut = true
	case "#EXT-X-ENDLIST":
		h.list.over = true
	case "#EXT-X-BYTERANGE":
		s, err := h.byteRange(value)
		h.next.bytes, h.ranged = s, true
		return err
	case "#EXT-X-MAP":
		return h.mapped(attributes(value))
	case "#EXT-X-KEY":
		return h.keyed(attributes(value))
	}
	return nil
}

// seconds reads a duration.
func (h *hls) seconds(s string) (time.Duration, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	if err != nil || !(v >= 0) || v > longestPiece.Seconds() {
		return 0, h.wrong("%q is no duration of a segment", shorten(s))
	}
	return time.Duration(v * float64(time.Second)), nil
}

func shorten(s string) string {
	if len(s) > 40 {
		return s[:40] + "..."
	}
	return s
}

// byteRange reads n[@o]; an offset of -1 stands for where the last one ended.
func (h *hls) byteRange(s string) (span, error) {
	size, offset, given := strings.Cut(strings.TrimSpace(s), "@")
	n, err := strconv.ParseInt(size, 10, 64)
	o := int64(-1)
	if given && err == nil {
		o, err = strconv.ParseInt(offset, 10, 64)
	}
	if err != nil || n <= 0 || n > mostSegment || given && (o < 0 || o > 1<<50) {
		return span{}, h.wrong("%q is no range of bytes", shorten(s))
	}
	return span{o, n}, nil
}

// resolve completes an address.
func (h *hls) resolve(s string) (string, error) {
	u, err := h.base.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return "", h.wrong("%q is no address", shorten(s))
	}
	return u.String(), nil
}

// address takes the address of a segment or of a variant.
func (h *hls) address(text string) error {
	u, err := h.resolve(text)
	if err != nil {
		return err
	}
	if h.stream != nil {
		h.stream.url = u
		h.variants = append(h.variants, *h.stream)
		h.stream = nil
		if len(h.variants) > mostVariants {
			return h.wrong("there are more than %d variants", mostVariants)
		}
		return nil
	}
	if !h.pending {
		return h.wrong("a segment without #EXTINF")
	}
	p := h.next
	p.url, p.head, p.key = u, h.head, h.key
	if h.letters += len(u); h.letters > mostLetters {
		return h.wrong("its addresses are longer than %d MB together", mostLetters>>20)
	}
	if p.bytes.size > 0 {
		if p.bytes.offset < 0 {
			p.bytes.offset = h.ends[u]
		}
		h.ends[u] = p.bytes.offset + p.bytes.size
	}
	if p.key != nil && !h.ownIV {
		k := *p.key
		number := h.list.first + len(h.list.pieces)
		for i := range 8 {
			k.iv[15-i] = byte(number >> (8 * i))
		}
		p.key = &k
	}
	if h.list.pieces = append(h.list.pieces, p); len(h.list.pieces) > mostPieces {
		return h.wrong("there are more than %d segments", mostPieces)
	}
	h.next, h.pending = piece{}, false
	return nil
}

// streamInf takes what is said of a variant (4.3.4.2).
func (h *hls) streamInf(a map[string]string) error {
	v := variant{}
	v.bitrate, _ = strconv.ParseInt(a["BANDWIDTH"], 10, 64)
	if mean, err := strconv.ParseInt(a["AVERAGE-BANDWIDTH"], 10, 64); err == nil {
		v.bitrate = mean
	}
	if v.bitrate <= 0 || v.bitrate > media.MaxBitrate {
		return h.wrong("a variant without a bandwidth")
	}
	fmt.Sscanf(a["RESOLUTION"], "%dx%d", &v.format.Width, &v.format.Height) // optional
	if hz, err := strconv.ParseFloat(a["FRAME-RATE"], 64); err == nil {
		v.format.Rate, _ = media.RateOf(hz)
	}
	v.format.Codec, v.format.Depth = codecWord(a["CODECS"])
	v.format.Bitrate = v.bitrate
	h.stream = &v
	return nil
}

// codecWord is the codec and the depth that a codecs parameter (RFC 6381) tells; without one that is
// known it is taken to be what conversions make.
func codecWord(codecs string) (string, int) {
	if f, known := registry.ParseCodecString(codecs); known {
		return f.Codec, f.Depth
	}
	return registry.DefaultEncoder().Name, 8
}

// mapped takes what is to stand before the segments that follow (4.3.2.5).
func (h *hls) mapped(a map[string]string) error {
	u, err := h.resolve(a["URI"])
	if err != nil {
		return err
	}
	h.head = &reference{url: u}
	if a["BYTERANGE"] != "" {
		if h.head.bytes, err = h.byteRange(a["BYTERANGE"]); err != nil {
			return err
		}
		h.head.bytes.offset = max(h.head.bytes.offset, 0)
	}
	return nil
}

// keyed takes how the segments that follow are encrypted (4.3.2.4).
func (h *hls) keyed(a map[string]string) error {
	switch a["METHOD"] {
	case "NONE":
		h.key = nil
		return nil
	case "AES-128":
	default:
		return h.wrong("segments encrypted with %q; only AES-128 is carried out", shorten(a["METHOD"]))
	}
	u, err := h.resolve(a["URI"])
	if err != nil {
		return err
	}
	h.key, h.ownIV = &key{url: u}, false
	if iv := a["IV"]; iv != "" {
		digits, _ := strings.CutPrefix(strings.ToLower(iv), "0x")
		b, err := hex.DecodeString(digits)
		if err != nil || len(b) != 16 {
			return h.wrong("%q is no initialisation vector", shorten(iv))
		}
		h.key.iv, h.ownIV = [16]byte(b), true
	}
	return nil
}

// attributes reads an attribute list (4.2).
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
