package hevc

import "sync"

// wave is the progress of rows of coding tree blocks that are decoded beside each other: a block follows
// those above it and above to the right (9.3.1).
type wave struct {
	mu      sync.Mutex
	changed sync.Cond
	rows    []waveRow
}

// waveRow is a row of a wave.
type waveRow struct {
	done   int  // blocks
	failed bool // at block done
	ended  bool // the slice segment ends in it
	// The contexts and statistics after its second block, for the next row, and at its end.
	states, endStates [contexts]uint8
	stats, endStats   [4]uint8
}

// await waits until n blocks of a row are decoded, and reports whether they are.
func (v *wave) await(row, n int) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	r := &v.rows[row]
	for r.done < n && !r.failed && !r.ended {
		v.changed.Wait()
	}
	return r.done >= n
}

// finish ends a row, after done blocks.
func (v *wave) finish(row, done int, failed, ended bool) {
	v.mu.Lock()
	r := &v.rows[row]
	r.done, r.failed, r.ended = done, failed, ended
	v.mu.Unlock()
	v.changed.Broadcast()
}

// wavefront decodes a slice segment whose rows have substreams of their own, if it begins with a row and
// there are threads for it. It reports whether it did.
func (w *worker[T]) wavefront(sl *slice) bool {
	first, width := sl.h.address/w.sps.ctbWidth, w.sps.ctbWidth
	count := len(sl.starts) + 1
	if w.team == nil || !w.pps.sync || sl.h.chromaQPList || w.pps.tiles || count == 1 || sl.h.address%width != 0 || first+count > w.sps.ctbHeight {
		return false
	}
	n := min(count, 1+w.team.Idle())
	if n <= 1 {
		return false
	}
	for len(w.helpers) < n {
		w.helpers = append(w.helpers, &worker[T]{k: w.k})
	}
	v := &wave{rows: make([]waveRow, count)}
	v.changed.L = &v.mu
	w.team.Each(n, count, func(i int) func(row int) {
		h := w.helpers[i]
		h.begin(w.st)
		h.startSlice(&sl.h, sl.number)
		return func(row int) { h.waveRow(v, first, row, sl, w) }
	})
	w.collectWave(v, first)
	return true
}

// waveRow decodes a row; the first one may go on with the contexts that the worker before has.
func (w *worker[T]) waveRow(v *wave, first, row int, sl *slice, before *worker[T]) {
	y, width := first+row, w.sps.ctbWidth
	w.cabac.Start(sl.substream(row))
	w.startQP()
	for x := range width {
		if row > 0 && !v.await(row-1, min(x+2, width)) {
			v.finish(row, x, true, false)
			return
		}
		rs := y*width + x
		w.st.sliceAddr[rs], w.f.sliceOf[rs] = int32(w.h.start), uint16(sl.number)
		if x == 0 {
			w.startWaveRow(v, row, y, before)
		}
		w.codingTreeUnit(x, y)
		if w.failed || w.cabac.Overrun() {
			v.finish(row, x, true, false)
			return
		}
		r := &v.rows[row]
		if x == 1 {
			copy(r.states[:], w.cabac.State[:contexts])
			r.stats = w.stats
		}
		ended := w.cabac.Terminate()
		if ended {
			copy(r.endStates[:], w.cabac.State[:contexts])
			r.endStats = w.stats
		}
		failed := x == width-1 && !ended && !w.cabac.Terminate()
		if v.finish(row, x+1, failed, ended); failed || ended {
			return
		}
	}
}

// collectWave takes over what a wave decoded, up to the end of the slice segment or to the first damage.
func (w *worker[T]) collectWave(v *wave, first int) {
	w.failed = true // unless it ends
	for i := range v.rows {
		r := &v.rows[i]
		w.next = (first+i)*w.sps.ctbWidth + r.done
		if r.done > 1 {
			w.saved, w.savedStats = r.states, r.stats
		}
		if w.failed = !r.ended; r.ended || r.failed {
			w.st.endStates, w.st.endStats = r.endStates, r.endStats
			break
		}
	}
	for rs := w.next; rs < min((first+len(v.rows))*w.sps.ctbWidth, len(w.st.sliceAddr)); rs++ {
		w.forget(rs)
	}
	for y := first; y < w.next/w.sps.ctbWidth; y++ {
		w.filter(y + 1)
	}
}

// forget makes a coding tree block one that did not come.
func (w *worker[T]) forget(rs int) {
	st, s := w.st, w.sps
	x, y := rs%s.ctbWidth<<s.ctb>>2, rs/s.ctbWidth<<s.ctb>>2
	n := min(1<<s.ctb>>2, st.stride4-x)
	for j := y; j < min(y+1<<s.ctb>>2, s.height>>2); j++ {
		at := j*st.stride4 + x
		clear(st.cbf[at:][:n])
		clear(st.edgeV[at:][:n])
		clear(st.edgeH[at:][:n])
	}
	w.setMotion(x<<2, y<<2, n<<2, min(1<<s.ctb, s.height-y<<2), &noMotion)
	x, y, n = x<<2>>s.minCb, y<<2>>s.minCb, min(1<<(s.ctb-s.minCb), st.minCbStride-x<<2>>s.minCb)
	for j := y; j < min(y+1<<(s.ctb-s.minCb), s.height>>s.minCb); j++ {
		at := j*st.minCbStride + x
		clear(st.intraCU[at:][:n])
		clear(st.bypass[at:][:n])
		clear(st.qp[at:][:n])
	}
	st.sliceAddr[rs], w.f.sliceOf[rs] = -1, 0
}

// startWaveRow sets the contexts at the start of a row.
func (w *worker[T]) startWaveRow(v *wave, row, y int, before *worker[T]) {
	switch {
	case row == 0 && !w.h.dependent:
		w.reset()
	case !w.syncAvailable(0, y):
		w.reset()
	case row == 0:
		copy(w.cabac.State[:], before.saved[:])
		w.stats = before.savedStats
	default:
		copy(w.cabac.State[:], v.rows[row-1].states[:])
		w.stats = v.rows[row-1].stats
	}
}
