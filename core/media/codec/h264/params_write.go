package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// append appends the sequence parameter set as a NAL unit (7.3.2.1.1).
func (s *sps) append(dst []byte) []byte {
	w := &bits.Writer{}
	w.U(8, uint32(s.profile))
	w.U(8, uint32(s.constraints))
	w.U(8, uint32(s.level))
	w.UE(s.id)
	if statesChroma(s.profile) {
		w.UE(nal.ChromaFormatIDC(s.chroma))
		w.UE(s.depth - 8)
		w.UE(s.chromaDepth - 8)
		w.Flag(false) // qpprime_y_zero_transform_bypass_flag
		w.Flag(false) // seq_scaling_matrix_present_flag
	}
	w.UE(s.frameNumBits - 4)
	w.UE(s.pocType)
	w.UE(s.pocLSBBits - 4)
	w.UE(s.maxRefFrames)
	w.Flag(s.gapsAllowed)
	w.UE(s.mbWidth - 1)
	unitX, unitY := 2, 1
	if s.chroma == picture.C420 {
		unitY = 2
	}
	if s.frameMbsOnly {
		w.UE(s.mbHeight - 1)
		w.Flag(true)
	} else {
		unitY *= 2
		w.UE(s.mbHeight/2 - 1)
		w.Flag(false)
		w.Flag(s.mbaff)
	}
	w.Flag(s.direct8x8)
	right, bottom := s.mbWidth*16-s.width, s.mbHeight*16-s.height
	w.Flag(right+bottom > 0)
	if right+bottom > 0 {
		w.UE(0)
		w.UE(right / unitX)
		w.UE(0)
		w.UE(bottom / unitY)
	}
	w.Flag(true)
	s.vui.write(w)
	w.Trailing()
	return nal.AppendUnit(dst, []byte{0x60 | nalSPS}, w.Bytes())
}

// write writes VUI parameters (E.1.1).
func (v *vui) write(w *bits.Writer) {
	v.Write(w)
	w.Flag(true)
	w.U(32, v.unitsInTick)
	w.U(32, v.timeScale)
	w.Flag(true)  // fixed_frame_rate_flag
	w.Flag(false) // nal_hrd_parameters_present_flag
	w.Flag(false) // vcl_hrd_parameters_present_flag
	w.Flag(false) // pic_struct_present_flag
	w.Flag(true)  // bitstream_restriction_flag
	w.Flag(true)  // motion_vectors_over_pic_boundaries_flag
	w.UE(0)       // max_bytes_per_pic_denom
	w.UE(0)       // max_bits_per_mb_denom
	w.UE(maxVectorLog)
	w.UE(maxVectorLog)
	w.UE(v.reorder)
	w.UE(v.buffering)
}

// maxVectorLog is log2_max_mv_length: vectors stay within 2^14 quarter samples.
const maxVectorLog = 14

// append appends the picture parameter set as a NAL unit (7.3.2.2).
func (p *pps) append(dst []byte) []byte {
	w := &bits.Writer{}
	w.UE(p.id)
	w.UE(p.spsID)
	w.Flag(p.cabac)
	w.Flag(p.fieldOrderInfo)
	w.UE(0) // num_slice_groups_minus1
	w.UE(p.refs[0] - 1)
	w.UE(p.refs[1] - 1)
	w.Flag(p.weighted)
	w.U(2, uint32(p.bipred))
	w.SE(p.qp)
	w.SE(0)
	w.SE(p.chromaQPOffset[0])
	w.Flag(p.deblockingControl)
	w.Flag(p.constrainedIntra)
	w.Flag(p.redundant)
	w.Flag(p.transform8x8)
	w.Flag(false) // pic_scaling_matrix_present_flag
	w.SE(p.chromaQPOffset[1])
	w.Trailing()
	return nal.AppendUnit(dst, []byte{0x60 | nalPPS}, w.Bytes())
}

// write writes a slice header (7.3.3) up to the slice data.
func (h *sliceHeader) write(w *bits.Writer) {
	w.UE(h.firstMb)
	w.UE(int(h.kind))
	w.UE(h.pps.id)
	w.U(h.sps.frameNumBits, uint32(h.frameNum))
	if !h.sps.frameMbsOnly {
		w.Flag(h.structure != framepool.WholeFrame)
		if h.structure != framepool.WholeFrame {
			w.Flag(h.structure == framepool.BottomField)
		}
	}
	if h.idr() {
		w.UE(int(h.idrID))
	}
	w.U(h.sps.pocLSBBits, uint32(h.pocLSB)&(1<<h.sps.pocLSBBits-1))
	if h.kind == sliceB {
		w.Flag(h.spatialDirect)
	}
	if h.kind != sliceI {
		w.Flag(true) // num_ref_idx_active_override_flag
		w.UE(h.numRefs[0] - 1)
		if h.kind == sliceB {
			w.UE(h.numRefs[1] - 1)
		}
		h.writeModifications(w, 0)
		if h.kind == sliceB {
			h.writeModifications(w, 1)
		}
	}
	if h.refIDC != 0 {
		if h.idr() {
			w.U(2, 0)
		} else {
			w.Flag(false) // adaptive_ref_pic_marking_mode_flag
		}
	}
	if h.pps.cabac && h.kind != sliceI {
		w.UE(h.cabacInit - 1)
	}
	w.SE(h.qp - 26 - h.pps.qp)
	if h.pps.deblockingControl {
		w.UE(h.noDeblock)
		if h.noDeblock != 1 {
			w.SE(int(h.alphaOff) / 2)
			w.SE(int(h.betaOff) / 2)
		}
	}
}

// writeModifications writes the modifications of a reference list (7.3.3.1).
func (h *sliceHeader) writeModifications(w *bits.Writer, list int) {
	ops := h.modifications[list]
	w.Flag(len(ops) > 0)
	if len(ops) == 0 {
		return
	}
	for _, m := range ops {
		w.UE(int(m.op))
		w.UE(int(m.a))
	}
	w.UE(3)
}
