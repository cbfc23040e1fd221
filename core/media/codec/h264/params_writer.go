package h264

import (
	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// append appends the set as a NAL unit (7.3.2.1.1).
func (s *sps) append(dst []byte) []byte {
	w := &bitWriter{}
	w.u(8, uint32(s.profile))
	w.u(8, uint32(s.constraints))
	w.u(8, uint32(s.level))
	w.ue(s.id)
	if statesChroma(s.profile) {
		w.ue(chromaIDC(s))
		w.ue(s.depth - 8)
		w.ue(s.chromaDepth - 8)
		w.flag(false) // qpprime_y_zero_transform_bypass_flag
		w.flag(false) // seq_scaling_matrix_present_flag
	}
	w.ue(s.frameNumBits - 4)
	w.ue(s.pocType)
	w.ue(s.pocLSBBits - 4)
	w.ue(s.maxRefFrames)
	w.flag(s.gapsAllowed)
	w.ue(s.mbWidth - 1)
	unitX, unitY := 2, 1
	if s.chroma == picture.C420 {
		unitY = 2
	}
	if s.frameMbsOnly {
		w.ue(s.mbHeight - 1)
		w.flag(true)
	} else {
		unitY *= 2
		w.ue(s.mbHeight/2 - 1)
		w.flag(false)
		w.flag(s.mbaff)
	}
	w.flag(s.direct8x8)
	right, bottom := s.mbWidth*16-s.width, s.mbHeight*16-s.height
	w.flag(right+bottom > 0)
	if right+bottom > 0 {
		w.ue(0)
		w.ue(right / unitX)
		w.ue(0)
		w.ue(bottom / unitY)
	}
	w.flag(true)
	s.vui.write(w)
	w.trailing()
	return appendUnit(dst, 0x60|nalSPS, w.bytes())
}

// write writes VUI parameters (E.1.1).
func (v *vui) write(w *bitWriter) {
	w.flag(true) // aspect_ratio_info_present_flag
	w.u(8, 1)    // square
	w.flag(false)
	w.flag(v.colour)
	if v.colour {
		w.u(3, 5) // unspecified video_format
		w.flag(v.fullRange)
		w.flag(true)
		w.u(8, uint32(v.primaries))
		w.u(8, uint32(v.transfer))
		w.u(8, uint32(v.matrix))
	}
	w.flag(false) // chroma_loc_info_present_flag
	w.flag(true)
	w.u(32, v.unitsInTick)
	w.u(32, v.timeScale)
	w.flag(true)  // fixed_frame_rate_flag
	w.flag(false) // nal_hrd_parameters_present_flag
	w.flag(false) // vcl_hrd_parameters_present_flag
	w.flag(false) // pic_struct_present_flag
	w.flag(true)  // bitstream_restriction_flag
	w.flag(true)  // motion_vectors_over_pic_boundaries_flag
	w.ue(0)       // max_bytes_per_pic_denom
	w.ue(0)       // max_bits_per_mb_denom
	w.ue(maxVectorLog)
	w.ue(maxVectorLog)
	w.ue(v.reorder)
	w.ue(v.buffering)
}

// maxVectorLog is log2_max_mv_length: vectors stay within 2^14 quarter samples.
const maxVectorLog = 14

// append appends the set as a NAL unit (7.3.2.2).
func (p *pps) append(dst []byte) []byte {
	w := &bitWriter{}
	w.ue(p.id)
	w.ue(p.spsID)
	w.flag(p.cabac)
	w.flag(p.fieldOrderInfo)
	w.ue(0) // num_slice_groups_minus1
	w.ue(p.refs[0] - 1)
	w.ue(p.refs[1] - 1)
	w.flag(p.weighted)
	w.u(2, uint32(p.bipred))
	w.se(p.qp)
	w.se(0)
	w.se(p.chromaQPOffset[0])
	w.flag(p.deblockingControl)
	w.flag(p.constrainedIntra)
	w.flag(p.redundant)
	w.flag(p.transform8x8)
	w.flag(false) // pic_scaling_matrix_present_flag
	w.se(p.chromaQPOffset[1])
	w.trailing()
	return appendUnit(dst, 0x60|nalPPS, w.bytes())
}

// appendHDR appends supplemental enhancement information with the static
// metadata of high dynamic range (D.1.29, D.1.31).
func appendHDR(dst []byte, h *media.HDR) []byte {
	w := &bitWriter{}
	w.u(8, seiMastering)
	w.u(8, 24)
	for _, p := range append(h.Primaries[:], h.White) {
		w.u(16, uint32(p[0]))
		w.u(16, uint32(p[1]))
	}
	w.u(32, h.Most)
	w.u(32, h.Least)
	w.u(8, seiContentLight)
	w.u(8, 4)
	w.u(16, uint32(h.MaxCLL))
	w.u(16, uint32(h.MaxFALL))
	w.trailing()
	return appendUnit(dst, nalSEI, w.bytes())
}

// write writes a slice header (7.3.3) up to the slice data.
func (h *sliceHeader) write(w *bitWriter) {
	w.ue(h.firstMb)
	w.ue(int(h.kind))
	w.ue(h.pps.id)
	w.u(h.sps.frameNumBits, uint32(h.frameNum))
	if !h.sps.frameMbsOnly {
		w.flag(h.structure != wholeFrame)
		if h.structure != wholeFrame {
			w.flag(h.structure == bottomField)
		}
	}
	if h.idr() {
		w.ue(int(h.idrID))
	}
	w.u(h.sps.pocLSBBits, uint32(h.pocLSB)&(1<<h.sps.pocLSBBits-1))
	if h.kind == sliceB {
		w.flag(h.spatialDirect)
	}
	if h.kind != sliceI {
		w.flag(true) // num_ref_idx_active_override_flag
		w.ue(h.numRefs[0] - 1)
		if h.kind == sliceB {
			w.ue(h.numRefs[1] - 1)
		}
		h.writeModifications(w, 0)
		if h.kind == sliceB {
			h.writeModifications(w, 1)
		}
	}
	if h.refIDC != 0 {
		if h.idr() {
			w.u(2, 0)
		} else {
			w.flag(false) // adaptive_ref_pic_marking_mode_flag
		}
	}
	if h.pps.cabac && h.kind != sliceI {
		w.ue(h.cabacInit - 1)
	}
	w.se(h.qp - 26 - h.pps.qp)
	if h.pps.deblockingControl {
		w.ue(h.noDeblock)
		if h.noDeblock != 1 {
			w.se(int(h.alphaOff) / 2)
			w.se(int(h.betaOff) / 2)
		}
	}
}

// writeModifications writes those of a list (7.3.3.1).
func (h *sliceHeader) writeModifications(w *bitWriter, list int) {
	ops := h.modifications[list]
	w.flag(len(ops) > 0)
	if len(ops) == 0 {
		return
	}
	for _, m := range ops {
		w.ue(int(m.op))
		w.ue(int(m.a))
	}
	w.ue(3)
}
