package h264

import (
	"slices"

	"vividstrain/core/media/codec/framepool"
)

// ref is a reference picture: a frame or one field of it, with its state when the list was made.
type ref struct {
	f    *frame
	s    framepool.Fields
	long bool // a long-term reference
	poc  [2]int32
}

func newRef(f *frame, s framepool.Fields) ref {
	return ref{f, s, f.long&s == s, f.poc}
}

// number identifies a picture within the stream.
func (r ref) number() int32 { return r.f.ID<<2 | int32(r.s) }

// orderCount is PicOrderCnt of the picture.
func (r ref) orderCount() int32 { return pocOf(r.poc, r.s) }

// refList is a reference picture list, cut to the length that a slice may have.
type refList struct {
	refs [33]ref
	n    int
}

func (l *refList) add(r ref) {
	if l.n < len(l.refs) {
		l.refs[l.n] = r
		l.n++
	}
}

// buildLists makes the reference picture lists of a slice of cur (8.2.4).
func (d *dpb) buildLists(h *sliceHeader, cur *frame, lists *[2]refList) {
	lists[0].n, lists[1].n = 0, 0
	if h.kind == sliceI {
		return
	}
	if h.kind == sliceP {
		d.initP(h, &lists[0])
	} else {
		d.initB(h, cur, lists)
	}
	for i := range lists {
		n := h.numRefs[i]
		for k := lists[i].n; k < n; k++ {
			lists[i].refs[k] = ref{}
		}
		lists[i].n = n
		d.modify(h, cur, &lists[i], h.modifications[i])
	}
}

// initP initialises the list of a P slice (8.2.4.2.1, 8.2.4.2.2).
func (d *dpb) initP(h *sliceHeader, list *refList) {
	short := d.pick(func(f *frame) bool { return f.short != 0 })
	slices.SortFunc(short, func(a, b *frame) int { return b.numWrap - a.numWrap })
	d.append(h, list, short, d.longTerm())
}

// initB initialises both lists of a B slice (8.2.4.2.3, 8.2.4.2.4).
func (d *dpb) initB(h *sliceHeader, cur *frame, lists *[2]refList) {
	now := cur.pocOf(h.structure)
	order := func(f *frame) int32 {
		if f == cur { // the current picture is the second field of f
			return f.pocOf(h.structure.Opposite())
		}
		return f.pocOf(framepool.WholeFrame)
	}
	past := d.pick(func(f *frame) bool {
		return f.short != 0 && (order(f) < now || h.structure != framepool.WholeFrame && order(f) == now)
	})
	slices.SortFunc(past, func(a, b *frame) int { return int(order(b)) - int(order(a)) })
	past = slices.Clone(past)
	future := d.pick(func(f *frame) bool { return f.short != 0 && !slices.Contains(past, f) })
	slices.SortFunc(future, func(a, b *frame) int { return int(order(a)) - int(order(b)) })
	future = slices.Clone(future)
	long := slices.Clone(d.longTerm())
	d.append(h, &lists[0], slices.Concat(past, future), long)
	d.append(h, &lists[1], slices.Concat(future, past), long)
	if n := lists[1].n; n > 1 && n == lists[0].n && slices.Equal(lists[0].refs[:n], lists[1].refs[:n]) {
		lists[1].refs[0], lists[1].refs[1] = lists[1].refs[1], lists[1].refs[0]
	}
}

func (d *dpb) pick(want func(*frame) bool) []*frame {
	d.picked = d.picked[:0]
	for _, f := range d.frames {
		if want(f) {
			d.picked = append(d.picked, f)
		}
	}
	return d.picked
}

func (d *dpb) longTerm() []*frame {
	var long []*frame
	for _, f := range d.frames {
		if f.long != 0 {
			long = append(long, f)
		}
	}
	slices.SortFunc(long, func(a, b *frame) int { return a.longIdx - b.longIdx })
	return long
}

