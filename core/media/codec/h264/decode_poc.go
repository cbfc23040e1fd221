package h264

import "vividstrain/core/media/codec/framepool"

// pocState is what the picture order count of the next picture depends on (8.2.1).
type pocState struct {
	prevMSB, prevLSB int32 // of the previous reference picture
	prevFrameNum     int
	prevOffset       int32 // FrameNumOffset of the previous picture
	reset            bool  // the previous picture had operation 5
	resetTop         int32 // TopFieldOrderCnt of the previous picture if reset
}

// next computes TopFieldOrderCnt and BottomFieldOrderCnt; for a field, only its own.
func (o *pocState) next(h *sliceHeader) (poc [2]int32) {
	switch h.sps.pocType {
	case 0:
		return o.fromLSB(h)
	case 1:
		return o.fromCycle(h)
	}
	return o.fromFrameNum(h)
}

// fromLSB computes picture order counts of type 0 (8.2.1.1).
func (o *pocState) fromLSB(h *sliceHeader) (poc [2]int32) {
	if h.idr() {
		o.prevMSB, o.prevLSB = 0, 0
	} else if o.reset {
		o.prevMSB, o.prevLSB = 0, o.resetTop
	}
	size, lsb := int32(1)<<h.sps.pocLSBBits, int32(h.pocLSB)
	msb := o.prevMSB
	if lsb < o.prevLSB && o.prevLSB-lsb >= size/2 {
		msb += size
	} else if lsb > o.prevLSB && lsb-o.prevLSB > size/2 {
		msb -= size
	}
	poc[0] = msb + lsb
	poc[1] = poc[0] + h.deltaPOCBottom
	if h.refIDC != 0 {
		o.prevMSB, o.prevLSB = msb, lsb
	}
	return poc
}

// offset returns FrameNumOffset of types 1 and 2.
func (o *pocState) offset(h *sliceHeader) int32 {
	prev := o.prevOffset
	if o.reset {
		prev = 0
	}
	switch {
	case h.idr():
		return 0
	case o.prevFrameNum > h.frameNum:
		return prev + 1<<h.sps.frameNumBits
	}
	return prev
}

// fromCycle computes picture order counts of type 1 (8.2.1.2).
func (o *pocState) fromCycle(h *sliceHeader) (poc [2]int32) {
	s := h.sps
	o.prevOffset = o.offset(h)
	abs, n := int32(0), int32(len(s.offsetForRefFrame))
	if n != 0 {
		abs = o.prevOffset + int32(h.frameNum)
	}
	if h.refIDC == 0 && abs > 0 {
		abs--
	}
	expected := int32(0)
	if abs > 0 {
		cycle := int32(0)
		for _, d := range s.offsetForRefFrame {
			cycle += d
		}
		expected = (abs - 1) / n * cycle
		for _, d := range s.offsetForRefFrame[:(abs-1)%n+1] {
			expected += d
		}
	}
	if h.refIDC == 0 {
		expected += s.offsetForNonRef
	}
	poc[0] = expected + h.deltaPOC[0]
	poc[1] = poc[0] + s.offsetForTopToBottom + h.deltaPOC[1]
	if h.structure == framepool.BottomField {
		poc[1] = expected + s.offsetForTopToBottom + h.deltaPOC[0]
	}
	return poc
}

// fromFrameNum computes picture order counts of type 2 (8.2.1.3).
func (o *pocState) fromFrameNum(h *sliceHeader) (poc [2]int32) {
	o.prevOffset = o.offset(h)
	n := 2 * (o.prevOffset + int32(h.frameNum))
	if h.idr() {
		n = 0
	} else if h.refIDC == 0 {
		n--
	}
	return [2]int32{n, n}
}

// update stores what the next picture needs. After memory management operation 5 the picture
// counts as the first of the stream.
func (o *pocState) update(h *sliceHeader, f *frame) {
	o.prevFrameNum = h.frameNum
	o.reset = false
	for _, m := range h.marking {
		if m.op == 5 {
			o.reset, o.prevFrameNum, o.resetTop = true, 0, 0
			if h.structure != framepool.BottomField {
				o.resetTop = f.poc[0]
			}
		}
	}
}
