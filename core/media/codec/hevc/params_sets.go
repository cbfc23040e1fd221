package hevc

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// Limits on what a hostile stream can allocate. The size is that of level 6.2 (table A.8).
const (
	maxSamples   = 35651584
	maxSide      = 16888
	maxSPS       = 16
	maxPPS       = 64
	maxDPB       = 16
	maxSubLayers = 7
	maxShortRPS  = 64
	maxLongRPS   = 32
)

// sps is a sequence parameter set (7.3.2.2.1).
type sps struct {
	id                     int
	profile, level         int
	highTier               bool
	chroma                 picture.Chroma
	width, height          int // luma samples
	cropLeft, cropTop      int
	cropRight, cropBottom  int
	depth, chromaDepth     int
	pocBits                int
	maxDec, reorder        int // pictures of the highest sub-layer
	minCb, ctb             int // log2 of the sizes
	minTb, maxTb           int
	depthInter, depthIntra int // max_transform_hierarchy_depth
	scaling                *scalingLists
	amp, sao               bool
	pcm, pcmUnfiltered     bool
	pcmDepth, pcmChroma    int
	minPcm, maxPcm         int
	rps                    []shortRPS
	longTerm               bool
	longPOC                []int
	longUsed               []bool
	temporalMVP, strong    bool
	vui                    vui
	ext                    rangeExtension

	ctbWidth, ctbHeight int // coding tree blocks
}

// rangeExtension holds the flags of sps_range_extension (7.3.2.2.2) that are carried out.
type rangeExtension struct {
	rotate, skipContext        bool // transform_skip_rotation_enabled, transform_skip_context_enabled
	implicitRDPCM              bool
	explicitRDPCM              bool
	noIntraSmoothing           bool
	preciseOffsets, persistent bool // high_precision_offsets, persistent_rice_adaptation
}

// vui holds the fields of the video usability information (annex E) that are used.
type vui struct {
	nal.Signal
	unitsInTick, timeScale uint32
	fieldSeq               bool
}

// shortRPS is a short-term reference picture set (7.4.8): the pictures before the current one by
// falling POC, then those after it by rising POC.
type shortRPS struct {
	negative, positive int
	delta              [maxDPB]int32
	used               [maxDPB]bool
}

func (s *shortRPS) n() int { return s.negative + s.positive }

func parseSPS(rbsp []byte) (*sps, error) {
	r := bits.NewReader(rbsp)
	s := &sps{}
	r.U(4) // sps_video_parameter_set_id
	subLayers := int(r.U(3))
	r.U(1)
	if subLayers >= maxSubLayers {
		return nil, damaged("a sequence parameter set has too many sub-layers")
	}
	s.profileTierLevel(&r, subLayers)
	id := r.UE()
	if id >= maxSPS {
		return nil, damaged("a sequence parameter set's number is too large")
	}
	s.id = int(id)
	if err := s.parseFormat(&r); err != nil {
		return nil, err
	}
	if err := s.parseBuffer(&r, subLayers); err != nil {
		return nil, err
	}
	if err := s.parseBlocks(&r); err != nil {
		return nil, err
	}
	if err := s.parseReferences(&r); err != nil {
		return nil, err
	}
	s.temporalMVP, s.strong = r.Flag(), r.Flag()
	if r.Flag() {
		s.vui.parse(&r, subLayers)
	}
	if r.Flag() { // sps_extension_present_flag
		if err := s.parseExtensions(&r); err != nil {
			return nil, err
		}
	}
	if r.Overrun() {
		return nil, damaged("a sequence parameter set is truncated")
	}
	return s, nil
}

// profileTierLevel reads profile_tier_level (7.3.3).
func (s *sps) profileTierLevel(r *bits.Reader, subLayers int) {
	r.Skip(2) // profile space
	s.highTier = r.Flag()
	s.profile = int(r.U(5))
	compatible := r.U(32)
	if s.profile == 0 {
		for i := 1; i < 5; i++ { // an encoder that states only the flags
			if compatible>>(31-i)&1 != 0 {
				s.profile = i
				break
			}
		}
	}
	r.U(32)
	r.U(16)
	s.level = int(r.U(8))
	var profiles, levels [8]bool
	for i := range subLayers {
		profiles[i], levels[i] = r.Flag(), r.Flag()
	}
	if subLayers > 0 {
		r.Skip(2 * (8 - subLayers))
	}
	for i := range subLayers {
		if profiles[i] {
			r.Skip(88)
		}
		if levels[i] {
			r.Skip(8)
		}
	}
}

