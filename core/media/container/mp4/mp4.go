// Package mp4 reads and writes files of the ISO base media file format
// (ISO/IEC 14496-12) and its MP4 branch (ISO/IEC 14496-14).
//
// Files with sample tables and files in movie fragments are read and written,
// with any number of tracks. Of an edit list the first part counts. Not read:
// external data references, encryption, compact sample size tables.
package mp4

import (
	"fmt"

	"vividstrain/core/media"
)

// Name is the container's name.
const Name = "mp4"

// Container registers the format.
var Container = media.Container{
	Name:       Name,
	Extensions: []string{".mp4", ".m4v", ".mov"},
	Match:      match,
	Open:       open,
	Create:     create,
}

// match looks for a first box of a type that such files begin with.
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

// codecs names the sample entries that are known, by codec word.
var codecs = map[string]string{
	"avc1": "h264", "avc3": "h264", "hvc1": "hevc", "hev1": "hevc", "jpeg": "mjpeg",
	"vp08": "vp8", "vp09": "vp9", "av01": "av1",
	"mp4a": "aac", "Opus": "opus", "ac-3": "ac3", "ec-3": "eac3", "fLaC": "flac", ".mp3": "mp3",
}

// objectTypes names the codecs of mp4v sample entries by the object type
// indication of their descriptor (ISO/IEC 14496-1, table 5).
var objectTypes = map[byte]string{
	0x20: "mpeg4", 0x60: "mpeg2", 0x61: "mpeg2", 0x62: "mpeg2", 0x63: "mpeg2", 0x64: "mpeg2", 0x65: "mpeg2",
	0x6A: "mpeg1", objectJPEG: "mjpeg", objectAAC: "aac", 0x66: "aac", 0x67: "aac", 0x69: "mp3", 0x6B: "mp3",
}

// objectJPEG is the object type indication of ISO/IEC 10918-1 video.
const objectJPEG = 0x6C

// objectAAC is that of ISO/IEC 14496-3 sound.
const objectAAC = 0x40

func damaged(offset int64, format string, args ...any) error {
	return &media.FormatError{Format: Name, Offset: offset, What: fmt.Sprintf(format, args...)}
}
