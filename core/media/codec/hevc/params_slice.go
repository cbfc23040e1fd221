package hevc

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/nal"
)

// slice_type (table 7-7).
const (
	sliceB = 0
	sliceP = 1
	sliceI = 2
)

// sliceHeader is slice_segment_header (7.3.6.1). A dependent segment has the fields of the segment
// before it.
type sliceHeader struct {
	sps *sps
	pps *pps

	nalType, temporal  int
	dependent          bool
	address            int // of its first coding tree block, in raster order
	start              int // address of the first segment of the slice
	kind               int
	output             bool
	pocLSB             int
	short              *shortRPS
	own                shortRPS // where the header has a set of its own
	longs              []longRef
	temporalMVP        bool
	saoLuma, saoC      bool
	refs               [2]int // number of references
	modified           [2]bool
	entries            [2][maxDPB]uint8
	mvdL1Zero          bool
	cabacInit          bool
	collocatedL1       bool
	collocated         int
	weights            predWeights
	maxMerge           int
	qp                 int
	cbOffset, crOffset int
	chromaQPList       bool
	deblockOff         bool
	beta, tc           int
	across             bool  // slice_loop_filter_across_slices_enabled
	substreams         []int // entry_point_offset: the sizes of all substreams but the last
}

// longRef is a long-term reference of a slice.
type longRef struct {
	poc  int
	msb  bool // poc is whole, not only its low bits
	used bool
}

// predWeights is pred_weight_table (7.3.6.3).
type predWeights struct {
	shift [2]int // log2 of the denominator of luma and chroma
	// weight and offset are of lists, references and planes. Offsets are for 8 bits unless precise.
	weight, offset [2][maxDPB][3]int16
}

func (h *sliceHeader) irap() bool { return h.nalType >= nalBLAWLP && h.nalType <= nalIRAPLast }
func (h *sliceHeader) idr() bool  { return h.nalType == nalIDRWRADL || h.nalType == nalIDRNLP }
func (h *sliceHeader) rasl() bool { return h.nalType == nalRASLN || h.nalType == nalRASLR }
func (h *sliceHeader) radl() bool { return h.nalType == nalRADLN || h.nalType == nalRADLR }

// reference reports whether pictures of the same sub-layer may refer to it: the even types below
// 16 are of those that they may not.
func (h *sliceHeader) reference() bool { return h.nalType >= 16 || h.nalType&1 != 0 }

// bitsFor returns Ceil(Log2(n)).
func bitsFor(n int) int { return mathbits.Len(uint(max(n, 1) - 1)) }

// parse reads the header of a slice segment. before is the header of the previous segment of the
// picture, nil at its start.
func (h *sliceHeader) parse(r *bits.Reader, unit []byte, spss *nal.ParameterSets[sps], ppss *nal.ParameterSets[pps], before *sliceHeader) error {
	nalType, temporal := kindOf(unit), int(unit[1]&7)-1
	first := r.Flag()
	irap := nalType >= nalBLAWLP && nalType <= nalIRAPLast
	if irap {
		r.Skip(1) // no_output_of_prior_pics_flag
	}
	id := r.UE()
	if id >= maxPPS {
		return damaged("a slice refers to a parameter set that cannot be")
	}
	p := ppss.Get(int(id))
	if p == nil {
		return damaged("a slice refers to a parameter set that is missing")
	}
	s := spss.Get(p.spsID)
	if s == nil {
		return damaged("a slice refers to a parameter set that is missing")
	}
	dependent, address := false, 0
	if !first {
		if p.dependentSlices {
			dependent = r.Flag()
		}
		if address = int(r.U(bitsFor(s.ctbWidth * s.ctbHeight))); address >= s.ctbWidth*s.ctbHeight || address == 0 {
			return damaged("a slice begins outside the picture")
		}
	}
	if dependent {
		if before == nil || before.pps != p || before.sps != s || before.nalType != nalType {
			return damaged("a dependent slice segment lacks the one before it")
		}
		substreams := h.substreams[:0]
		*h = *before
		h.substreams = substreams
		if before.short == &before.own {
			h.short = &h.own
		}
		h.dependent, h.address = true, address
	} else {
		*h = sliceHeader{longs: h.longs[:0], substreams: h.substreams[:0]}
		h.sps, h.pps, h.nalType, h.temporal, h.address, h.start = s, p, nalType, temporal, address, address
		if err := h.parseIndependent(r); err != nil {
			return err
		}
	}
	return h.parseEnd(r)
}