func (s *sps) parseFormat(r *bits.Reader) error {
	switch r.UE() {
	case 0:
		s.chroma = picture.C400
	case 1:
		s.chroma = picture.C420
	case 2:
		s.chroma = picture.C422
	case 3:
		return unsupported("4:4:4 chroma")
	default:
		return damaged("there is no such chroma format")
	}
	w, h := r.UE(), r.UE()
	if w == 0 || h == 0 || w > maxSide || h > maxSide || w*h > maxSamples {
		return damaged("a picture is too large, or empty")
	}
	s.width, s.height = int(w), int(h)
	if r.Flag() { // conformance_window_flag
		cw, ch := s.chroma.PlaneSize(1, 2, 2)
		unitX, unitY := 1, 1
		if cw > 0 {
			unitX, unitY = 2/cw, 2/ch
		}
		var crop [4]uint32
		for i := range crop {
			crop[i] = min(r.UE(), maxSide)
		}
		s.cropLeft, s.cropRight = int(crop[0])*unitX, int(crop[1])*unitX
		s.cropTop, s.cropBottom = int(crop[2])*unitY, int(crop[3])*unitY
		if s.cropLeft+s.cropRight >= s.width || s.cropTop+s.cropBottom >= s.height {
			return damaged("nothing of a picture is visible")
		}
	}
	luma, chroma := r.UE(), r.UE()
	if luma > 8 || chroma > 8 {
		return damaged("a bit depth is too large")
	}
	if luma > 4 || chroma > 4 {
		return unsupported("more than 12 bits a sample")
	}
	s.depth, s.chromaDepth = 8+int(luma), 8+int(chroma)
	if s.chroma == picture.C400 {
		s.chromaDepth = s.depth
	}
	return nil
}

// parseBuffer reads how many pictures are kept and reordered; the numbers of the highest sub-layer
// count.
func (s *sps) parseBuffer(r *bits.Reader, subLayers int) error {
	poc := r.UE()
	if poc > 12 {
		return damaged("picture order counts have too many bits")
	}
	s.pocBits = int(poc) + 4
	from := subLayers
	if r.Flag() {
		from = 0
	}
	for range subLayers - from + 1 {
		dec, reorder, latency := r.UE(), r.UE(), r.UE()
		if dec >= maxDPB || reorder > dec || latency > 1<<16 {
			return damaged("a picture buffer is too large")
		}
		s.maxDec, s.reorder = int(dec)+1, int(reorder)
	}
	return nil
}

// parseBlocks reads the sizes of blocks and the coding tools.
func (s *sps) parseBlocks(r *bits.Reader) error {
	minCb, diffCb, minTb, diffTb := r.UE(), r.UE(), r.UE(), r.UE()
	depthInter, depthIntra := r.UE(), r.UE()
	if minCb > 3 || diffCb > 3 || minTb > 3 || diffTb > 3 || depthInter > 4 || depthIntra > 4 {
		return damaged("a size of blocks is too large")
	}
	s.minCb = int(minCb) + 3
	s.ctb = s.minCb + int(diffCb)
	s.minTb = int(minTb) + 2
	s.maxTb = s.minTb + int(diffTb)
	if s.ctb > 6 || s.ctb < 4 || s.minTb >= s.minCb || s.maxTb > min(s.ctb, 5) {
		return damaged("the sizes of blocks do not fit each other")
	}
	if s.width&(1<<s.minCb-1) != 0 || s.height&(1<<s.minCb-1) != 0 {
		return damaged("a picture is not of whole coding blocks")
	}
	s.depthInter, s.depthIntra = int(depthInter), int(depthIntra)
	s.ctbWidth, s.ctbHeight = (s.width+1<<s.ctb-1)>>s.ctb, (s.height+1<<s.ctb-1)>>s.ctb
	if r.Flag() {
		s.scaling = defaultScaling()
		if r.Flag() {
			if err := s.scaling.parse(r); err != nil {
				return err
			}
		}
	}
	s.amp, s.sao = r.Flag(), r.Flag()
	if s.pcm = r.Flag(); s.pcm {
		s.pcmDepth, s.pcmChroma = int(r.U(4))+1, int(r.U(4))+1
		low, diff := r.UE(), r.UE()
		if low > 2 || diff > 2 || s.pcmDepth > s.depth || s.pcmChroma > s.chromaDepth {
			return damaged("PCM blocks are too large")
		}
		s.minPcm = int(low) + 3
		s.maxPcm = s.minPcm + int(diff)
		if s.maxPcm > min(s.ctb, 5) || s.minPcm < s.minCb {
			return damaged("PCM blocks do not fit the coding blocks")
		}
		s.pcmUnfiltered = r.Flag()
	}
	return nil
}

