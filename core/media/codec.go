package media

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"time"

	"vividstrain/core/media/picture"
)

// Kind is what a track carries.
type Kind uint8

// The kinds of tracks that are told apart.
const (
	Video Kind = iota
	Audio
	Other
)

// Track describes one track of a file, as its container states it.
type Track struct {
	ID        int // as numbered in the container
	Kind      Kind
	Codec     string // codec word, or the container's own code where we know none
	Timescale int64  // units a second of the times in this track's packets, positive
	Format    Format // of video; Rate and Bitrate are zero where unknown
	Colour    Colour // of video, zero where the container does not tell
	HDR       *HDR   // of video, nil where the container does not tell
	Channels  int    // of sound
	Rate      int    // of sound, samples a second
	Config    []byte // the codec's set-up record, as the container carries it
	Packets   int    // how many packets there are, 0 where unknown
	Duration  time.Duration
}

// NoTime stands for a time that a file does not tell.
const NoTime = math.MinInt64

// Packet is one coded picture, or one coded piece of sound.
type Packet struct {
	Track    int // index into the demuxer's tracks
	Data     []byte
	PTS, DTS int64 // when to show and when to decode, in the track's units; PTS may be NoTime
	Duration int64 // 0 where unknown
	Key      bool  // decoding can start here
	Hidden   bool  // to be decoded but not shown
}

// Colour says which colours sample values stand for, by the code points of
// Rec. ITU-T H.273; 2 is "unspecified", 0 means that nothing is said.
type Colour struct {
	Primaries, Transfer, Matrix int
	FullRange                   bool
}

// HDR is static metadata of high dynamic range video.
type HDR struct {
	// Of the display it was mastered on (SMPTE ST 2086): the primaries
	// green, blue, red and the white point as x, y in 0.00002; luminance
	// in 0.0001 cd/m2.
	Primaries   [3][2]uint16
	White       [2]uint16
	MaxLuminance, MinLuminance uint32
	MaxCLL      uint16 // light of the brightest sample, cd/m2 (CTA-861.3)
	MaxFALL     uint16 // of the brightest frame on average
}

// HDROf is what *h points to, made on first use.
func HDROf(h **HDR) *HDR {
	if *h == nil {
		*h = &HDR{}
	}
	return *h
}

// Demuxer reads the packets of one file in the order in which they are stored.
type Demuxer interface {
	Tracks() []Track
	// ReadPacket fills p, using p.Data again where it is large enough.
	// It returns io.EOF behind the last packet.
	ReadPacket(p *Packet) error
	// Rewind goes back to the first packet.
	Rewind() error
}

// Seeker is a Demuxer that can go to another place without reading what lies
// between.
type Seeker interface {
	// SeekTo goes to the last key frame of a track that is not shown behind
	// a time in the track's units.
	SeekTo(track int, pts int64) error
}

// Muxer writes a file. Close completes it; a file that was not closed is not
// whole.
type Muxer interface {
	WritePacket(p *Packet) error
	Close() error
}

// Container is a file format.
type Container struct {
	Name       string // "mp4"
	Extensions []string
	// Match tells from the first bytes of a file (up to SniffLen) whether
	// it is of this format.
	Match func(head []byte) bool
	// Open reads a file of size bytes.
	Open func(r io.ReaderAt, size int64) (Demuxer, error)
	// Create writes a file with these tracks, whose order Packet.Track
	// follows; packets is how many are to come, as a hint. It is nil for
	// formats that are only read.
	Create func(w io.WriteSeeker, tracks []Track, packets int) (Muxer, error)
	// ByteStreams tells that packets of codecs in NAL units are held with
	// start codes, not with lengths.
	ByteStreams bool
	// Untimed tells that the format holds no times.
	Untimed bool
}

// SniffLen is how many bytes Container.Match looks at.
const SniffLen = 4096

// Frame is one decoded picture with its time in the track's units.
type Frame struct {
	*picture.Picture
	PTS     int64
	Damaged bool // something of it was concealed
}

// Decoder decodes one stream. Send and Receive are called from two goroutines,
// so that a decoder can work on several cores between them.
type Decoder interface {
	// Send gives in the next packet in decoding order, and waits while the
	// decoder has enough to do. It takes p.Data over and leaves in p a
	// buffer that is free for use.
	Send(ctx context.Context, p *Packet) error
	// Drain says that no packet follows.
	Drain()
	// Receive returns the next picture in display order. The receiver
	// releases it. After the last picture it returns io.EOF.
	Receive(ctx context.Context) (Frame, error)
	// Close ends the decoder's goroutines. Neither Send nor Receive may be
	// running or called afterwards.
	Close()
}

// Worker is a Decoder that knows how much processor time its threads have used.
type Worker interface{ Busy() time.Duration }

// Codec is a video coding format.
type Codec struct {
	Name       string // the codec word of load lines
	NewDecoder func(t Track, threads int) (Decoder, error)
	// NewParser follows the headers of a stream. It is nil where there is
	// nothing to follow, as with codecs of key frames alone.
	NewParser func() UnitParser
	// Prefixed and ByteStreams are of codecs in NAL units: they return what
	// appends a packet in the other of the two forms, with lengths or with
	// start codes. Prefixed needs the first packet of the stream and gives
	// the track its Config.
	Prefixed   func(t Track, first []byte) (Track, func(dst []byte, p *Packet) []byte, error)
	ByteStream func(t Track) (func(dst []byte, p *Packet) []byte, error)
	// Disposable returns what tells of a packet's data whether all others
	// can be decoded without it. It is nil where that is true of all.
	Disposable func(t Track) func(data []byte) bool
	// CheckFormat tells whether the encoder can make this format, and if not,
	// why. It is nil for a codec without an encoder.
	CheckFormat func(f Format) error
}

// ErrNoVideo means that a file was read but holds no video track.
var ErrNoVideo = errors.New("it holds no video")

// FormatError reports that a file breaks the rules of its format.
type FormatError struct {
	Format string // container or codec word
	Offset int64  // in bytes from the start of the file, or -1
	What   string
}

func (e *FormatError) Error() string {
	if e.Offset < 0 {
		return fmt.Sprintf("damaged %s: %s", e.Format, e.What)
	}
	return fmt.Sprintf("damaged %s at byte %d: %s", e.Format, e.Offset, e.What)
}

// UnsupportedError reports a legal feature that is not carried out here.
type UnsupportedError struct {
	Format string // container or codec word
	What   string
}

func (e *UnsupportedError) Error() string { return e.Format + ": " + e.What + " is not supported" }
