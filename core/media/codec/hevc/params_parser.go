package hevc

import (
	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
)

// parser is a media.UnitParser.
type parser struct {
	stream
	survey nal.Survey
}

// NewParser returns a parser of H.265 streams.
func NewParser() media.UnitParser {
	p := &parser{survey: nal.NewSurvey()}
	p.headersOnly = true
	p.decode = func(f *frame) {
		p.survey.Info.Slices = max(p.survey.Info.Slices, len(p.headers))
		if len(p.headers) > 0 {
			p.survey.Place(int32(f.poc), p.headers[0].kind == sliceB, p.headers[0].reference())
		}
	}
	p.survey.Info.Entropy = "CABAC"
	return p
}

func (p *parser) Configure(config []byte) error {
	if len(config) == 0 {
		return nil
	}
	return p.configure(config)
}

func (p *parser) Packet(data []byte) error {
	c := nal.NewCursor(data, p.prefix)
	for unit := c.Next(); unit != nil; unit = c.Next() {
		if _, err := p.Unit(unit); err != nil {
			return err
		}
	}
	return nil
}

func (p *parser) Unit(unit []byte) (u media.Unit, err error) {
	if len(unit) < 3 {
		return u, nil
	}
	kind := kindOf(unit)
	if kind == nalPrefixSEI || kind == nalSuffixSEI {
		p.rbsp = nal.Unescape(p.rbsp[:0], unit[2:])
		for kind, payload := range nal.Messages(p.rbsp) {
			nal.ReadHDR(&p.survey.Info.HDR, kind, payload)
		}
		return u, nil
	}
	u.Picture = kind <= nalRASLR || kind >= nalBLAWLP && kind <= nalCRA
	// Pictures before the first random access point, and those that refer to what is before it, are
	// frames of the stream too, though they are not decoded.
	u.Begins = u.Picture && unit[2]&0x80 != 0
	if err := p.unit(unit, int64(p.survey.Frames())); err != nil {
		return u, err
	}
	if u.Begins {
		u.Key = kind >= nalBLAWLP
		p.began(u.Key, kind == nalIDRWRADL || kind == nalIDRNLP, kind == nalRASLN || kind == nalRASLR)
	}
	return u, nil
}

// began counts a new frame; open means that it may refer to frames before the last key frame.
func (p *parser) began(key, idr, open bool) {
	isB := len(p.slices) > 0 && p.slices[0].h.kind == sliceB
	info := &p.survey.Info
	info.OpenGOP = info.OpenGOP || open && p.survey.LastKey > 0
	p.survey.Begin(key, idr, isB)
}

func (p *parser) End() {
	p.finish()
	p.flush()
	p.survey.End()
}

func (p *parser) Shown() (numbers []int) {
	for _, f := range p.ready {
		numbers = append(numbers, int(f.PTS))
		p.survey.Show(int(f.PTS))
	}
	p.ready = p.ready[:0]
	return numbers
}

// Frames returns how many frames have begun.
func (p *parser) Frames() int { return p.survey.Frames() }

// Info returns what is known so far.
func (p *parser) Info() media.StreamInfo {
	info := p.survey.Info
	info.Frames = p.survey.Frames()
	s := p.active
	if s == nil {
		s = p.spss.Last() // before the first picture
	}
	if s == nil {
		return info
	}
	info.Format, info.Colour = s.format(), s.vui.Colour
	if info.Level = levelText(s.level); s.highTier {
		info.Level += " High"
	}
	info.References = s.maxDec - 1
	info.Scan = "progressive"
	if s.vui.fieldSeq {
		info.Scan = "interlaced (field pictures)"
	}
	return info
}

// visible returns the size after cropping.
func (s *sps) visible() (width, height int) {
	return s.width - s.cropLeft - s.cropRight, s.height - s.cropTop - s.cropBottom
}

// frames returns how frames of a parameter set are stored.
func (s *sps) frames() framepool.Layout {
	l := framepool.Layout{CodedWidth: s.width, CodedHeight: s.height, CropLeft: s.cropLeft, CropTop: s.cropTop, Depth: s.depth, ChromaDepth: s.chromaDepth, Chroma: s.chroma}
	l.Width, l.Height = s.visible()
	return l
}

// format returns what a sequence parameter set states about the pictures.
func (s *sps) format() media.Format {
	f := media.Format{Codec: Name, Profile: s.profileName(), Depth: max(s.depth, s.chromaDepth), Chroma: s.chroma, Transfer: media.SDR}
	f.Width, f.Height = s.visible()
	if s.vui.Stated {
		f.Transfer = media.TransferOf(s.vui.Transfer)
	}
	f.Rate, _ = media.NewRate(int64(s.vui.timeScale), int64(s.vui.unitsInTick)) // a rate outside the valid range counts as not stated
	return f
}