// parseReferences reads the reference picture sets.
func (s *sps) parseReferences(r *bits.Reader) error {
	n := r.UE()
	if n > maxShortRPS {
		return damaged("there are too many reference picture sets")
	}
	s.rps = make([]shortRPS, n)
	for i := range s.rps {
		if err := s.rps[i].parse(r, i, s.rps[:i], false); err != nil {
			return err
		}
	}
	if s.longTerm = r.Flag(); s.longTerm {
		n := r.UE()
		if n > maxLongRPS {
			return damaged("there are too many long-term references")
		}
		for range n {
			s.longPOC, s.longUsed = append(s.longPOC, int(r.U(s.pocBits))), append(s.longUsed, r.Flag())
		}
	}
	return nil
}

// parse reads st_ref_pic_set (7.3.7). Set idx may be predicted from an earlier one; that of a slice
// header states which.
func (p *shortRPS) parse(r *bits.Reader, idx int, earlier []shortRPS, inSlice bool) error {
	if idx > 0 && r.Flag() {
		back := 1
		if inSlice {
			d := r.UE()
			if int(d) >= idx {
				return damaged("a reference picture set refers to one that does not exist")
			}
			back = int(d) + 1
		}
		return p.predict(r, &earlier[idx-back])
	}
	negative, positive := r.UE(), r.UE()
	if negative > maxDPB || positive > maxDPB || negative+positive > maxDPB {
		return damaged("a reference picture set is too large")
	}
	p.negative, p.positive = int(negative), int(positive)
	at := int32(0)
	for i := range p.n() {
		if i == p.negative {
			at = 0
		}
		d := r.UE()
		if d > 1<<15 {
			return damaged("a reference is too far away")
		}
		if i < p.negative {
			at -= int32(d) + 1
		} else {
			at += int32(d) + 1
		}
		p.delta[i], p.used[i] = at, r.Flag()
	}
	return nil
}

// predict derives a set from another one, all of whose pictures are shifted (7-61, 7-62).
func (p *shortRPS) predict(r *bits.Reader, ref *shortRPS) error {
	negative, d := r.Flag(), r.UE()
	if d > 1<<15 {
		return damaged("a reference is too far away")
	}
	shift := int32(d) + 1
	if negative {
		shift = -shift
	}
	n := ref.n()
	var used, keep [maxDPB + 1]bool
	for j := range n + 1 {
		keep[j] = true
		if used[j] = r.Flag(); !used[j] {
			keep[j] = r.Flag()
		}
	}
	count, failed := 0, false
	add := func(delta int32, j int) {
		if count == maxDPB {
			failed = true
			return
		}
		p.delta[count], p.used[count] = delta, used[j]
		count++
	}
	for j := n - 1; j >= ref.negative; j-- {
		if d := ref.delta[j] + shift; d < 0 && keep[j] {
			add(d, j)
		}
	}
	if shift < 0 && keep[n] {
		add(shift, n)
	}
	for j := range ref.negative {
		if d := ref.delta[j] + shift; d < 0 && keep[j] {
			add(d, j)
		}
	}
	p.negative = count
	for j := ref.negative - 1; j >= 0; j-- {
		if d := ref.delta[j] + shift; d > 0 && keep[j] {
			add(d, j)
		}
	}
	if shift > 0 && keep[n] {
		add(shift, n)
	}
	for j := ref.negative; j < n; j++ {
		if d := ref.delta[j] + shift; d > 0 && keep[j] {
			add(d, j)
		}
	}
	p.positive = count - p.negative
	if failed {
		return damaged("a reference picture set is too large")
	}
	return nil
}

