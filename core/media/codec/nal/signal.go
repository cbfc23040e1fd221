package nal

import (
	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
)

// Signal is the start of the video usability information, which is the same in both standards (Rec.
// ITU-T H.264, E.1.1; H.265, E.2.1): what samples mean as colours. Of it the aspect ratio, overscan and
// the place of chroma samples are not kept.
type Signal struct {
	Stated bool // the colour description; without it only FullRange is known
	media.Colour
}

// Read reads aspect_ratio_info_present_flag up to the chroma sample locations.
func (s *Signal) Read(r *bits.Reader) {
	if r.Flag() && r.U(8) == 255 { // aspect_ratio_info, Extended_SAR
		r.Skip(32)
	}
	if r.Flag() { // overscan_info
		r.Skip(1)
	}
	if r.Flag() { // video_signal_type
		r.Skip(3)
		s.FullRange = r.Flag()
		if s.Stated = r.Flag(); s.Stated {
			s.Primaries, s.Transfer, s.Matrix = int(r.U(8)), int(r.U(8)), int(r.U(8))
		}
	}
	if r.Flag() { // chroma_loc_info
		r.UE()
		r.UE()
	}
}

// Write writes what Read reads: square samples, and the colours if they are stated.
func (s *Signal) Write(w *bits.Writer) {
	w.Flag(true) // aspect_ratio_info_present_flag
	w.U(8, 1)
	w.Flag(false)
	w.Flag(s.Stated)
	if s.Stated {
		w.U(3, 5) // unspecified video_format
		w.Flag(s.FullRange)
		w.Flag(true)
		w.U(8, uint32(s.Primaries))
		w.U(8, uint32(s.Transfer))
		w.U(8, uint32(s.Matrix))
	}
	w.Flag(false) // chroma_loc_info_present_flag
}
