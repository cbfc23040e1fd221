package h264

// rateControl chooses the quantisers.
type rateControl struct {
	set *Settings
}

func (r *rateControl) begin(set *Settings) { r.set = set }

// choose gives QPY of a picture. With each try it is told again.
func (r *rateControl) choose(h *sliceHeader, try int) int {
	qp := r.set.QP
	switch h.kind {
	case sliceI:
		qp -= 3
	case sliceB:
		qp += 2
	}
	return max(-6*(r.set.Format.Depth-8), min(qp, 51))
}

// accept tells whether so many bits are fine.
func (r *rateControl) accept(h *sliceHeader, bits, try int) bool { return true }