// parse reads vui_parameters (E.2.1).
func (v *vui) parse(r *bits.Reader, subLayers int) {
	v.Read(r)
	r.Skip(1) // neutral_chroma_indication_flag
	v.fieldSeq = r.Flag()
	r.Skip(1)     // frame_field_info_present_flag
	if r.Flag() { // default_display_window
		for range 4 {
			r.UE()
		}
	}
	if r.Flag() { // vui_timing_info
		v.unitsInTick, v.timeScale = r.U(32), r.U(32)
		if r.Flag() {
			r.UE()
		}
		if r.Flag() {
			skipHRD(r, subLayers)
		}
	}
	if r.Flag() { // bitstream_restriction
		r.Skip(3)
		for range 5 {
			r.UE()
		}
	}
}

// skipHRD skips hrd_parameters with common information (E.2.2).
func skipHRD(r *bits.Reader, subLayers int) {
	nal, vcl := r.Flag(), r.Flag()
	subPic := false
	if nal || vcl {
		if subPic = r.Flag(); subPic {
			r.Skip(8 + 5 + 1 + 5)
		}
		r.Skip(4 + 4)
		if subPic {
			r.Skip(4)
		}
		r.Skip(5 + 5 + 5)
	}
	for range subLayers + 1 {
		fixed := r.Flag()
		within, low := fixed, false
		if !fixed {
			within = r.Flag()
		}
		if within {
			r.UE()
		} else {
			low = r.Flag()
		}
		count := uint32(1)
		if !low {
			count = min(r.UE(), 31) + 1
		}
		for _, there := range []bool{nal, vcl} {
			for range count {
				if !there {
					continue
				}
				r.UE()
				r.UE()
				if subPic {
					r.UE()
					r.UE()
				}
				r.U(1)
			}
		}
	}
}

func (s *sps) parseExtensions(r *bits.Reader) error {
	ranges := r.Flag()
	if r.U(7)>>4 != 0 { // multilayer, 3D, screen content
		return unsupported("an extension of the standard")
	}
	if !ranges {
		return nil
	}
	e := &s.ext
	e.rotate, e.skipContext, e.implicitRDPCM, e.explicitRDPCM = r.Flag(), r.Flag(), r.Flag(), r.Flag()
	if r.Flag() {
		return unsupported("extended precision")
	}
	e.noIntraSmoothing, e.preciseOffsets, e.persistent = r.Flag(), r.Flag(), r.Flag()
	if r.Flag() {
		return unsupported("aligned bypass decoding")
	}
	return nil
}

// pps is a picture parameter set (7.3.2.3.1).
type pps struct {
	id, spsID               int
	dependentSlices         bool
	outputFlag              bool
	extraBits               int
	signHiding, cabacInit   bool
	refs                    [2]int // default number of references
	initQP                  int
	constrainedIntra        bool
	transformSkip           bool
	cuQPDelta               bool
	cuQPDeltaDepth          int
	cbOffset, crOffset      int
	sliceChromaOffsets      bool
	weighted, weightedBi    bool
	bypass                  bool // transquant_bypass_enabled
	tiles, sync             bool
	columns, rows           int
	uniform                 bool
	columnWidths, rowHeight []int
	acrossTiles             bool
	acrossSlices            bool
	deblockOverride         bool
	deblockOff              bool
	beta, tc                int
	scaling                 *scalingLists
	listModification        bool
	mergeLevel              int // log2
	headerExtension         bool
	maxSkip                 int // log2 of the largest block whose transform may be skipped
	chromaQPList            bool
	chromaQPDepth           int
	chromaQPOffsets         [6][2]int
	chromaQPCount           int
	saoShift, saoShiftC     int
}