// append adds short-term and then long-term references, as frames or as fields.
func (d *dpb) append(h *sliceHeader, list *refList, short, long []*frame) {
	if h.structure == framepool.WholeFrame {
		for _, f := range short {
			if f.short == framepool.WholeFrame {
				list.add(newRef(f, framepool.WholeFrame))
			}
		}
		for _, f := range long {
			if f.long == framepool.WholeFrame {
				list.add(newRef(f, framepool.WholeFrame))
			}
		}
		return
	}
	alternate(list, short, h.structure, func(f *frame) framepool.Fields { return f.short })
	alternate(list, long, h.structure, func(f *frame) framepool.Fields { return f.long })
}

// alternate takes fields of alternating parity from the frames, starting with parity s
// (8.2.4.2.5).
func alternate(list *refList, frames []*frame, s framepool.Fields, marked func(*frame) framepool.Fields) {
	var at [4]int // by parity
	for {
		i := at[s]
		for i < len(frames) && marked(frames[i])&s == 0 {
			i++
		}
		if i == len(frames) {
			break
		}
		list.add(newRef(frames[i], s))
		at[s] = i + 1
		s = s.Opposite()
	}
	s = s.Opposite()
	for _, f := range frames[at[s]:] {
		if marked(f)&s != 0 {
			list.add(newRef(f, s))
		}
	}
}

// modify carries out the modifications of a list (8.2.4.3).
func (d *dpb) modify(h *sliceHeader, cur *frame, list *refList, ops []refOp) {
	pred, maxNum := int64(h.frameNum), int64(1)<<h.sps.frameNumBits
	if h.structure != framepool.WholeFrame {
		pred, maxNum = 2*pred+1, 2*maxNum
	}
	current := pred
	for idx, m := range ops {
		if idx >= list.n {
			return
		}
		var r ref
		switch m.op {
		case 0, 1:
			diff := int64(m.a) + 1
			if m.op == 0 {
				diff = -diff
			}
			pred = ((pred+diff)%maxNum + maxNum) % maxNum
			num := pred
			if num > current {
				num -= maxNum
			}
			r = d.shortTerm(h.structure, num)
		case 2:
			r = d.longTermNum(h.structure, int64(m.a))
		}
		if r.f == nil {
			continue // a missing picture is left out
		}
		list.moveTo(idx, r)
	}
}

// moveTo inserts r at index idx and removes its later occurrence.
func (l *refList) moveTo(idx int, r ref) {
	last := l.n
	for i := idx; i < l.n; i++ {
		if l.refs[i] == r {
			last = i
			break
		}
	}
	if last == l.n {
		last--
	}
	copy(l.refs[idx+1:last+1], l.refs[idx:last])
	l.refs[idx] = r
}

// shortTerm returns the short-term reference picture with PicNum num (8.2.4.1).
func (d *dpb) shortTerm(s framepool.Fields, num int64) ref {
	for _, f := range d.frames {
		if s == framepool.WholeFrame {
			if f.short == framepool.WholeFrame && int64(f.numWrap) == num {
				return newRef(f, s)
			}
			continue
		}
		if f.short&s != 0 && 2*int64(f.numWrap)+1 == num {
			return newRef(f, s)
		}
		if f.short&s.Opposite() != 0 && 2*int64(f.numWrap) == num {
			return newRef(f, s.Opposite())
		}
	}
	return ref{}
}

// longTermNum returns the long-term reference picture with LongTermPicNum num.
func (d *dpb) longTermNum(s framepool.Fields, num int64) ref {
	for _, f := range d.frames {
		if s == framepool.WholeFrame {
			if f.long == framepool.WholeFrame && int64(f.longIdx) == num {
				return newRef(f, s)
			}
			continue
		}
		if f.long&s != 0 && 2*int64(f.longIdx)+1 == num {
			return newRef(f, s)
		}
		if f.long&s.Opposite() != 0 && 2*int64(f.longIdx) == num {
			return newRef(f, s.Opposite())
		}
	}
	return ref{}
}
