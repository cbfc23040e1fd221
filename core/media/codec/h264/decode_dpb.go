package h264

import (
	"math"
	"slices"

	"vividstrain/core/media/codec/framepool"
)

// dpb is the decoded picture buffer: the frames that are used for reference or
// wait for output (annex C.4).
type dpb struct {
	frames []*frame
	picked []*frame // scratch
	output func(*frame)
}

// tidy releases the frames that are neither used for reference nor waiting for output.
func (d *dpb) tidy() {
	d.frames = slices.DeleteFunc(d.frames, func(f *frame) bool {
		if f.isReference() || f.waiting {
			return false
		}
		f.Drop()
		return true
	})
}

// wrap computes FrameNumWrap of all frames (8.2.4.1).
func (d *dpb) wrap(h *sliceHeader) {
	for _, f := range d.frames {
		f.numWrap = f.frameNum
		if f.frameNum > h.frameNum {
			f.numWrap -= 1 << h.sps.frameNumBits
		}
	}
}

// mark carries out decoded reference picture marking for picture s of cur (8.2.5). It reports
// whether memory management operation 5 was part of it.
func (d *dpb) mark(h *sliceHeader, cur *frame) (reset bool) {
	second := cur.short|cur.long != 0 && h.structure != framepool.WholeFrame
	switch {
	case h.idr():
		for _, f := range d.frames {
			if f != cur {
				f.short, f.long = 0, 0
			}
		}
		if h.longTermIDR {
			cur.long, cur.longIdx = cur.long|h.structure, 0
			return false
		}
	case h.adaptiveMarking:
		for _, m := range h.marking {
			reset = d.operate(h, cur, m) || reset
		}
	case !second || cur.short == 0:
		d.slide(h.sps, cur)
	}
	if cur.long&h.structure == 0 {
		cur.short |= h.structure
	}
	d.limitReferences(cur, max(h.sps.maxRefFrames, 1))
	return reset
}

// slide is the sliding window process (8.2.5.3).
func (d *dpb) slide(s *sps, cur *frame) {
	n := 0
	for _, f := range d.frames {
		if f != cur && f.isReference() {
			n++
		}
	}
	for ; n >= max(s.maxRefFrames, 1); n-- {
		var first *frame
		for _, f := range d.frames {
			if f != cur && f.short != 0 && (first == nil || f.numWrap < first.numWrap) {
				first = f
			}
		}
		if first == nil {
			return
		}
		first.short = 0
	}
}

// limitReferences keeps a damaged stream from marking more frames than its parameter set states.
func (d *dpb) limitReferences(cur *frame, most int) {
	n := 0
	for i := len(d.frames) - 1; i >= 0; i-- {
		if f := d.frames[i]; f != cur && f.isReference() {
			if n++; n >= most {
				f.short, f.long = 0, 0
			}
		}
	}
}

// operate carries out one memory management control operation (8.2.5.4).
func (d *dpb) operate(h *sliceHeader, cur *frame, m refOp) (reset bool) {
	num := int64(h.frameNum)
	if h.structure != framepool.WholeFrame {
		num = 2*num + 1
	}
	switch m.op {
	case 1:
		if r := d.shortTerm(h.structure, num-int64(m.a)-1); r.f != nil {
			r.f.short &^= r.s
		}
	case 2:
		if r := d.longTermNum(h.structure, int64(m.a)); r.f != nil {
			r.f.long &^= r.s
		}
	case 3:
		if r := d.shortTerm(h.structure, num-int64(m.a)-1); r.f != nil {
			d.freeLong(int(m.b), r.f)
			r.f.short &^= r.s
			r.f.long |= r.s
			r.f.longIdx = int(m.b)
		}
	case 4:
		for _, f := range d.frames {
			if f.long != 0 && f.longIdx >= int(m.a) {
				f.long = 0
			}
		}
	case 5:
		for _, f := range d.frames {
			f.short, f.long = 0, 0
		}
		return true
	case 6:
		d.freeLong(int(m.a), cur)
		cur.long |= h.structure
		cur.longIdx = int(m.a)
	}
	return false
}

// freeLong unmarks the frame that has this LongTermFrameIdx, unless it is keep.
func (d *dpb) freeLong(idx int, keep *frame) {
	for _, f := range d.frames {
		if f.long != 0 && f.longIdx == idx && f != keep {
			f.long = 0
		}
	}
	if keep.long != 0 && keep.longIdx != idx {
		keep.long = 0
	}
}

// reset renumbers the picture after memory management operation 5 (8.2.1).
func (f *frame) reset(s framepool.Fields) {
	base := f.pocOf(s)
	for i := range f.poc {
		if f.poc[i] != math.MaxInt32 {
			f.poc[i] -= base
		}
	}
	f.frameNum = 0
}

// bump outputs frames in display order until at most depth of them wait and the buffer holds at
// most capacity frames (C.4.5.3).
func (d *dpb) bump(depth, capacity int) {
	for d.tidy(); ; d.tidy() {
		first, found := framepool.NextOutput(d.frames, depth, capacity)
		if !found {
			return
		}
		first.waiting = false
		d.output(first)
	}
}

// clear forgets all references and outputs every frame that waits.
func (d *dpb) clear() {
	for _, f := range d.frames {
		f.short, f.long = 0, 0
	}
	d.bump(0, 0)
}
