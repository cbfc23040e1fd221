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

// Kind is the kind of content of a track.
type Kind uint8

// The kinds of tracks that are told apart.
const (
	Video Kind = iota
	Audio
	Other
)

// Track describes one track of a file, as its container states it.
type Track struct {
	ID           int // as numbered in the container
	Kind         Kind
	Codec        string // codec word; the container's own code if the codec is not known
	Timescale    int64  // units per second of packet times, positive
	Format       Format // of video; Rate and Bitrate are zero where unknown
	Colour       Colour // of video; zero where the container does not state it
	HDR          *HDR   // of video; nil where the container does not state it
	Channels     int    // of audio
	Rate         int    // of audio, samples per second
	Config       []byte // the codec's configuration record, as the container stores it
	ConfigOffset int64  // byte offset of Config in the file; 0 where not known
	Packets      int    // number of packets, 0 where unknown
	Duration     time.Duration
}

// NoTime is the value of a time that a file does not state.
const NoTime = math.MinInt64

// Packet is one coded picture, or one coded block of audio.
type Packet struct {
	Track    int // index into the demuxer's tracks
	Data     []byte
	PTS, DTS int64 // presentation and decoding time, in the track's units; PTS may be NoTime
	Duration int64 // 0 where unknown
	Key      bool  // decoding can start here
	Hidden   bool  // decoded, but not shown
	Offset   int64 // byte offset of its data in the file; 0 where not known
}

// Colour states the meaning of sample values by code points of Rec. ITU-T H.273: 2 is
// "unspecified", 0 means that nothing was stated.
type Colour struct {
	Primaries, Transfer, Matrix int
	FullRange                   bool
}

// HDR is static metadata of high dynamic range video.
type HDR struct {
	// The mastering display (SMPTE ST 2086): the primaries green, blue and red and the white
	// point as x, y in units of 0.00002; luminance in units of 0.0001 cd/m2.
	Primaries                  [3][2]uint16
	White                      [2]uint16
	MaxLuminance, MinLuminance uint32
	MaxCLL                     uint16 // MaxCLL, light of the brightest sample, cd/m2 (CTA-861.3)
	MaxFALL                    uint16 // MaxFALL, mean light of the brightest frame, cd/m2
}

// HDROf returns *h, allocated on first use.
func HDROf(h **HDR) *HDR {
	if *h == nil {
		*h = &HDR{}
	}
	return *h
}

// Demuxer reads the packets of a file in stored order.
type Demuxer interface {
	Tracks() []Track
	// ReadPacket fills p, reusing p.Data where it is large enough. It returns io.EOF after the
	// last packet.
	ReadPacket(p *Packet) error
	// Rewind returns to the first packet.
	Rewind() error
}

// Seeker is a Demuxer that can seek without reading what is skipped.
type Seeker interface {
	// SeekTo seeks to the last key frame of a track that is shown no later than pts, in the
	// track's units.
	SeekTo(track int, pts int64) error
}

// Muxer writes a file. Close completes it; a file that was not closed is incomplete.
type Muxer interface {
	WritePacket(p *Packet) error
	Close() error
}

// Container is a file format.
type Container struct {
	Name       string // "mp4"
	Extensions []string
	// Match reports from the first bytes of a file (up to SniffLen) whether it has this format.
	Match func(head []byte) bool
	// Open reads a file of size bytes.
	Open func(r io.ReaderAt, size int64) (Demuxer, error)
	// Create starts a file with these tracks; Packet.Track is an index into them. packets is a
	// hint of how many packets will come. Create is nil for formats that are only read.
	Create func(w io.WriteSeeker, tracks []Track, packets int) (Muxer, error)
	// CreateFragmented starts a file that is written in fragments, without seeking;
	// ContinueFragmented does the same for times that continue those of earlier fragments. Both
	// are nil where the format has no fragments.
	CreateFragmented   func(w io.Writer, tracks []Track) (Muxer, error)
	ContinueFragmented func(w io.Writer, tracks []Track) (Muxer, error)
	// ByteStreams reports that the format stores codecs in their byte stream form.
	ByteStreams bool
	// Untimed reports that the format stores no times.
	Untimed bool
}

// SniffLen is the number of bytes that Container.Match looks at.
const SniffLen = 4096

// Frame is one decoded picture, with its time in the track's units.
type Frame struct {
	*picture.Picture
	PTS     int64
	Damaged bool // part of it was concealed
}

// Decoder decodes one stream. Send and Receive are called from two goroutines, so that a decoder
// can work on several cores between them.
type Decoder interface {
	// Send takes the next packet in decoding order, and waits while the decoder is busy. It
	// takes ownership of p.Data and leaves an unused buffer in p.
	Send(ctx context.Context, p *Packet) error
	// Drain announces that no packet follows.
	Drain()
	// Receive returns the next picture in display order, or io.EOF after the last one. The
	// receiver releases the picture.
	Receive(ctx context.Context) (Frame, error)
	// Close ends the decoder's goroutines. Neither Send nor Receive may be running, or be called
	// afterwards.
	Close()
}