func parsePPS(rbsp []byte) (*pps, error) {
	r := bits.NewReader(rbsp)
	p := &pps{columns: 1, rows: 1, acrossTiles: true, maxSkip: 2}
	id, spsID := r.UE(), r.UE()
	if id >= maxPPS || spsID >= maxSPS {
		return nil, damaged("a picture parameter set's number is too large")
	}
	p.id, p.spsID = int(id), int(spsID)
	p.dependentSlices, p.outputFlag = r.Flag(), r.Flag()
	p.extraBits = int(r.U(3))
	p.signHiding, p.cabacInit = r.Flag(), r.Flag()
	for i := range p.refs {
		n := r.UE()
		if n >= maxDPB {
			return nil, damaged("there are too many references")
		}
		p.refs[i] = int(n) + 1
	}
	qp := r.SE()
	p.initQP = 26 + int(qp)
	p.constrainedIntra, p.transformSkip = r.Flag(), r.Flag()
	if p.cuQPDelta = r.Flag(); p.cuQPDelta {
		p.cuQPDeltaDepth = int(min(r.UE(), 6))
	}
	cb, cr := r.SE(), r.SE()
	if cb < -12 || cb > 12 || cr < -12 || cr > 12 || qp < -80 || qp > 80 {
		return nil, damaged("a quantiser offset is too large")
	}
	p.cbOffset, p.crOffset = int(cb), int(cr)
	p.sliceChromaOffsets, p.weighted, p.weightedBi, p.bypass = r.Flag(), r.Flag(), r.Flag(), r.Flag()
	p.tiles, p.sync = r.Flag(), r.Flag()
	if p.tiles {
		if err := p.parseTiles(&r); err != nil {
			return nil, err
		}
	}
	p.acrossSlices = r.Flag()
	if r.Flag() { // deblocking_filter_control_present_flag
		p.deblockOverride = r.Flag()
		if p.deblockOff = r.Flag(); !p.deblockOff {
			beta, tc := r.SE(), r.SE()
			if beta < -6 || beta > 6 || tc < -6 || tc > 6 {
				return nil, damaged("a deblocking offset is too large")
			}
			p.beta, p.tc = int(beta)*2, int(tc)*2
		}
	}
	if r.Flag() {
		p.scaling = defaultScaling()
		if err := p.scaling.parse(&r); err != nil {
			return nil, err
		}
	}
	p.listModification = r.Flag()
	merge := r.UE()
	if merge > 4 {
		return nil, damaged("a merge level is too large")
	}
	p.mergeLevel = int(merge) + 2
	p.headerExtension = r.Flag()
	if r.Flag() {
		if err := p.parseExtensions(&r); err != nil {
			return nil, err
		}
	}
	if r.Overrun() {
		return nil, damaged("a picture parameter set is truncated")
	}
	return p, nil
}

func (p *pps) parseTiles(r *bits.Reader) error {
	columns, rows := r.UE(), r.UE()
	if columns >= 20 || rows >= 22 { // table A.8
		return damaged("there are too many tiles")
	}
	p.columns, p.rows = int(columns)+1, int(rows)+1
	if p.uniform = r.Flag(); !p.uniform {
		for range columns {
			p.columnWidths = append(p.columnWidths, int(min(r.UE(), maxSide))+1)
		}
		for range rows {
			p.rowHeight = append(p.rowHeight, int(min(r.UE(), maxSide))+1)
		}
	}
	p.acrossTiles = r.Flag()
	return nil
}

func (p *pps) parseExtensions(r *bits.Reader) error {
	ranges := r.Flag()
	if r.U(7)>>4 != 0 {
		return unsupported("an extension of the standard")
	}
	if !ranges {
		return nil
	}
	if p.transformSkip {
		p.maxSkip = int(min(r.UE(), 3)) + 2
	}
	if r.Flag() {
		return unsupported("prediction across components")
	}
	if p.chromaQPList = r.Flag(); p.chromaQPList {
		p.chromaQPDepth = int(min(r.UE(), 6))
		n := r.UE()
		if n > 5 {
			return damaged("there are too many chroma offsets")
		}
		p.chromaQPCount = int(n) + 1
		for i := range p.chromaQPCount {
			cb, cr := r.SE(), r.SE()
			if cb < -12 || cb > 12 || cr < -12 || cr > 12 {
				return damaged("a quantiser offset is too large")
			}
			p.chromaQPOffsets[i] = [2]int{int(cb), int(cr)}
		}
	}
	p.saoShift, p.saoShiftC = int(min(r.UE(), 4)), int(min(r.UE(), 4))
	return nil
}

func (s *sps) hasChroma() bool { return s.chroma != picture.C400 }

// chromaShift returns by how many bits chroma coordinates are smaller than luma's.
func (s *sps) chromaShift() (x, y int) {
	switch s.chroma {
	case picture.C420:
		return 1, 1
	case picture.C422:
		return 1, 0
	}
	return 0, 0
}
