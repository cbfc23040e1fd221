package h264

import (
	"slices"

	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// Limits on what a hostile stream can allocate. The size is larger than level 6.2 allows.
const (
	maxMbs       = 139264 // macroblocks in a frame (table A-1, level 6.2)
	maxMbsASide  = 1024
	maxSPS       = 32
	maxPPS       = 256
	maxDPBFrames = 16
)

// sps is a sequence parameter set (7.3.2.1.1).
type sps struct {
	profile, constraints, level int
	id                          int
	chroma                      picture.Chroma
	depth, chromaDepth          int
	scaling                     *scalingLists // nil: flat
	frameNumBits                int
	pocType                     int
	pocLSBBits                  int
	deltaPicOrderAlwaysZero     bool
	offsetForNonRef             int32
	offsetForTopToBottom        int32
	offsetForRefFrame           []int32
	maxRefFrames                int
	gapsAllowed                 bool
	mbWidth, mbHeight           int // of a frame
	frameMbsOnly                bool
	mbaff                       bool
	direct8x8                   bool
	cropLeft, cropTop           int // in luma samples
	width, height               int // size after cropping
	vui                         vui
	reorder                     int // number of frames that may wait for output
	dpbFrames                   int
}

// vui holds the fields of the video usability information (annex E) that are used.
type vui struct {
	nal.Signal
	unitsInTick        uint32
	timeScale          uint32
	restricted         bool // the next two are set
	reorder, buffering int
}

// scalingLists are the six 4x4 and two 8x8 lists of 4:2:0 and 4:2:2, in zigzag order.
type scalingLists struct {
	small [6][16]uint8
	large [2][64]uint8
}

// statesChroma reports whether sequence parameter sets of a profile_idc contain
// chroma_format_idc.
func statesChroma(profile int) bool {
	switch profile {
	case 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135:
		return true
	}
	return false
}

// mayReorder reports whether the profile allows arbitrary slice order: Baseline that is not
// constrained, and Extended.
func (s *sps) mayReorder() bool {
	return s.profile == 66 && s.constraints&0x40 == 0 || s.profile == 88
}

func parseSPS(rbsp []byte) (*sps, error) {
	r := bits.NewReader(rbsp)
	s := &sps{chroma: picture.C420, depth: 8, chromaDepth: 8}
	s.profile, s.constraints, s.level = int(r.U(8)), int(r.U(8)), int(r.U(8))
	id := r.UE()
	if id >= maxSPS {
		return nil, damaged("a sequence parameter set's number is too large")
	}
	s.id = int(id)
	if statesChroma(s.profile) {
		if err := s.parseChroma(&r); err != nil {
			return nil, err
		}
	}
	if err := s.parseOrder(&r); err != nil {
		return nil, err
	}
	if err := s.parseSize(&r); err != nil {
		return nil, err
	}
	if r.Flag() {
		s.vui.parse(&r)
	}
	if r.Overrun() {
		return nil, damaged("a sequence parameter set is truncated")
	}
	s.setDelay()
	return s, nil
}

func (s *sps) parseChroma(r *bits.Reader) error {
	switch r.UE() {
	case 0:
		s.chroma = picture.C400
	case 1:
		s.chroma = picture.C420
	case 2:
		s.chroma = picture.C422
	default:
		return unsupported("4:4:4 chroma")
	}
	luma, chroma := r.UE(), r.UE()
	if luma > 6 || chroma > 6 {
		return damaged("a bit depth is too large")
	}
	if max(luma, chroma) > 2 {
		return unsupported("more than 10 bits a sample")
	}
	s.depth, s.chromaDepth = 8+int(luma), 8+int(chroma)
	if s.chroma == picture.C400 {
		s.chromaDepth = s.depth
	}
	if r.Flag() {
		return unsupported("lossless coding")
	}
	if r.Flag() {
		s.scaling = parseScaling(r, 2, &defaultScaling)
	}
	return nil
}

// parseOrder reads the syntax of frame numbers and picture order count.
func (s *sps) parseOrder(r *bits.Reader) error {
	frameNum, poc := r.UE(), r.UE()
	if frameNum > 12 || poc > 2 {
		return damaged("a sequence parameter set has a field out of range")
	}
	s.frameNumBits, s.pocType = int(frameNum)+4, int(poc)
	switch s.pocType {
	case 0:
		n := r.UE()
		if n > 12 {
			return damaged("a sequence parameter set has a field out of range")
		}
		s.pocLSBBits = int(n) + 4
	case 1:
		s.deltaPicOrderAlwaysZero = r.Flag()
		s.offsetForNonRef = r.SE()
		s.offsetForTopToBottom = r.SE()
		n := r.UE()
		if n > 255 {
			return damaged("a sequence parameter set has a field out of range")
		}
		for range n {
			s.offsetForRefFrame = append(s.offsetForRefFrame, r.SE())
		}
	}
	n := r.UE()
	if n > maxDPBFrames {
		return damaged("a sequence parameter set asks for too many reference frames")
	}
	s.maxRefFrames = int(n)
	s.gapsAllowed = r.Flag()
	return nil
}

func (s *sps) parseSize(r *bits.Reader) error {
	w, h := r.UE(), r.UE()
	s.frameMbsOnly = r.Flag()
	if w >= maxMbsASide || h >= maxMbsASide {
		return unsupported("a picture this large")
	}
	s.mbWidth, s.mbHeight = int(w)+1, int(h)+1
	if !s.frameMbsOnly {
		s.mbHeight *= 2
		s.mbaff = r.Flag()
	}
	if s.mbWidth*s.mbHeight > maxMbs || s.mbHeight > maxMbsASide {
		return unsupported("a picture this large")
	}
	s.direct8x8 = r.Flag()
	if !s.frameMbsOnly && !s.direct8x8 {
		return damaged("interlaced video without direct_8x8_inference")
	}
	s.width, s.height = s.mbWidth*16, s.mbHeight*16
	if !r.Flag() {
		return nil
	}
	unitX, unitY := 2, 1 // 7.4.2.1.1
	switch s.chroma {
	case picture.C400:
		unitX = 1
	case picture.C420:
		unitY = 2
	}
	if !s.frameMbsOnly {
		unitY *= 2
	}
	left, right, top, bottom := int64(r.UE()), int64(r.UE()), int64(r.UE()), int64(r.UE())
	if (left+right)*int64(unitX) >= int64(s.width) || (top+bottom)*int64(unitY) >= int64(s.height) {
		return damaged("the cropping leaves nothing of the picture")
	}
	s.cropLeft, s.cropTop = int(left)*unitX, int(top)*unitY
	s.width -= int(left+right) * unitX
	s.height -= int(top+bottom) * unitY
	return nil
}

// parse reads VUI parameters (E.1.1). They affect only the output delay and what is reported
// about the stream, so errors in them are no reason to refuse it.
func (v *vui) parse(r *bits.Reader) {
	v.Read(r)
	if r.Flag() { // timing_info
		v.unitsInTick, v.timeScale = r.U(32), r.U(32)
		r.Skip(1) // fixed_frame_rate_flag
	}
	nal, vcl := skipHRD(r), skipHRD(r)
	if nal || vcl {
		r.Skip(1) // low_delay_hrd_flag
	}
	r.Skip(1)                      // pic_struct_present_flag
	if !r.Flag() || r.Left() < 7 { // bitstream_restriction, truncated by some encoders
		return
	}
	r.Skip(1)
	for range 4 {
		r.UE()
	}
	v.reorder, v.buffering = int(min(r.UE(), 255)), int(min(r.UE(), 255))
	v.restricted = !r.Overrun()
}

// skipHRD skips HRD parameters (E.1.2) and reports whether there were any.
func skipHRD(r *bits.Reader) bool {
	if !r.Flag() {
		return false
	}
	n := min(r.UE(), 31) + 1
	r.Skip(8)
	for range n {
		r.UE()
		r.UE()
		r.Skip(1)
	}
	r.Skip(20)
	return true
}

// setDelay derives the number of frames that may wait for output (A.3.1, E.2.1).
func (s *sps) setDelay() {
	level := s.level
	if level == 11 && s.constraints&0x10 != 0 && !statesChroma(s.profile) {
		level = 9
	}
	mbs := levelLimits[len(levelLimits)-1].dpb // for an unknown level
	if i := slices.IndexFunc(levelLimits, func(l levelLimit) bool { return l.idc == level }); i >= 0 {
		mbs = levelLimits[i].dpb
	}
	s.dpbFrames = min(mbs/(s.mbWidth*s.mbHeight), maxDPBFrames)
	intra := s.constraints&0x10 != 0 && (s.profile == 44 || s.profile == 86 || s.profile == 100 ||
		s.profile == 110 || s.profile == 122 || s.profile == 244)
	if s.vui.restricted {
		s.dpbFrames = max(min(s.vui.buffering, maxDPBFrames), 1)
	} else if intra {
		s.dpbFrames = 0
	}
	s.dpbFrames = max(s.dpbFrames, s.maxRefFrames)
	s.reorder = s.dpbFrames
	if s.vui.restricted {
		s.reorder = min(s.vui.reorder, s.dpbFrames)
	}
	if s.pocType == 2 || intra {
		s.reorder = 0
	}
	s.dpbFrames = max(s.dpbFrames, 1)
}

// pps is a picture parameter set (7.3.2.2).
type pps struct {
	id, spsID         int
	cabac             bool
	fieldOrderInfo    bool // bottom_field_pic_order_in_frame_present_flag
	refs              [2]int
	weighted          bool
	bipred            int
	qp                int // pic_init_qp_minus26
	chromaQPOffset    [2]int
	deblockingControl bool
	constrainedIntra  bool
	redundant         bool
	transform8x8      bool
	scaling           *scalingLists
	scale             *levelScale
	scaleOf           *sps // the parameter set for which scale was made
}

func parsePPS(rbsp []byte, sets *nal.ParameterSets[sps]) (*pps, error) {
	r := bits.NewReader(rbsp)
	p := &pps{}
	id, spsID := r.UE(), r.UE()
	if id >= maxPPS || spsID >= maxSPS {
		return nil, damaged("a picture parameter set's number is too large")
	}
	p.id, p.spsID = int(id), int(spsID)
	p.cabac = r.Flag()
	p.fieldOrderInfo = r.Flag()
	if r.UE() != 0 {
		return nil, unsupported("flexible macroblock ordering")
	}
	for i := range p.refs {
		n := r.UE()
		if n > 31 {
			return nil, damaged("a picture parameter set has too many references")
		}
		p.refs[i] = int(n) + 1
	}
	p.weighted = r.Flag()
	p.bipred = int(r.U(2))
	p.qp = int(r.SE())
	r.SE() // pic_init_qs_minus26
	offset := r.SE()
	p.chromaQPOffset = [2]int{int(offset), int(offset)}
	p.deblockingControl = r.Flag()
	p.constrainedIntra = r.Flag()
	p.redundant = r.Flag()
	if r.MoreRBSP() {
		p.transform8x8 = r.Flag()
		if r.Flag() {
			fallback := &defaultScaling
			if s := sets.Get(p.spsID); s != nil && s.scaling != nil {
				fallback = s.scaling
			}
			large := 0
			if p.transform8x8 {
				large = 2
			}
			p.scaling = parseScaling(&r, large, fallback)
		}
		p.chromaQPOffset[1] = int(r.SE())
	}
	if r.Overrun() {
		return nil, damaged("a picture parameter set is truncated")
	}
	if p.qp < -26-12 || p.qp > 25 || p.bipred > 2 || max(p.chromaQPOffset[0], p.chromaQPOffset[1]) > 12 ||
		min(p.chromaQPOffset[0], p.chromaQPOffset[1]) < -12 {
		return nil, damaged("a picture parameter set has a field out of range")
	}
	return p, nil
}

// parseScaling reads scaling lists (7.3.2.1.1.1). A list that is absent falls back to the one
// before it, and the first of its kind to the fallback list (table 7-2).
func parseScaling(r *bits.Reader, large int, fallback *scalingLists) *scalingLists {
	l := *fallback
	for i := range l.small {
		if !r.Flag() {
			if i%3 != 0 {
				l.small[i] = l.small[i-1]
			}
		} else if !parseScalingList(r, l.small[i][:]) {
			l.small[i] = defaultScaling.small[i]
		}
	}
	for i := range large {
		if r.Flag() && !parseScalingList(r, l.large[i][:]) {
			l.large[i] = defaultScaling.large[i]
		}
	}
	return &l
}

// parseScalingList reads one list; false means that the default list applies.
func parseScalingList(r *bits.Reader, list []uint8) bool {
	last, next := 8, 8
	for j := range list {
		if next != 0 {
			next = (last + int(r.SE()) + 256) & 255
			if j == 0 && next == 0 {
				return false
			}
		}
		if next != 0 {
			last = next
		}
		list[j] = uint8(last)
	}
	return true
}

// Default scaling lists (tables 7-3 and 7-4).
var defaultScaling = scalingLists{
	small: [6][16]uint8{default4x4Intra, default4x4Intra, default4x4Intra, default4x4Inter, default4x4Inter, default4x4Inter},
	large: [2][64]uint8{default8x8Intra, default8x8Inter},
}

var (
	default4x4Intra = [16]uint8{6, 13, 13, 20, 20, 20, 28, 28, 28, 28, 32, 32, 32, 37, 37, 42}
	default4x4Inter = [16]uint8{10, 14, 14, 20, 20, 20, 24, 24, 24, 24, 27, 27, 27, 30, 30, 34}
	default8x8Intra = [64]uint8{
		6, 10, 10, 13, 11, 13, 16, 16, 16, 16, 18, 18, 18, 18, 18, 23,
		23, 23, 23, 23, 23, 25, 25, 25, 25, 25, 25, 25, 27, 27, 27, 27,
		27, 27, 27, 27, 29, 29, 29, 29, 29, 29, 29, 31, 31, 31, 31, 31,
		31, 33, 33, 33, 33, 33, 36, 36, 36, 36, 38, 38, 38, 40, 40, 42}
	default8x8Inter = [64]uint8{
		9, 13, 13, 15, 13, 15, 17, 17, 17, 17, 19, 19, 19, 19, 19, 21,
		21, 21, 21, 21, 21, 22, 22, 22, 22, 22, 22, 22, 24, 24, 24, 24,
		24, 24, 24, 24, 25, 25, 25, 25, 25, 25, 25, 27, 27, 27, 27, 27,
		27, 28, 28, 28, 28, 28, 30, 30, 30, 30, 32, 32, 32, 33, 33, 35}
)

// wide reports whether samples take two bytes: if one plane needs it, all have it.
func (s *sps) wide() bool { return max(s.depth, s.chromaDepth) > 8 }