func (h *sliceHeader) parseIndependent(r *bits.Reader) error {
	s, p := h.sps, h.pps
	r.Skip(p.extraBits)
	kind := r.UE()
	if kind > 2 || h.irap() && kind != sliceI {
		return damaged("there is no such slice type here")
	}
	h.kind, h.output = int(kind), true
	if p.outputFlag {
		h.output = r.Flag()
	}
	h.short = &h.own
	if !h.idr() {
		if err := h.parseReferenceSet(r); err != nil {
			return err
		}
	}
	if s.sao {
		h.saoLuma = r.Flag()
		if s.hasChroma() {
			h.saoC = r.Flag()
		}
	}
	if h.kind != sliceI {
		if err := h.parseInter(r); err != nil {
			return err
		}
	}
	return h.parseFilters(r)
}

// parseReferenceSet reads the picture order count and the references of all following pictures.
func (h *sliceHeader) parseReferenceSet(r *bits.Reader) error {
	s := h.sps
	h.pocLSB = int(r.U(s.pocBits))
	if !r.Flag() {
		if err := h.own.parse(r, len(s.rps), s.rps, true); err != nil {
			return err
		}
	} else {
		i := int(r.U(bitsFor(len(s.rps))))
		if i >= len(s.rps) {
			return damaged("a slice refers to a reference picture set that is missing")
		}
		h.short = &s.rps[i]
	}
	if s.longTerm {
		fromSPS := 0
		if len(s.longPOC) > 0 {
			fromSPS = int(min(r.UE(), maxLongRPS))
		}
		n := fromSPS + int(min(r.UE(), maxLongRPS))
		if n > maxDPB {
			return damaged("there are too many long-term references")
		}
		cycle := 0
		for i := range n {
			var l longRef
			if i < fromSPS {
				k := int(r.U(bitsFor(len(s.longPOC))))
				if k >= len(s.longPOC) {
					return damaged("a slice refers to a long-term reference that is missing")
				}
				l.poc, l.used = s.longPOC[k], s.longUsed[k]
			} else {
				l.poc, l.used = int(r.U(s.pocBits)), r.Flag()
			}
			if i == 0 || i == fromSPS {
				cycle = 0
			}
			if l.msb = r.Flag(); l.msb {
				cycle += int(min(r.UE(), 1<<20))
				l.poc -= cycle<<s.pocBits + h.pocLSB // relative to the POC of the picture, added later
			}
			h.longs = append(h.longs, l)
		}
	}
	if s.temporalMVP {
		h.temporalMVP = r.Flag()
	}
	return nil
}

// current returns the number of pictures that the picture itself may refer to (7-55).
func (h *sliceHeader) current() (n int) {
	for i := range h.short.n() {
		if h.short.used[i] {
			n++
		}
	}
	for _, l := range h.longs {
		if l.used {
			n++
		}
	}
	return n
}

func (h *sliceHeader) parseInter(r *bits.Reader) error {
	p := h.pps
	h.refs = p.refs
	lists := 1
	if h.kind == sliceB {
		lists = 2
	}
	if r.Flag() {
		for i := range lists {
			n := r.UE()
			if n >= maxDPB {
				return damaged("there are too many references")
			}
			h.refs[i] = int(n) + 1
		}
	}
	if lists == 1 {
		h.refs[1] = 0
	}
	total := h.current()
	if p.listModification && total > 1 {
		for i := range lists {
			if h.modified[i] = r.Flag(); !h.modified[i] {
				continue
			}
			for k := range h.refs[i] {
				e := r.U(bitsFor(total))
				if int(e) >= total {
					return damaged("a list refers to a reference that is missing")
				}
				h.entries[i][k] = uint8(e)
			}
		}
	}
	if h.kind == sliceB {
		h.mvdL1Zero = r.Flag()
	}
	if p.cabacInit {
		h.cabacInit = r.Flag()
	}
	if h.temporalMVP {
		if h.kind == sliceB {
			h.collocatedL1 = !r.Flag()
		}
		list := 0
		if h.collocatedL1 {
			list = 1
		}
		if h.refs[list] > 1 {
			c := r.UE()
			if int(c) >= h.refs[list] {
				return damaged("the collocated picture is missing")
			}
			h.collocated = int(c)
		}
	}
	if p.weighted && h.kind == sliceP || p.weightedBi && h.kind == sliceB {
		if err := h.parseWeights(r, lists); err != nil {
			return err
		}
	}
	merge := r.UE()
	if merge > 4 {
		return damaged("there are too many merge candidates")
	}
	h.maxMerge = 5 - int(merge)
	return nil
}

