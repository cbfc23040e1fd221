package mp4

import (
	"encoding/binary"

	"vividstrain/core/media"
)

// entry writes the sample entry of a track (8.5.2).
func (b *builder) entry(t *trackWriter) {
	object, kind := t.ids.Object(), "mp4v"
	switch {
	case object == 0:
		kind = t.ids.MP4[0]
	case t.Kind == media.Audio:
		kind = "mp4a"
	}
	b.box(kind, func() {
		b.zeros(6)
		b.u16(1)          // data reference
		stream := byte(4) // visual, by table 6 of ISO/IEC 14496-1
		if t.Kind == media.Audio {
			stream = 5
			b.audioEntry(&t.Track)
		} else {
			b.visualEntry(&t.Track)
		}
		if object != 0 {
			b.descriptor(object, stream, t.Format.Bitrate, t.Config)
		} else {
			b.box(t.ids.MP4Config, func() { *b = append(*b, t.Config...) })
		}
		if t.Kind == media.Video {
			b.colour(&t.Track)
		}
	})
}

// audioEntry writes the fields of an AudioSampleEntry (12.2.3).
func (b *builder) audioEntry(t *media.Track) {
	b.zeros(8)
	b.u16(uint16(t.Channels))
	b.u16(16)
	b.zeros(4)
	b.u32(uint32(min(t.Rate, 0xFFFF)) << 16)
}

// visualEntry writes the fields of a VisualSampleEntry (12.1.3).
func (b *builder) visualEntry(t *media.Track) {
	b.zeros(16)
	b.u16(uint16(t.Format.Width))
	b.u16(uint16(t.Format.Height))
	b.u32(72 << 16) // dots per inch
	b.u32(72 << 16)
	b.u32(0)
	b.u16(1) // frames per sample
	b.zeros(32)
	b.u16(24)     // depth: colour without alpha
	b.u16(0xFFFF) // no colour table
}

// descriptor writes an elementary stream descriptor (ISO/IEC 14496-14, 5.6;
// ISO/IEC 14496-1, 7.2.6).
func (b *builder) descriptor(object, stream byte, bitrate int64, config []byte) {
	b.full("esds", 0, 0, func() {
		inner := 13
		if config != nil {
			inner += 2 + len(config)
		}
		b.u8(3, byte(3+2+inner+3), 0, 1, 0) // ES descriptor: id 1, no flags
		b.u8(4, byte(inner), object, stream<<2|1)
		b.u8(0, 0, 0)          // buffer size
		b.u32(uint32(bitrate)) // at most
		b.u32(uint32(bitrate)) // on average
		if config != nil {
			b.u8(5, byte(len(config)))
			*b = append(*b, config...)
		}
		b.u8(6, 1, 2) // SL descriptor: as in MP4 files
	})
}

// colour writes colr (12.1.5), mdcv and clli (12.1.6, 12.1.7).
func (b *builder) colour(t *media.Track) {
	if c := t.Colour; c != (media.Colour{}) {
		b.box("colr", func() {
			b.text("nclx")
			b.u16(uint16(c.Primaries))
			b.u16(uint16(c.Transfer))
			b.u16(uint16(c.Matrix))
			if c.FullRange {
				b.u8(0x80)
			} else {
				b.u8(0)
			}
		})
	}
	if h := t.HDR; h != nil {
		b.box("mdcv", func() {
			for _, v := range h.Primaries {
				b.u16(v[0])
				b.u16(v[1])
			}
			b.u16(h.White[0])
			b.u16(h.White[1])
			b.u32(h.MaxLuminance)
			b.u32(h.MinLuminance)
		})
		b.box("clli", func() {
			b.u16(h.MaxCLL)
			b.u16(h.MaxFALL)
		})
	}
}

// readEntry reads the first sample entry of stsd.
func (d *reader) readEntry(stbl box, t *media.Track) error {
	stsd, err := stbl.need(d.file, "stsd")
	if err != nil {
		return err
	}
	if stsd.size() < 16 {
		return damaged(stsd.start, "there is no sample entry")
	}
	entry, err := readBox(d.file, stsd.start+8, stsd.end, false)
	if err != nil {
		return err
	}
	t.Codec = entry.kind
	codec := d.codecs.ByMP4(entry.kind)
	if codec != nil {
		t.Codec = codec.Name
	}
	fields := int64(0)
	switch t.Kind {
	case media.Video:
		fields, err = d.readVisual(entry, t)
	case media.Audio:
		fields, err = d.readAudio(entry, t)
	default:
		return nil
	}
	if err != nil {
		return err
	}
	list, err := children(d.file, entry.start+fields, entry.end)
	if err != nil && t.Kind == media.Audio {
		return nil // audio is copied even where its entry is unusual
	}
	if err != nil {
		return err
	}
	for _, b := range list {
		if err := d.readExtension(b, t, codec); err != nil {
			return err
		}
	}
	t.Format.Codec = t.Codec
	return nil
}

