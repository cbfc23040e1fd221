package media

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	"vividstrain/core/media/picture"
)

// Kind is what a track carries.
type Kind uint8

// The kinds of tracks that are distinguished.
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
	Offset   int64 // where in the file its data begin, in bytes; 0 where that is not known
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
	Primaries                  [3][2]uint16
	White                      [2]uint16
	MaxLuminance, MinLuminance uint32
	MaxCLL                     uint16 // light of the brightest sample, cd/m2 (CTA-861.3)
	MaxFALL                    uint16 // of the brightest frame on average
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
	// It returns io.EOF after the last packet.
	ReadPacket(p *Packet) error
	// Rewind goes back to the first packet.
	Rewind() error
}

// Seeker is a Demuxer that can go to another place without reading what lies
// between.
type Seeker interface {
	// SeekTo goes to the last key frame of a track that is not shown after
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
	// CreateFragmented writes a file piece by piece, without going back; ContinueFragmented does the same
	// for times that go on from earlier pieces. Both are nil where the format has no such form.
	CreateFragmented   func(w io.Writer, tracks []Track) (Muxer, error)
	ContinueFragmented func(w io.Writer, tracks []Track) (Muxer, error)
	// ByteStreams tells that the format holds codecs in their byte stream form.
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

// Codec is a coding format. One descriptor says all that others need of it; what it cannot do is nil.
type Codec struct {
	Name string // the codec word of load lines
	Kind Kind
	IDs  Identifiers

	// Stream describes files that are the codec's byte stream alone; nil where there are none.
	Stream *ByteStream
	// IntraOnly tells that every picture is coded without reference to others.
	IntraOnly bool
	// Level is the name of the lowest level whose limits allow a format, "" where none does.
	Level func(f Format) string

	NewDecoder func(t Track, threads int) (Decoder, error)
	// NewParser follows the headers of a stream. It is nil where there is
	// nothing to follow, as with codecs of key frames alone.
	NewParser func() UnitParser
	// FrameSamples is how many samples of each channel a packet of audio has, 0 where that varies.
	FrameSamples int64
	// Disposable returns what tells of a packet's data whether all others
	// can be decoded without it. It is nil where that is true of all.
	Disposable func(t Track) func(data []byte) bool

	// ToPackets and ToByteStream return bitstream filters into the other of the two forms that a
	// codec has: packets with a set-up record beside them, as files have them, or a stream that is
	// whole in itself, as broadcasts have it. ToPackets needs the first packet of the stream and
	// returns the track with its Config.
	ToPackets    func(t Track, first []byte) (Track, Filter, error)
	ToByteStream func(t Track) (Filter, error)

	// CheckFormat tells whether the encoder can make a format, and if not, why.
	CheckFormat func(f Format) error
	// An encoder codes groups of pictures, or pictures on their own by a quality.
	NewEncoder      func(set EncoderSettings, out func(*Packet) error) (Encoder, error)
	NewStillEncoder func() StillEncoder
	MinQuality      int // of a StillEncoder
	MaxQuality      int
	// EncoderVersion changes when the same pictures and settings would give other bytes.
	EncoderVersion int

	// CodecString is the codecs parameter of a track (RFC 6381), "" where it is not known.
	// ParseCodecString reads codec, depth and transfer of a part of such a parameter.
	CodecString      func(t Track) string
	ParseCodecString func(s string) (f Format, ok bool)
}

// ByteStream describes files of NAL units with start codes between them (Rec. ITU-T H.264 and H.265,
// annex B).
type ByteStream struct {
	Extensions []string
	// Match tells from the first bytes of a file (up to SniffLen) whether it is one.
	Match func(head []byte) bool
}

// Filter turns a packet into those of another form: none, one or several. What it returns is valid
// until the next call.
type Filter func(p *Packet) ([]*Packet, error)

// Identifiers are what containers call a codec. Where there are several, the first one is written.
type Identifiers struct {
	MP4       []string // types of sample entries (ISO/IEC 14496-12)
	MP4Config string   // type of the box with the set-up record in them
	MP4Object []byte   // objectTypeIndication of sample entries mp4v and mp4a (ISO/IEC 14496-1, table 5)
	Matroska  []string // CodecID
	TS        []byte   // stream_type (Rec. ITU-T H.222.0, table 2-34)
	// NeedsConfig tells that packets are of no use without the set-up record.
	NeedsConfig bool
}

// Object is the type indication that is written into MP4 files, 0 for codecs with sample entries
// of their own.
func (i *Identifiers) Object() byte {
	if i.MP4Config != "" || len(i.MP4Object) == 0 {
		return 0
	}
	return i.MP4Object[0]
}

// InMP4 tells whether tracks of the codec can be written into MP4 files.
func (i *Identifiers) InMP4() bool { return i.Object() != 0 || len(i.MP4) > 0 && i.MP4Config != "" }

// Codecs is a list of codecs.
type Codecs []Codec

// find returns the first codec for which is tells true, or nil.
func (l Codecs) find(is func(c *Codec) bool) *Codec {
	for i := range l {
		if is(&l[i]) {
			return &l[i]
		}
	}
	return nil
}

// Named returns the codec of that name, or nil.
func (l Codecs) Named(name string) *Codec {
	return l.find(func(c *Codec) bool { return c.Name == name })
}

// ByMP4 returns the codec of a sample entry, or nil.
func (l Codecs) ByMP4(entry string) *Codec {
	return l.find(func(c *Codec) bool { return slices.Contains(c.IDs.MP4, entry) })
}

// ByMP4Object returns the codec of an object type indication, or nil.
func (l Codecs) ByMP4Object(object byte) *Codec {
	return l.find(func(c *Codec) bool { return slices.Contains(c.IDs.MP4Object, object) })
}

// ByMatroska returns the codec of a CodecID, or nil.
func (l Codecs) ByMatroska(id string) *Codec {
	return l.find(func(c *Codec) bool { return slices.Contains(c.IDs.Matroska, id) })
}

// ByTS returns the codec of a stream type, or nil.
func (l Codecs) ByTS(streamType byte) *Codec {
	return l.find(func(c *Codec) bool { return slices.Contains(c.IDs.TS, streamType) })
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

// At is err, with the offset in the file of the packet that it was found in, where err is a FormatError
// that does not say where. An offset of 0 is not known.
func At(err error, offset int64) error {
	if found, ok := err.(*FormatError); ok && offset > 0 && found.Offset < 0 {
		return &FormatError{Format: found.Format, Offset: offset, What: found.What}
	}
	return err
}

// UnsupportedError reports a legal feature that is not carried out here.
type UnsupportedError struct {
	Format string // container or codec word
	What   string
}

func (e *UnsupportedError) Error() string { return e.Format + ": " + e.What + " is not supported" }