// parseWeights reads pred_weight_table.
func (h *sliceHeader) parseWeights(r *bits.Reader, lists int) error {
	w, s := &h.weights, h.sps
	luma := r.UE()
	if luma > 7 {
		return damaged("a weight's denominator is too large")
	}
	w.shift[0] = int(luma)
	if s.hasChroma() {
		c := int(luma) + int(r.SE())
		if c < 0 || c > 7 {
			return damaged("a weight's denominator is too large")
		}
		w.shift[1] = c
	}
	half := 1 << 7
	if s.ext.preciseOffsets {
		half = 1 << (s.chromaDepth - 1)
	}
	for l := range lists {
		var hasLuma, hasChroma [maxDPB]bool
		for i := range h.refs[l] {
			hasLuma[i] = r.Flag()
		}
		if s.hasChroma() {
			for i := range h.refs[l] {
				hasChroma[i] = r.Flag()
			}
		}
		for i := range h.refs[l] {
			weight, offset := &w.weight[l][i], &w.offset[l][i]
			*weight, *offset = [3]int16{1 << w.shift[0], 1 << w.shift[1], 1 << w.shift[1]}, [3]int16{}
			if hasLuma[i] {
				d := r.SE()
				weight[0] += int16(max(-128, min(d, 127)))
				offset[0] = int16(max(-(1 << 11), min(r.SE(), 1<<11)))
			}
			if hasChroma[i] {
				for c := 1; c < 3; c++ {
					weight[c] += int16(max(-128, min(r.SE(), 127)))
					d := int(max(-(1 << 14), min(r.SE(), 1<<14)))
					offset[c] = int16(max(-half, min(half-1, half+d-half*int(weight[c])>>w.shift[1])))
				}
			}
		}
	}
	return nil
}

func (h *sliceHeader) parseFilters(r *bits.Reader) error {
	p := h.pps
	h.qp = p.initQP + int(max(-100, min(r.SE(), 100)))
	if h.qp > 51 || h.qp < -6*(h.sps.depth-8) {
		return damaged("a quantiser is too large")
	}
	if p.sliceChromaOffsets {
		h.cbOffset, h.crOffset = int(max(-12, min(r.SE(), 12))), int(max(-12, min(r.SE(), 12)))
	}
	if p.chromaQPList {
		h.chromaQPList = r.Flag()
	}
	h.deblockOff, h.beta, h.tc = p.deblockOff, p.beta, p.tc
	if p.deblockOverride && r.Flag() {
		if h.deblockOff = r.Flag(); !h.deblockOff {
			beta, tc := r.SE(), r.SE()
			if beta < -6 || beta > 6 || tc < -6 || tc > 6 {
				return damaged("a deblocking offset is too large")
			}
			h.beta, h.tc = int(beta)*2, int(tc)*2
		}
	}
	h.across = p.acrossSlices
	if p.acrossSlices && (h.saoLuma || h.saoC || !h.deblockOff) {
		h.across = r.Flag()
	}
	return nil
}

// parseEnd reads the entry points and skips what follows them.
func (h *sliceHeader) parseEnd(r *bits.Reader) error {
	if h.pps.tiles || h.pps.sync {
		n := int(r.UE())
		if n > h.sps.ctbHeight*h.pps.columns || n < 0 {
			return damaged("there are too many entry points")
		}
		if n > 0 {
			size := int(min(r.UE(), 31)) + 1
			for range n {
				h.substreams = append(h.substreams, int(min(uint64(r.U(size))+1, 1<<30)))
			}
		}
	}
	if h.pps.headerExtension {
		r.Skip(8 * int(min(r.UE(), 256)))
	}
	r.U(1) // the bit before the alignment
	r.Align()
	if r.Overrun() {
		return damaged("a slice header is truncated")
	}
	return nil
}
