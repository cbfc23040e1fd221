package hevc

import "vividstrain/core/media/codec/motion"

// block is a prediction block of a coding block.
type block struct {
	xCb, yCb, nCb int
	x, y, w, h    int
	part          int
	mode          int // part_mode
}

// part_mode (table 7-10).
const (
	part2Nx2N = 0
	part2NxN  = 1
	partNx2N  = 2
	partNxN   = 3
	part2NxnU = 4
	part2NxnD = 5
	partnLx2N = 6
	partnRx2N = 7
)

// neighbour returns the motion at a place if it is usable for prediction of a block (6.4.2).
func (w *worker[T]) neighbour(b *block, x, y int) *blockMotion {
	same := x >= b.xCb && y >= b.yCb && x < b.xCb+b.nCb && y < b.yCb+b.nCb
	if same {
		if b.w<<1 == b.nCb && b.h<<1 == b.nCb && b.part == 1 && b.yCb+b.h <= y && b.xCb+b.w > x {
			return nil
		}
	} else if !w.available(b.x, b.y, x, y) {
		return nil
	}
	m := &w.f.motion[y>>2*w.f.stride4+x>>2]
	if m.intra() {
		return nil
	}
	return m
}

// merge derives the motion of a block in merge mode (8.5.3.2.2).
func (w *worker[T]) merge(b block, index int) blockMotion {
	m := w.mergeCandidates(b, index+1)[index]
	if m.ref[0] >= 0 && m.ref[1] >= 0 && b.w+b.h == 12 {
		m.ref[1], m.mv[1] = -1, motion.Vector{}
	}
	return m
}

// mergeCandidates returns at least the first count merge candidates of a block.
func (w *worker[T]) mergeCandidates(b block, count int) []blockMotion {
	h := w.h
	if w.pps.mergeLevel > 2 && b.nCb == 8 {
		b.x, b.y, b.w, b.h, b.part, b.mode = b.xCb, b.yCb, b.nCb, b.nCb, 0, part2Nx2N
	}
	list := w.mergeList[:0]
	list = w.spatialMerge(&b, list, count)
	if len(list) < h.maxMerge && len(list) < count && h.temporalMVP {
		m := noMotion
		if v, ok := w.temporal(&b, 0, 0); ok {
			m.mv[0], m.ref[0] = v, 0
		}
		if h.kind == sliceB {
			if v, ok := w.temporal(&b, 0, 1); ok {
				m.mv[1], m.ref[1] = v, 0
			}
		}
		if !m.intra() {
			list = append(list, m)
		}
	}
	if h.kind == sliceB && len(list) > 1 && len(list) < h.maxMerge && len(list) < count {
		list = w.combined(list)
	}
	refs := h.refs[0]
	if h.kind == sliceB {
		refs = min(refs, h.refs[1])
	}
	for zero := 0; len(list) < count; zero++ {
		m := blockMotion{}
		if zero < refs {
			m.ref[0] = int8(zero)
		}
		m.ref[1] = m.ref[0]
		if h.kind != sliceB {
			m.ref[1] = -1
		}
		list = append(list, m)
	}
	return list
}

// spatialMerge appends the candidates beside a block (8.5.3.2.3), at least the first count of them.
func (w *worker[T]) spatialMerge(b *block, list []blockMotion, count int) []blockMotion {
	level := w.pps.mergeLevel
	at := func(x, y int) *blockMotion {
		if b.x>>level == x>>level && b.y>>level == y>>level {
			return nil
		}
		return w.neighbour(b, x, y)
	}
	var a1, b1 *blockMotion
	if !(b.part == 1 && (b.mode == partNx2N || b.mode == partnLx2N || b.mode == partnRx2N)) {
		if a1 = at(b.x-1, b.y+b.h-1); a1 != nil {
			list = append(list, *a1)
		}
	}
	if !(b.part == 1 && (b.mode == part2NxN || b.mode == part2NxnU || b.mode == part2NxnD)) {
		if b1 = at(b.x+b.w-1, b.y-1); b1 != nil && (a1 == nil || !b1.equals(a1)) {
			list = append(list, *b1)
		}
	}
	if len(list) >= count {
		return list
	}
	if b0 := at(b.x+b.w, b.y-1); b0 != nil && (b1 == nil || !b0.equals(b1)) {
		list = append(list, *b0)
	}
	if a0 := at(b.x-1, b.y+b.h); a0 != nil && (a1 == nil || !a0.equals(a1)) {
		list = append(list, *a0)
	}
	if len(list) < 4 {
		if b2 := at(b.x-1, b.y-1); b2 != nil && (a1 == nil || !b2.equals(a1)) && (b1 == nil || !b2.equals(b1)) {
			list = append(list, *b2)
		}
	}
	return list
}

// combinations are l0CandIdx and l1CandIdx (table 8-8).
var combinations = [12][2]int{{0, 1}, {1, 0}, {0, 2}, {2, 0}, {1, 2}, {2, 1}, {0, 3}, {3, 0}, {1, 3}, {3, 1}, {2, 3}, {3, 2}}

// combined appends candidates that combine the lists of two others (8.5.3.2.4).
func (w *worker[T]) combined(list []blockMotion) []blockMotion {
	n := len(list)
	for i := 0; i < n*(n-1) && len(list) < w.h.maxMerge; i++ {
		a, b := list[combinations[i][0]], list[combinations[i][1]]
		if a.ref[0] < 0 || b.ref[1] < 0 {
			continue
		}
		if w.lists[0].poc[a.ref[0]] != w.lists[1].poc[b.ref[1]] || a.mv[0] != b.mv[1] {
			list = append(list, blockMotion{mv: [2]motion.Vector{a.mv[0], b.mv[1]}, ref: [2]int8{a.ref[0], b.ref[1]}})
		}
	}
	return list
}

