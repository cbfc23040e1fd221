package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
)

// sliceType is slice_type modulo 5 (table 7-6).
type sliceType uint8

const (
	sliceP sliceType = iota
	sliceB
	sliceI
	sliceSP
	sliceSI
)

// refOp is one reference picture list modification (7.4.3.1) or one memory
// management control operation (7.4.3.3).
type refOp struct {
	op   uint8
	a, b uint32
}

// weight is an explicit prediction weight and offset (7.4.3.2).
type weight struct{ w, o int16 }

// sliceHeader is a slice header (7.3.3).
type sliceHeader struct {
	nalType, refIDC   int
	sps               *sps
	pps               *pps
	firstMb           int
	kind              sliceType
	frameNum          int
	structure         framepool.Fields
	mbaff             bool
	idrID             uint32
	pocLSB            int
	deltaPOCBottom    int32
	deltaPOC          [2]int32
	spatialDirect     bool
	numRefs           [2]int
	modifications     [2][]refOp
	redundant         bool // a redundant coded picture
	weighted          bool // the header has explicit weights
	lumaDenom         uint8
	chromaDenom       uint8
	weights           [2][32][3]weight
	longTermIDR       bool
	adaptiveMarking   bool
	marking           []refOp
	cabacInit         int
	qp                int
	noDeblock         int  // disable_deblocking_filter_idc
	alphaOff, betaOff int8 // twice the values in the header
}

// idr reports whether the slice belongs to an IDR picture.
func (h *sliceHeader) idr() bool { return h.nalType == nalIDR }

// parse reads a slice header; r is left at the first bit of the slice data.
func (h *sliceHeader) parse(r *bits.Reader, header byte, spss *nal.ParameterSets[sps], ppss *nal.ParameterSets[pps]) error {
	*h = sliceHeader{nalType: int(header & 31), refIDC: int(header >> 5 & 3), modifications: h.modifications, marking: h.marking[:0]}
	h.firstMb = int(min(r.UE(), maxMbs))
	kind := r.UE()
	if kind > 9 {
		return damaged("a slice type is out of range")
	}
	h.kind = sliceType(kind % 5)
	if h.kind >= sliceSP {
		return unsupported("an SP or SI slice")
	}
	if h.pps = ppss.Get(int(min(r.UE(), maxPPS))); h.pps != nil {
		h.sps = spss.Get(h.pps.spsID)
	}
	if h.sps == nil {
		return damaged("a slice's parameter set is missing")
	}
	h.parsePicture(r)
	if h.kind == sliceB {
		h.spatialDirect = r.Flag()
	}
	if err := h.parseRefs(r); err != nil {
		return err
	}
	if h.refIDC != 0 {
		if err := h.parseMarking(r); err != nil {
			return err
		}
	}
	if err := h.parseQuality(r); err != nil {
		return err
	}
	if r.Overrun() {
		return damaged("a slice header is truncated")
	}
	return nil
}

// parsePicture reads the fields that are equal in all slices of a picture.
func (h *sliceHeader) parsePicture(r *bits.Reader) {
	s := h.sps
	h.frameNum = int(r.U(s.frameNumBits))
	h.structure = framepool.WholeFrame
	if !s.frameMbsOnly && r.Flag() {
		h.structure = framepool.TopField
		if r.Flag() {
			h.structure = framepool.BottomField
		}
	}
	h.mbaff = s.mbaff && h.structure == framepool.WholeFrame
	if h.mbaff {
		h.firstMb *= 2
	}
	if h.idr() {
		h.idrID = r.UE()
	}
	switch {
	case s.pocType == 0:
		h.pocLSB = int(r.U(s.pocLSBBits))
		if h.pps.fieldOrderInfo && h.structure == framepool.WholeFrame {
			h.deltaPOCBottom = r.SE()
		}
	case s.pocType == 1 && !s.deltaPicOrderAlwaysZero:
		h.deltaPOC[0] = r.SE()
		if h.pps.fieldOrderInfo && h.structure == framepool.WholeFrame {
			h.deltaPOC[1] = r.SE()
		}
	}
	if h.pps.redundant {
		h.redundant = r.UE() > 0
	}
}