func (d *reader) readVisual(entry box, t *media.Track) (fields int64, err error) {
	const size = 78 // before the boxes
	head, err := entry.payload(d.file, size, size)
	if err != nil {
		return 0, err
	}
	t.Format = media.Format{
		Width:  int(binary.BigEndian.Uint16(head[24:])),
		Height: int(binary.BigEndian.Uint16(head[26:])),
	}
	return size, nil
}

func (d *reader) readAudio(entry box, t *media.Track) (fields int64, err error) {
	const size = 28
	head, err := entry.payload(d.file, size, size)
	if err != nil {
		return 0, err
	}
	t.Channels = int(binary.BigEndian.Uint16(head[16:]))
	t.Rate = int(binary.BigEndian.Uint16(head[24:]))
	switch binary.BigEndian.Uint16(head[8:]) { // sound description versions of older files
	case 1:
		return size + 16, nil
	case 2:
		return size + 36, nil
	}
	return size, nil
}

// maxConfig is the largest size of a codec's configuration record, in bytes.
const maxConfig = 1 << 16

// readExtension reads a box inside a sample entry.
func (d *reader) readExtension(b box, t *media.Track, codec *media.Codec) error {
	data, err := b.payload(d.file, 0, maxConfig)
	if err != nil {
		return err
	}
	switch {
	case codec != nil && b.kind == codec.IDs.MP4Config:
		t.Config, t.ConfigOffset = data, b.start
	case b.kind == "esds" && len(data) >= 4:
		object, config := decoderConfig(data[4:])
		if codec := d.codecs.ByMP4Object(object); codec != nil {
			t.Codec = codec.Name
		}
		t.Config, t.ConfigOffset = config, b.start
	case b.kind == "colr" && len(data) >= 11 && string(data[:4]) == "nclx":
		t.Colour = media.Colour{Primaries: int(binary.BigEndian.Uint16(data[4:])), Transfer: int(binary.BigEndian.Uint16(data[6:])),
			Matrix: int(binary.BigEndian.Uint16(data[8:])), FullRange: data[10]&0x80 != 0}
	case b.kind == "mdcv" && len(data) >= 24:
		h := media.HDROf(&t.HDR)
		for i := range h.Primaries {
			h.Primaries[i] = [2]uint16{binary.BigEndian.Uint16(data[4*i:]), binary.BigEndian.Uint16(data[4*i+2:])}
		}
		h.White = [2]uint16{binary.BigEndian.Uint16(data[12:]), binary.BigEndian.Uint16(data[14:])}
		h.MaxLuminance, h.MinLuminance = binary.BigEndian.Uint32(data[16:]), binary.BigEndian.Uint32(data[20:])
	case b.kind == "clli" && len(data) >= 4:
		h := media.HDROf(&t.HDR)
		h.MaxCLL, h.MaxFALL = binary.BigEndian.Uint16(data), binary.BigEndian.Uint16(data[2:])
	}
	return nil
}

// decoderConfig returns the object type indication and the decoder specific information of an
// elementary stream descriptor (ISO/IEC 14496-1, 7.2.6.5 to 7.2.6.7).
func decoderConfig(d []byte) (object byte, config []byte) {
	const tagES, tagDecoderConfig, tagSpecific = 3, 4, 5
	body, tag := descriptor(d)
	if tag != tagES || len(body) < 3 {
		return 0, nil
	}
	flags, body := body[2], body[3:]
	skip := 0
	if flags&0x80 != 0 { // depends on another stream
		skip += 2
	}
	if flags&0x40 != 0 && len(body) > skip { // a URL of this length follows
		skip += 1 + int(body[skip])
	}
	if flags&0x20 != 0 { // a clock stream
		skip += 2
	}
	if body, tag = descriptor(body[min(skip, len(body)):]); tag != tagDecoderConfig || len(body) < 1 {
		return 0, nil
	}
	object = body[0]
	if len(body) > 13 {
		if specific, tag := descriptor(body[13:]); tag == tagSpecific {
			config = specific
		}
	}
	return object, config
}

// descriptor returns the body and tag of the first descriptor in d (8.3.3).
func descriptor(d []byte) (body []byte, tag byte) {
	if len(d) == 0 {
		return nil, 0
	}
	size, i := 0, 1
	for ; i < len(d) && i <= 4; i++ {
		size = size<<7 | int(d[i]&0x7f)
		if d[i]&0x80 == 0 {
			i++
			break
		}
	}
	return d[i:min(i+size, len(d))], d[0]
}