// temporal derives a vector from the collocated picture (8.5.3.2.8).
func (w *worker[T]) temporal(b *block, ref, list int) (v motion.Vector, ok bool) {
	h, s := w.h, w.sps
	from := 0
	if h.collocatedL1 {
		from = 1
	}
	col := w.lists[from].refs[h.collocated]
	if col == nil || col.motion == nil {
		return v, false
	}
	x, y := b.x+b.w, b.y+b.h
	if b.yCb>>s.ctb == y>>s.ctb && y < s.height && x < s.width {
		if v, ok = w.collocated(col, x>>4<<4, y>>4<<4, ref, list); ok {
			return v, true
		}
	}
	return w.collocated(col, (b.x+b.w>>1)>>4<<4, (b.y+b.h>>1)>>4<<4, ref, list)
}

// collocated derives a vector from a place in the collocated picture (8.5.3.2.9).
func (w *worker[T]) collocated(col *frame, x, y, ref, list int) (v motion.Vector, ok bool) {
	col.Await(wholeFrame, int32(y))
	m := &col.motion[y>>2*col.stride4+x>>2]
	if m.intra() {
		return v, false
	}
	from := list
	switch {
	case m.ref[0] < 0:
		from = 1
	case m.ref[1] < 0:
		from = 0
	case !w.noBackward:
		from = 1
		if w.h.collocatedL1 {
			from = 0
		}
	}
	lists := &col.lists[col.sliceOf[y>>w.sps.ctb*w.sps.ctbWidth+x>>w.sps.ctb]]
	i := m.ref[from]
	long := lists[from].long[i]
	if long != w.lists[list].long[ref] {
		return v, false
	}
	colDiff := int32(col.poc) - lists[from].poc[i]
	diff := int32(w.f.poc) - w.lists[list].poc[ref]
	v = m.mv[from]
	if long || colDiff == diff || colDiff == 0 {
		return v, true
	}
	return scaleMV(v, colDiff, diff), true
}

// scaleMV scales a vector by the ratio of two distances (8-183 to 8-187).
func scaleMV(v motion.Vector, from, to int32) motion.Vector {
	td, tb := max(-128, min(from, 127)), max(-128, min(to, 127))
	tx := (16384 + motion.Abs32(td)>>1) / td
	factor := max(-4096, min((tb*tx+32)>>6, 4095))
	one := func(c int16) int16 {
		p := factor * int32(c)
		r := (motion.Abs32(p) + 127) >> 8
		if p < 0 {
			r = -r
		}
		return int16(max(-32768, min(r, 32767)))
	}
	return motion.Vector{X: one(v.X), Y: one(v.Y)}
}

// predictMV derives the predictors of a vector (8.5.3.2.6), at least the first count.
func (w *worker[T]) predictMV(b *block, list, ref, count int) (candidates [2]motion.Vector) {
	var a, c motion.Vector
	var hasA, hasB bool
	left := [2]*blockMotion{w.neighbour(b, b.x-1, b.y+b.h), w.neighbour(b, b.x-1, b.y+b.h-1)}
	above := [3]*blockMotion{w.neighbour(b, b.x+b.w, b.y-1), w.neighbour(b, b.x+b.w-1, b.y-1), w.neighbour(b, b.x-1, b.y-1)}
	scaled := left[0] != nil || left[1] != nil
	for _, m := range left {
		if !hasA && m != nil {
			a, hasA = w.sameRef(m, list, ref)
		}
	}
	for _, m := range left {
		if !hasA && m != nil {
			a, hasA = w.otherRef(m, list, ref)
		}
	}
	for _, m := range above {
		if !hasB && m != nil {
			c, hasB = w.sameRef(m, list, ref)
		}
	}
	if !scaled {
		if hasB {
			a, hasA = c, true
		}
		hasB = false
		for _, m := range above {
			if !hasB && m != nil {
				c, hasB = w.otherRef(m, list, ref)
			}
		}
	}
	n := 0 // what is missing is zero
	if hasA {
		candidates[n], n = a, n+1
	}
	if hasB && !(hasA && a == c) {
		candidates[n], n = c, n+1
	}
	if n < count && w.h.temporalMVP {
		if v, ok := w.temporal(b, ref, list); ok {
			candidates[n] = v
		}
	}
	return candidates
}

// sameRef returns the vector of a neighbour that points to the same picture.
func (w *worker[T]) sameRef(m *blockMotion, list, ref int) (motion.Vector, bool) {
	poc := w.lists[list].poc[ref]
	for _, l := range [2]int{list, 1 - list} {
		if i := m.ref[l]; i >= 0 && w.lists[l].poc[i] == poc {
			return m.mv[l], true
		}
	}
	return motion.Vector{}, false
}

// otherRef returns the vector of a neighbour that points to another picture, scaled.
func (w *worker[T]) otherRef(m *blockMotion, list, ref int) (motion.Vector, bool) {
	long := w.lists[list].long[ref]
	for _, l := range [2]int{list, 1 - list} {
		i := m.ref[l]
		if i < 0 || w.lists[l].long[i] != long {
			continue
		}
		v := m.mv[l]
		from, to := int32(w.f.poc)-w.lists[l].poc[i], int32(w.f.poc)-w.lists[list].poc[ref]
		if long || from == to || from == 0 {
			return v, true
		}
		return scaleMV(v, from, to), true
	}
	return motion.Vector{}, false
}
