// Package mp4 reads and writes files of the ISO base media file format (ISO/IEC 14496-12) and
// its MP4 branch (ISO/IEC 14496-14): with sample tables or in movie fragments, with any number
// of tracks. Of an edit list only the first part is used. Not read: external data references,
// encryption, compact sample size tables.
package mp4

import (
	"fmt"
	"io"

	"vividstrain/core/media"
)

// Name is the container's name.
const Name = "mp4"

// New returns the container, which recognises tracks of these codecs.
func New(codecs media.Codecs) media.Container {
	return media.Container{
		Name:       Name,
		Extensions: []string{".mp4", ".m4v", ".mov"},
		Match:      match,
		Open:       func(r io.ReaderAt, size int64) (media.Demuxer, error) { return open(r, size, codecs) },
		Create: func(w io.WriteSeeker, tracks []media.Track, packets int) (media.Muxer, error) {
			return create(w, tracks, packets, codecs)
		},
		CreateFragmented: func(w io.Writer, tracks []media.Track) (media.Muxer, error) {
			return createFragmented(w, tracks, codecs)
		},
		ContinueFragmented: func(w io.Writer, tracks []media.Track) (media.Muxer, error) {
			return continueFragmented(w, tracks, codecs)
		},
	}
}

// match reports whether the first box has a type with which such files begin.
func match(head []byte) bool {
	if len(head) < 8 {
		return false
	}
	switch string(head[4:8]) {
	case "ftyp", "moov", "mdat", "free", "skip", "wide", "styp", "sidx":
		return true
	}
	return false
}

func damaged(offset int64, format string, args ...any) error {
	return &media.FormatError{Format: Name, Offset: offset, What: fmt.Sprintf(format, args...)}
}
