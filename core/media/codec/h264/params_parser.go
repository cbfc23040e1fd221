package h264

import (
	"context"
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// parser is a media.UnitParser.
type parser struct {
	stream
	job      pictureTask
	recovery bool // its SEI marks the next picture as a random access point
	survey   nal.Survey
	keyOrder int32 // position of the last key frame in display order
	fields   bool
	pairs    bool // macroblock-adaptive frame/field coding
	whole    bool // number of pictures coded as frames
}

// NewParser returns a parser of H.264 streams.
func NewParser() media.UnitParser {
	p := &parser{survey: nal.NewSurvey()}
	p.init()
	p.headersOnly = true
	p.acquire = func(context.Context) (*pictureTask, error) { return &p.job, nil }
	p.submit = func(_ context.Context, j *pictureTask) error {
		p.picture(j)
		j.reset()
		return nil
	}
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
	kind := int(unit[0] & 31)
	if kind == nalSEI {
		p.readSEI(unit)
		return u, nil
	}
	u.Picture = kind == nalSlice || kind == nalIDR
	before := p.created
	if err := p.unit(context.Background(), unit, int64(p.created)); err != nil {
		return u, err
	}
	if u.Begins = p.created > before; u.Begins {
		u.Key = kind == nalIDR || p.recovery
		p.begun(u.Key, kind == nalIDR)
	}
	p.recovery = p.recovery && !u.Picture
	return u, nil
}

// begun counts a new frame.
func (p *parser) begun(key, idr bool) {
	p.survey.Begin(key, idr, p.filling.slices[0].h.kind == sliceB)
}

// picture records the properties of a complete picture.
func (p *parser) picture(j *pictureTask) {
	h := &j.slices[0].h
	p.survey.Info.Slices = max(p.survey.Info.Slices, len(j.slices))
	if h.structure == framepool.WholeFrame {
		p.whole, p.pairs = true, p.pairs || h.mbaff
	} else {
		p.fields = true
	}
	p.survey.Info.Entropy = "CAVLC"
	if h.pps.cabac {
		p.survey.Info.Entropy = "CABAC"
	}
	order := j.pocOf(h.structure)
	if p.survey.LastKey > 0 && j.f.PTS > int64(p.survey.LastKey) && order < p.keyOrder {
		p.survey.Info.OpenGOP = true
	}
	p.survey.Place(order, h.kind == sliceB, h.refIDC != 0)
	if j.f.PTS == int64(p.survey.LastKey) {
		p.keyOrder = order
	}
}

func (p *parser) End() {
	_ = p.dispatch(context.Background()) // submit never fails here
	p.end()
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

// readSEI reads the SEI messages that are used (annex D).
func (p *parser) readSEI(unit []byte) {
	p.rbsp = nal.Unescape(p.rbsp[:0], unit[1:])
	for kind, payload := range nal.Messages(p.rbsp) {
		if kind == nal.SEIRecoveryPoint {
			r := bits.NewReader(payload)
			p.recovery = r.UE() == 0
		}
		nal.ReadHDR(&p.survey.Info.HDR, kind, payload)
	}
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
	info.Format = s.format()
	info.Format.Interlaced = p.fields || p.pairs
	info.Level = s.levelName()
	info.References = s.maxRefFrames
	info.Colour = s.vui.Colour
	switch {
	case p.fields && p.whole:
		info.Scan = "interlaced (frames and field pictures)"
	case p.fields:
		info.Scan = "interlaced (field pictures)"
	case p.pairs:
		info.Scan = "interlaced (MBAFF)"
	default:
		info.Scan = "progressive"
	}
	return info
}

// format returns what a sequence parameter set states about the pictures.
func (s *sps) format() media.Format {
	f := media.Format{Codec: Name, Profile: s.profileName(), Width: s.width, Height: s.height, Depth: max(s.depth, s.chromaDepth),
		Chroma: s.chroma, Transfer: media.SDR}
	if s.vui.Stated {
		f.Transfer = media.TransferOf(s.vui.Transfer)
	}
	f.Rate, _ = media.NewRate(int64(s.vui.timeScale), 2*int64(s.vui.unitsInTick)) // a rate outside the valid range counts as not stated
	return f
}

func (s *sps) levelName() string {
	if s.level == 9 || s.level == 11 && s.constraints&0x10 != 0 && !statesChroma(s.profile) {
		return levelName(9)
	}
	return levelName(s.level)
}

// profileName is the name of annex A.2.
func (s *sps) profileName() string {
	intra := ""
	if s.constraints&0x10 != 0 {
		intra = " Intra"
	}
	switch s.profile {
	case 66:
		if s.constraints&0x40 != 0 {
			return "Constrained Baseline"
		}
		return "Baseline"
	case 77:
		return "Main"
	case 88:
		return "Extended"
	case 100:
		if s.chroma == picture.C400 {
			return "High (4:0:0)"
		}
		if s.constraints&0x0C == 0x0C {
			return "Constrained High"
		}
		if s.constraints&0x08 != 0 {
			return "Progressive High"
		}
		return "High"
	case 110:
		return "High 10" + intra
	case 122:
		return "High 4:2:2" + intra
	}
	return fmt.Sprintf("profile %d", s.profile)
}