// parseRefs reads the sizes and modifications of the reference lists and the
// weights.
func (h *sliceHeader) parseRefs(r *bits.Reader) error {
	for i := range h.modifications {
		h.modifications[i] = h.modifications[i][:0]
	}
	lists := 0
	switch h.kind {
	case sliceP:
		lists = 1
	case sliceB:
		lists = 2
	default:
		return nil
	}
	override := r.Flag()
	for i := range lists {
		h.numRefs[i] = h.pps.refs[i]
		if override {
			h.numRefs[i] = int(min(r.UE(), 32)) + 1
		}
		if h.numRefs[i] > 32 || (h.structure == framepool.WholeFrame && h.numRefs[i] > 16) {
			return damaged("a slice has too many references")
		}
	}
	for i := range lists {
		if !r.Flag() {
			continue
		}
		for op := r.UE(); op != 3; op = r.UE() {
			if op > 3 || len(h.modifications[i]) > 66 {
				return damaged("a reference list modification is out of range")
			}
			h.modifications[i] = append(h.modifications[i], refOp{uint8(op), r.UE(), 0})
		}
	}
	if (h.kind == sliceP && h.pps.weighted) || (h.kind == sliceB && h.pps.bipred == 1) {
		return h.parseWeights(r, lists)
	}
	return nil
}

func (h *sliceHeader) parseWeights(r *bits.Reader, lists int) error {
	h.weighted = true
	luma, chroma := r.UE(), uint32(0)
	planes := 3
	if h.sps.chroma.Planes() == 1 {
		planes = 1
	} else {
		chroma = r.UE()
	}
	if luma > 7 || chroma > 7 {
		return damaged("a weight's denominator is out of range")
	}
	h.lumaDenom, h.chromaDenom = uint8(luma), uint8(chroma)
	for l := range lists {
		for i := range h.numRefs[l] {
			w := &h.weights[l][i]
			w[0].w, w[1].w, w[2].w = 1<<luma, 1<<chroma, 1<<chroma
			if r.Flag() {
				w[0] = parseWeight(r, h.sps.depth)
			}
			if planes == 3 && r.Flag() {
				w[1], w[2] = parseWeight(r, h.sps.chromaDepth), parseWeight(r, h.sps.chromaDepth)
			}
		}
	}
	return nil
}

// parseWeight reads the weight and offset of a plane whose samples have depth bits.
func parseWeight(r *bits.Reader, depth int) weight {
	w, o := r.SE(), r.SE()
	return weight{int16(max(-128, min(w, 127))), int16(max(-128, min(o, 127)) << (depth - 8))}
}

// parseMarking reads how reference pictures are to be marked (7.3.3.3).
func (h *sliceHeader) parseMarking(r *bits.Reader) error {
	if h.idr() {
		r.Skip(1) // no_output_of_prior_pics_flag: every decoded picture is output
		h.longTermIDR = r.Flag()
		return nil
	}
	if h.adaptiveMarking = r.Flag(); !h.adaptiveMarking {
		return nil
	}
	for op := r.UE(); op != 0; op = r.UE() {
		if op > 6 || len(h.marking) > 66 {
			return damaged("a memory management operation is out of range")
		}
		m := refOp{op: uint8(op)}
		switch op {
		case 1, 2, 4, 6:
			m.a = r.UE()
		case 3:
			m.a, m.b = r.UE(), r.UE()
		}
		h.marking = append(h.marking, m)
	}
	return nil
}

// parseQuality reads the rest: entropy coder, quantiser, deblocking.
func (h *sliceHeader) parseQuality(r *bits.Reader) error {
	if h.pps.cabac && h.kind != sliceI {
		h.cabacInit = int(r.UE()) + 1
		if h.cabacInit > 3 {
			return damaged("cabac_init_idc is out of range")
		}
	}
	h.qp = 26 + h.pps.qp + int(r.SE())
	if h.qp < -6*(h.sps.depth-8) || h.qp > 51 {
		return damaged("a slice's quantiser is out of range")
	}
	if !h.pps.deblockingControl {
		return nil
	}
	h.noDeblock = int(r.UE())
	if h.noDeblock > 2 {
		return damaged("disable_deblocking_filter_idc is out of range")
	}
	if h.noDeblock != 1 {
		a, b := r.SE(), r.SE()
		if a < -6 || a > 6 || b < -6 || b > 6 {
			return damaged("a deblocking offset is out of range")
		}
		h.alphaOff, h.betaOff = int8(2*a), int8(2*b)
	}
	return nil
}

// samePicture reports whether two slices belong to the same picture (7.4.1.2.4).
func (h *sliceHeader) samePicture(o *sliceHeader) bool {
	return h.frameNum == o.frameNum && h.pps.id == o.pps.id && h.sps == o.sps && h.structure == o.structure &&
		(h.refIDC == 0) == (o.refIDC == 0) && h.idr() == o.idr() && h.idrID == o.idrID &&
		h.pocLSB == o.pocLSB && h.deltaPOCBottom == o.deltaPOCBottom && h.deltaPOC == o.deltaPOC
}
