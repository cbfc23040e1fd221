package hevc

import (
	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// formatSPS returns a sequence parameter set with the fields that follow from the format alone, and
// the block sizes that the encoder uses.
func formatSPS(f media.Format) *sps {
	s := &sps{profile: profileMain, chroma: f.Chroma, depth: f.Depth, chromaDepth: f.Depth, pocBits: 8, maxDec: 2,
		minCb: 3, ctb: 5, minTb: 2, maxTb: 5, depthInter: 2, temporalMVP: true, strong: true, sao: true}
	switch {
	case f.Chroma != picture.C420:
		s.profile = profileRange
	case f.Depth > 8:
		s.profile = profileMain10
	}
	s.width, s.height = (f.Width+7)&^7, (f.Height+7)&^7
	s.cropRight, s.cropBottom = s.width-f.Width, s.height-f.Height
	return s
}

// appendVPS appends a video parameter set for s as a NAL unit.
func (s *sps) appendVPS(dst []byte) []byte {
	return nal.AppendUnit(dst, []byte{nalVPS << 1, 1}, s.vps())
}

// vps returns a video parameter set for s (7.3.2.1).
func (s *sps) vps() []byte {
	w := &bits.Writer{}
	w.U(4, 0)
	w.U(2, 3) // vps_base_layer_internal_flag and available_flag
	w.U(6, 0)
	w.U(3, 0)
	w.U(1, 1) // vps_temporal_id_nesting_flag
	w.U(16, 0xFFFF)
	s.writeProfile(w)
	s.writeBuffer(w)
	w.U(6, 0)
	w.UE(0)
	w.Flag(false) // vps_timing_info_present_flag: that of the SPS counts
	w.Flag(false)
	w.Trailing()
	return w.Bytes()
}

// writeProfile writes profile_tier_level (7.3.3).
func (s *sps) writeProfile(w *bits.Writer) {
	w.U(2, 0)
	w.Flag(s.highTier)
	w.U(5, uint32(s.profile))
	compatible := uint32(1) << (31 - s.profile)
	if s.profile == profileMain {
		compatible |= 1 << (31 - profileMain10)
	}
	w.U(32, compatible)
	w.U(4, 0b1001) // progressive source, frames only
	if s.profile == profileRange {
		// general_max_12bit to max_monochrome constraint flags, intra, one picture, lower bit rate (A.3.5).
		w.Flag(true)
		w.Flag(s.depth <= 10)
		w.Flag(s.depth <= 8)
		w.Flag(true) // 4:2:2 at most
		w.Flag(s.chroma == picture.C420)
		w.Flag(false)
		w.U(3, 0b001)
	} else {
		w.U(9, 0)
	}
	w.U(32, 0)
	w.U(3, 0)
	w.U(8, uint32(s.level))
}

// writeBuffer writes how many pictures are kept and reordered.
func (s *sps) writeBuffer(w *bits.Writer) {
	w.Flag(true)
	w.UE(s.maxDec - 1)
	w.UE(s.reorder)
	w.UE(0) // no limit of latency
}

// append appends the sequence parameter set as a NAL unit.
func (s *sps) append(dst []byte) []byte {
	w := &bits.Writer{}
	s.write(w)
	return nal.AppendUnit(dst, []byte{nalSPS << 1, 1}, w.Bytes())
}

// write writes the sequence parameter set (7.3.2.2.1). Of scaling lists it has the default ones or none.
func (s *sps) write(w *bits.Writer) {
	w.U(4, 0)
	w.U(3, 0)
	w.U(1, 1)
	s.writeProfile(w)
	w.UE(s.id)
	w.UE(nal.ChromaFormatIDC(s.chroma))
	w.UE(s.width)
	w.UE(s.height)
	w.Flag(s.cropRight+s.cropBottom > 0)
	if s.cropRight+s.cropBottom > 0 {
		x, y := s.chromaShift()
		w.UE(0)
		w.UE(s.cropRight >> x)
		w.UE(0)
		w.UE(s.cropBottom >> y)
	}
	w.UE(s.depth - 8)
	w.UE(s.chromaDepth - 8)
	w.UE(s.pocBits - 4)
	s.writeBuffer(w)
	w.UE(s.minCb - 3)
	w.UE(s.ctb - s.minCb)
	w.UE(s.minTb - 2)
	w.UE(s.maxTb - s.minTb)
	w.UE(s.depthInter)
	w.UE(s.depthIntra)
	if w.Flag(s.scaling != nil); s.scaling != nil {
		w.Flag(false)
	}
	w.Flag(s.amp)
	w.Flag(s.sao)
	if w.Flag(s.pcm); s.pcm {
		w.U(4, uint32(s.pcmDepth-1))
		w.U(4, uint32(s.pcmChroma-1))
		w.UE(s.minPcm - 3)
		w.UE(s.maxPcm - s.minPcm)
		w.Flag(s.pcmUnfiltered)
	}
	w.UE(0)       // num_short_term_ref_pic_sets: each slice has its own
	w.Flag(false) // long_term_ref_pics_present_flag
	w.Flag(s.temporalMVP)
	w.Flag(s.strong)
	w.Flag(true)
	s.vui.write(w)
	w.Flag(false) // sps_extension_present_flag
	w.Trailing()
}

// write writes vui_parameters (E.2.1).
func (v *vui) write(w *bits.Writer) {
	v.Write(w)
	w.U(4, 0) // no neutral chroma, fields, frame_field_info, display window
	w.Flag(true)
	w.U(32, v.unitsInTick)
	w.U(32, v.timeScale)
	w.U(2, 0) // no vui_poc_proportional_to_timing, no HRD
	w.Flag(false)
}

// append appends the picture parameter set as a NAL unit.
func (p *pps) append(dst []byte) []byte {
	w := &bits.Writer{}
	p.write(w)
	return nal.AppendUnit(dst, []byte{nalPPS << 1, 1}, w.Bytes())
}

// write writes the picture parameter set (7.3.2.3.1).
func (p *pps) write(w *bits.Writer) {
	w.UE(p.id)
	w.UE(p.spsID)
	w.Flag(p.dependentSlices)
	w.Flag(p.outputFlag)
	w.U(3, 0)
	w.Flag(p.signHiding)
	w.Flag(p.cabacInit)
	w.UE(p.refs[0] - 1)
	w.UE(p.refs[1] - 1)
	w.SE(p.initQP - 26)
	w.Flag(p.constrainedIntra)
	w.Flag(p.transformSkip)
	if w.Flag(p.cuQPDelta); p.cuQPDelta {
		w.UE(p.cuQPDeltaDepth)
	}
	w.SE(p.cbOffset)
	w.SE(p.crOffset)
	w.Flag(p.sliceChromaOffsets)
	w.Flag(p.weighted)
	w.Flag(p.weightedBi)
	w.Flag(p.bypass)
	w.Flag(p.tiles)
	w.Flag(p.sync)
	w.Flag(p.acrossSlices)
	w.Flag(true) // deblocking_filter_control_present_flag
	w.Flag(false)
	w.Flag(p.deblockOff)
	if !p.deblockOff {
		w.SE(p.beta / 2)
		w.SE(p.tc / 2)
	}
	w.Flag(false) // pps_scaling_list_data_present_flag
	w.Flag(p.listModification)
	w.UE(p.mergeLevel - 2)
	w.Flag(false)
	w.Flag(false) // pps_extension_present_flag
	w.Trailing()
}

// write writes the header of a picture's only slice, up to its data (7.3.6.1).
func (h *sliceHeader) write(w *bits.Writer) {
	w.Flag(true)
	if h.irap() {
		w.Flag(false) // no_output_of_prior_pics_flag
	}
	w.UE(h.pps.id)
	w.UE(h.kind)
	if !h.idr() {
		w.U(h.sps.pocBits, uint32(h.pocLSB)&(1<<h.sps.pocBits-1))
		w.Flag(false) // short_term_ref_pic_set_sps_flag
		h.own.write(w)
		if h.sps.temporalMVP {
			w.Flag(h.temporalMVP)
		}
	}
	if h.sps.sao {
		w.Flag(h.saoLuma)
		if h.sps.hasChroma() {
			w.Flag(h.saoC)
		}
	}
	if h.kind != sliceI {
		w.Flag(true) // num_ref_idx_active_override_flag
		w.UE(h.refs[0] - 1)
		if h.kind == sliceB {
			w.UE(h.refs[1] - 1)
			w.Flag(h.mvdL1Zero)
		}
		if h.temporalMVP {
			if h.kind == sliceB {
				w.Flag(!h.collocatedL1)
			}
			if h.refs[0] > 1 && !h.collocatedL1 || h.refs[1] > 1 && h.collocatedL1 {
				w.UE(h.collocated)
			}
		}
		w.UE(5 - h.maxMerge)
	}
	w.SE(h.qp - h.pps.initQP)
	if h.pps.acrossSlices && (h.saoLuma || h.saoC || !h.pps.deblockOff) {
		w.Flag(h.across)
	}
	w.Trailing() // byte_alignment
}

// write writes st_ref_pic_set as the only one (7.3.7).
func (p *shortRPS) write(w *bits.Writer) {
	w.UE(p.negative)
	w.UE(p.positive)
	at := int32(0)
	for i := range p.n() {
		if i == p.negative {
			at = 0
		}
		w.UE(abs(int(p.delta[i]-at)) - 1)
		w.Flag(p.used[i])
		at = p.delta[i]
	}
}
