// Package stream describes films that are fetched in segments, as HLS playlists and DASH
// manifests list them. Packages hls and dash read and write those.
package stream

import (
	"fmt"
	"slices"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Segment is a part of a film that is fetched with one request.
type Segment struct {
	URL           string
	Bytes         Span
	Duration      time.Duration // as stated by the playlist
	Init          *Reference    // initialisation segment, nil: none
	Key           *Key          // nil: it is not encrypted
	Discontinuity bool          // its times do not continue those before
}

// Span is a range of bytes; a size of 0 means everything from the offset on.
type Span struct{ Offset, Size int64 }

// Reference is a resource that several segments need.
type Reference struct {
	URL   string
	Bytes Span
}

// Key is how a segment is encrypted: AES-128 in CBC mode (RFC 8216, 4.3.2.4).
type Key struct {
	URL string
	IV  [16]byte
}

// Playlist is what there is to fetch of a film.
type Playlist struct {
	Segments []Segment
	First    int           // number of the first segment
	Ended    bool          // no segment will be added
	ByURL    bool          // the number of the first segment is not stated: segments are identified by their addresses
	Refresh  time.Duration // how long to wait before fetching it again, if it has not ended
}

// Follow numbers the segments of a live playlist that has no numbers, continuing from the
// previous version of the playlist, with which it overlaps.
func (l *Playlist) Follow(before *Playlist) {
	for k, old := range slices.Backward(before.Segments) {
		if j := slices.IndexFunc(l.Segments, func(s Segment) bool { return s.URL == old.URL }); j >= 0 {
			l.First = before.First + k - j
			return
		}
	}
	l.First = before.First + len(before.Segments)
}

// Variant is one of the forms in which a film is offered: the address of a playlist, a playlist,
// or a file with an index of its segments.
type Variant struct {
	URL     string
	List    *Playlist
	Index   *Index
	Format  media.Format
	Bitrate int64
}

// Index is a film in one file whose segments are listed in an index box, which must be fetched
// first.
type Index struct {
	URL   string
	Bytes Span // of the index
	Init  *Reference
}

// Limits on what a playlist or manifest may list.
const (
	MaxSegments     = 1 << 18
	MaxSegmentBytes = 256 << 20
	MaxURLBytes     = 32 << 20 // total of the addresses of all segments
	MaxVariants     = 1000
	MaxDuration     = time.Hour // of a segment
)

// PlaylistError states where a playlist or manifest is wrong.
type PlaylistError struct {
	Line int // from 1; 0: the whole file
	What string
}

func (e *PlaylistError) Error() string {
	if e.Line == 0 {
		return "bad playlist: " + e.What
	}
	return fmt.Sprintf("bad playlist, line %d: %s", e.Line, e.What)
}

// Codec returns the codec and bit depth that a codecs parameter (RFC 6381) states. If it names
// none that is known, they are those of usual conversions.
func Codec(codecs string) (string, int) {
	if f, known := registry.ParseCodecString(codecs); known {
		return f.Codec, f.Depth
	}
	return registry.DefaultEncoder().Name, 8
}

// Shorten truncates a quotation from a playlist so that it fits in a message.
func Shorten(s string) string {
	if len(s) > 40 {
		return s[:40] + "..."
	}
	return s
}

// Media is a film as a server describes it in a playlist or manifest.
type Media struct {
	Init      string    // address of the initialisation segment
	Segment   string    // address of a segment, with $Number$ (from 0) in it
	Durations []float64 // of the segments, seconds
	Format    media.Format
	Codecs    string // the codecs parameter (RFC 6381), "" where it is not known
}
