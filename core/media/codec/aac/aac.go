// Package aac converts AAC audio between its two forms in containers: raw access units with an
// AudioSpecificConfig beside them (ISO/IEC 14496-3, 1.6.2.1), and ADTS frames (1.A.2.2), each
// with a header of its own, as in transport streams.
package aac

import (
	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
)

// Name is the codec word.
const Name = "aac"

// Codec describes the format. There is no decoder: audio is copied.
var Codec = media.Codec{
	Name: Name, Kind: media.Audio,
	IDs: media.Identifiers{
		MP4: []string{"mp4a"}, MP4Object: []byte{0x40, 0x66, 0x67, 0x68},
		Matroska: []string{"A_AAC", "A_AAC/MPEG4/LC", "A_AAC/MPEG4/LC/SBR", "A_AAC/MPEG2/LC", "A_AAC/MPEG2/LC/SBR"}, TS: []byte{0x0F, 0x11},
	},
	FrameSamples: Samples, ToPackets: toPackets, ToByteStream: toByteStream,
}

// rates are the sampling frequencies by index (table 1.18).
var rates = [13]int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}

// Samples is the number of samples per channel in a frame.
const Samples = 1024

const headerSize = 7

// config is what both forms state: audio object type, and the indices of sampling frequency and
// channels.
type config struct{ object, rate, channels int }

func damaged(what string) error {
	return &media.FormatError{Format: Name, Offset: -1, What: what}
}

// ADTS returns a function that appends a raw access unit of the track as an ADTS frame.
func ADTS(t media.Track) (func(dst []byte, p *media.Packet) []byte, error) {
	r := bits.NewReader(t.Config)
	c := config{int(r.U(5)), int(r.U(4)), int(r.U(4))}
	if r.Overrun() || c.object < 1 || c.object > 4 || c.rate >= len(rates) || c.channels > 7 {
		return nil, &media.UnsupportedError{Format: Name, What: "this kind of AAC in a transport stream"}
	}
	return func(dst []byte, p *media.Packet) []byte {
		n := len(p.Data) + headerSize
		dst = append(dst, 0xFF, 0xF1, // MPEG-4, no CRC
			byte(c.object-1)<<6|byte(c.rate)<<2|byte(c.channels>>2),
			byte(c.channels&3)<<6|byte(n>>11&3), byte(n>>3), byte(n&7)<<5|0x1F, 0xFC)
		return append(dst, p.Data...)
	}, nil
}

// Split returns the raw access units of a packet of ADTS frames and the track to which they
// belong.
func Split(t media.Track, data []byte) (_ media.Track, units [][]byte, err error) {
	for len(data) > 0 {
		if len(data) < headerSize || data[0] != 0xFF || data[1]&0xF6 != 0xF0 {
			return t, units, damaged("there is no ADTS frame where one should be")
		}
		head := headerSize
		if data[1]&1 == 0 { // a checksum
			head += 2
		}
		n := int(data[3]&3)<<11 | int(data[4])<<3 | int(data[5])>>5
		c := config{int(data[2]>>6) + 1, int(data[2] >> 2 & 15), int(data[2]&1)<<2 | int(data[3]>>6)}
		if n <= head || n > len(data) || c.rate >= len(rates) || data[6]&3 != 0 {
			return t, units, damaged("an ADTS frame is truncated or invalid")
		}
		t.Config = []byte{byte(c.object<<3 | c.rate>>1), byte(c.rate<<7 | c.channels<<3)}
		t.Rate, t.Channels = rates[c.rate], c.channels
		units = append(units, data[head:n])
		data = data[n:]
	}
	return t, units, nil
}

// toByteStream wraps raw access units in ADTS frames.
func toByteStream(t media.Track) (media.Filter, error) {
	wrap, err := ADTS(t)
	return func(p *media.Packet) ([]*media.Packet, error) {
		out := *p
		out.Data = wrap(nil, p)
		return []*media.Packet{&out}, nil
	}, err
}

// toPackets splits packets of ADTS frames into raw access units, with times in samples.
func toPackets(t media.Track, first []byte) (media.Track, media.Filter, error) {
	scale := t.Timescale
	out, _, err := Split(t, first)
	out.Timescale = int64(out.Rate)
	return out, func(p *media.Packet) (list []*media.Packet, err error) {
		_, units, err := Split(t, p.Data)
		at := p.PTS * out.Timescale / scale
		for i, unit := range units {
			pts := at + int64(i)*Samples
			list = append(list, &media.Packet{Track: p.Track, Data: unit, PTS: pts, DTS: pts, Duration: Samples, Key: true})
		}
		return list, err
	}, err
}
