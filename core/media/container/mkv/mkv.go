// Package mkv reads and writes Matroska and WebM files (RFC 9559), which consist of EBML
// elements (RFC 8794). It reads files with any number of tracks, complete or still growing, with
// and without lacing. Left out are chapters, tags, attachments, encryption, and content
// compression other than header stripping. Packets are in decoding order; the format does not
// store decoding times, so they are derived from the frame duration.
package mkv

import (
	"bytes"
	"fmt"
	"io"

	"vividstrain/core/media"
)

// Name is the container's name.
const Name = "mkv"

// New returns the container, which recognises tracks of these codecs.
func New(codecs media.Codecs) media.Container {
	return media.Container{
		Name:       Name,
		Extensions: []string{".mkv", ".webm", ".mka"},
		Match:      func(head []byte) bool { return bytes.HasPrefix(head, []byte{0x1A, 0x45, 0xDF, 0xA3}) },
		Open:       func(r io.ReaderAt, size int64) (media.Demuxer, error) { return open(r, size, codecs) },
		Create: func(w io.WriteSeeker, tracks []media.Track, _ int) (media.Muxer, error) {
			return create(w, tracks, codecs)
		},
	}
}

// Element IDs (RFC 9559, section 5).
const (
	idEBML            = 0x1A45DFA3
	idDocType         = 0x4282
	idSegment         = 0x18538067
	idInfo            = 0x1549A966
	idTimestampScale  = 0x2AD7B1
	idDuration        = 0x4489
	idMuxingApp       = 0x4D80
	idWritingApp      = 0x5741
	idTracks          = 0x1654AE6B
	idTrackEntry      = 0xAE
	idTrackNumber     = 0xD7
	idTrackUID        = 0x73C5
	idTrackType       = 0x83
	idCodecID         = 0x86
	idCodecPrivate    = 0x63A2
	idDefaultDuration = 0x23E383
	idVideo           = 0xE0
	idPixelWidth      = 0xB0
	idPixelHeight     = 0xBA
	idFlagInterlaced  = 0x9A
	idColour          = 0x55B0
	idMatrix          = 0x55B1
	idRange           = 0x55B9
	idTransfer        = 0x55BA
	idPrimaries       = 0x55BB
	idMaxCLL          = 0x55BC
	idMaxFALL         = 0x55BD
	idMastering       = 0x55D0
	idAudio           = 0xE1
	idSampling        = 0xB5
	idChannels        = 0x9F
	idEncodings       = 0x6D80
	idEncoding        = 0x6240
	idCompression     = 0x5034
	idCompAlgo        = 0x4254
	idCompSettings    = 0x4255
	idCluster         = 0x1F43B675
	idTimestamp       = 0xE7
	idSimpleBlock     = 0xA3
	idBlockGroup      = 0xA0
	idBlock           = 0xA1
	idBlockDuration   = 0x9B
	idReference       = 0xFB
	idCues            = 0x1C53BB6B
	idCuePoint        = 0xBB
	idCueTime         = 0xB3
	idCuePositions    = 0xB7
	idCueTrack        = 0xF7
	idCueCluster      = 0xF1
	idSeekHead        = 0x114D9B74
	idTags            = 0x1254C367
)

// idMasteringFirst is the first of ten elements of mastering metadata: red x, y, green x, y,
// blue x, y, white point x, y, maximum and minimum luminance.
const idMasteringFirst = 0x55D1

func damaged(offset int64, format string, args ...any) error {
	return &media.FormatError{Format: Name, Offset: offset, What: fmt.Sprintf(format, args...)}
}