// Worker is a Decoder that knows the processor time that its threads have used.
type Worker interface{ Busy() time.Duration }

// Codec describes a coding format: everything the rest of the program needs to know about it. A
// function that the codec does not offer is nil.
type Codec struct {
	Name string // the codec word of load lines
	// Nicknames are what people may write instead; they are offered as a correction.
	Nicknames []string
	Kind      Kind
	IDs       Identifiers

	// Stream describes files that hold the codec's byte stream alone; nil where there are none.
	Stream *ByteStream
	// IntraOnly reports that every picture is coded without reference to others.
	IntraOnly bool
	// Level returns the name of the lowest level that allows a format, "" where none does.
	Level func(f Format) string

	NewDecoder func(t Track, threads int) (Decoder, error)
	// NewParser returns a parser of the headers of a stream. It is nil for codecs of key frames
	// alone, which need none.
	NewParser func() UnitParser
	// FrameSamples is the number of samples per channel in a packet of audio, 0 where it varies.
	FrameSamples int64
	// Disposable returns a function that reports from a packet's data whether all other packets
	// can be decoded without it. It is nil where that is true of every packet.
	Disposable func(t Track) func(data []byte) bool

	// ToPackets and ToByteStream return bitstream filters between the two forms of a codec:
	// packets with a configuration record beside them, as in files, and a self-contained stream,
	// as in broadcasts. ToPackets needs the first packet of the stream, and returns the track
	// with its Config.
	ToPackets    func(t Track, first []byte) (Track, Filter, error)
	ToByteStream func(t Track) (Filter, error)

	// CheckFormat returns why the encoder cannot make a format, nil if it can.
	CheckFormat func(f Format) error
	// An encoder codes either groups of pictures, or single pictures of a given quality.
	NewEncoder      func(set EncoderSettings, out func(*Packet) error) (Encoder, error)
	NewStillEncoder func() StillEncoder
	MinQuality      int // of a StillEncoder
	MaxQuality      int
	// EncoderVersion is increased when the same pictures and settings give other bytes than
	// before.
	EncoderVersion int

	// CodecString returns the codecs parameter of a track (RFC 6381), "" where it is not known.
	// ParseCodecString reads codec, depth and transfer from one element of such a parameter.
	CodecString      func(t Track) string
	ParseCodecString func(s string) (f Format, ok bool)
}

// ByteStream describes files of NAL units with start codes between them (Rec. ITU-T H.264 and H.265,
// annex B).
type ByteStream struct {
	Extensions []string
	// Match reports from the first bytes of a file (up to SniffLen) whether it is such a file.
	Match func(head []byte) bool
}

// Filter converts a packet into another form: none, one or several packets. They are valid until
// the next call.
type Filter func(p *Packet) ([]*Packet, error)

// Identifiers are the names of a codec in containers. Where there are several, the first one is
// written.
type Identifiers struct {
	MP4       []string // types of sample entries (ISO/IEC 14496-12)
	MP4Config string   // type of the box with the configuration record inside them
	MP4Object []byte   // objectTypeIndication of sample entries mp4v and mp4a (ISO/IEC 14496-1, table 5)
	Matroska  []string // CodecID
	TS        []byte   // stream_type (Rec. ITU-T H.222.0, table 2-34)
	// NeedsConfig reports that packets are of no use without the configuration record.
	NeedsConfig bool
}

// Object returns the object type indication that is written into MP4 files, 0 for codecs with
// sample entries of their own.
func (i *Identifiers) Object() byte {
	if i.MP4Config != "" || len(i.MP4Object) == 0 {
		return 0
	}
	return i.MP4Object[0]
}

// InMP4 reports whether tracks of the codec can be written into MP4 files.
func (i *Identifiers) InMP4() bool { return i.Object() != 0 || len(i.MP4) > 0 && i.MP4Config != "" }

// Codecs is a list of codecs.
type Codecs []Codec

// find returns the first codec for which is returns true, or nil.
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

// ErrNoVideo means that a file was read but has no video track.
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

// At adds the file offset of a packet to a FormatError that was found in the packet and has no
// offset yet; other errors are returned unchanged. Offset 0 means that it is not known.
func At(err error, offset int64) error {
	if found, ok := err.(*FormatError); ok && offset > 0 && found.Offset < 0 {
		return &FormatError{Format: found.Format, Offset: offset, What: found.What}
	}
	return err
}

// UnsupportedError reports a legal feature that is not implemented.
type UnsupportedError struct {
	Format string // container or codec word
	What   string
}

func (e *UnsupportedError) Error() string { return e.Format + ": " + e.What + " is not supported" }
