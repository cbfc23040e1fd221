package h264

import "vividstrain/core/media/codec/motion"

// writeSkip writes a macroblock that nothing is sent for.
func (w *sliceWriter) writeSkip() {
	w.skip(true)
	w.d.lastDQ = false
}

// writeMacroblock writes the current macroblock (7.3.5), which is in the
// decoder's state but for its levels, its quantiser and its motion.
func (w *sliceWriter) writeMacroblock(l *levels, qp int, o *choice) {
	d := w.d
	w.skip(false)
	switch d.mb.kind {
	case kind16x16:
		t := 1 + d.mode16 + int(d.mb.cbp>>4)*4
		if d.mb.cbp&15 != 0 {
			t += 12
		}
		w.mbTypeIntra(t)
		w.writeChromaMode()
	case kindIntra:
		w.mbTypeIntra(0)
		if d.h.pps.transform8x8 {
			w.transform8Flag(d.mb.transform8)
		}
		w.writeModes()
		w.writeChromaMode()
		w.codedBlockPattern(int(d.mb.cbp))
	default:
		w.writeInter(o)
	}
	if d.mb.cbp == 0 && d.mb.kind != kind16x16 {
		d.lastDQ = false
		d.mb.numbers = edgeNumbers{}
		d.storeQP()
		return
	}
	w.qpDelta(qp - d.qp)
	d.setQP(qp - d.qp)
	w.residual(l)
}

func (w *sliceWriter) writeChromaMode() {
	if w.d.h.sps.chroma.Planes() == 3 {
		w.intraChromaMode(int(w.d.mb.chromaMode))
	}
}

// writeModes writes the prediction modes of Intra_4x4 and Intra_8x8.
func (w *sliceWriter) writeModes() {
	d := w.d
	d.loadModes()
	step := 1
	if d.mb.transform8 {
		step = 4
	}
	for i, at := range cacheAt {
		d.modes[at] = d.mb.modes[i]
	}
	for k := 0; k < 16; k += step {
		at := cacheAt[blockOf[k]]
		predicted := min(d.modes[at-1], d.modes[at-cacheStep])
		if predicted < 0 {
			predicted = 2
		}
		w.intraMode(predicted, d.modes[at])
	}
}

// writeInter writes the prediction of a P or B macroblock (7.3.5.1, 7.3.5.2).
func (w *sliceWriter) writeInter(o *choice) {
	d := w.d
	lists := 1
	if d.h.kind == sliceB {
		lists = 2
	}
	d.loadDifferences(lists)
	switch {
	case o.direct == 15:
		d.mb.direct16 = true
		d.clearDifferences()
		w.mbTypeInter(0)
	case o.shape == part8x8:
		w.write8x8(lists, o)
	case o.shape == part16x16:
		w.mbTypeInter(int(o.lists[0]) * oneIf(d.h.kind == sliceB))
		w.writeWhole(lists, o.lists[0])
	case d.h.kind == sliceP:
		w.mbTypeInter(int(o.shape))
		w.writeParts(lists, o)
	default:
		for i, uses := range partsB {
			if uses == [2]uint8{o.lists[0], o.lists[3]} {
				w.mbTypeInter(4 + 2*i + int(o.shape-part16x8))
			}
		}
		w.writeParts(lists, o)
	}
	w.codedBlockPattern(int(d.mb.cbp))
	if d.mb.cbp&15 != 0 && d.h.pps.transform8x8 {
		w.transform8Flag(d.mb.transform8)
	}
}

// writeWhole writes references and vectors of a macroblock that is one part.
func (w *sliceWriter) writeWhole(lists int, uses uint8) {
	d := w.d
	for l := range lists {
		if uses>>l&1 != 0 {
			w.writeRef(l, 0, d.mv.ref[l][0])
		}
	}
	for l := range lists {
		x, y := 0, 0
		if uses>>l&1 != 0 {
			x, y = w.writeDifference(l, cacheFirst, d.mv.mv[l][0], d.predict(l, 0, 4, d.mv.ref[l][0]))
		}
		if d.h.pps.cabac {
			d.setWholeDifference(l, difference(x, y))
		}
	}
}

// writeParts writes references and vectors of two parts.
func (w *sliceWriter) writeParts(lists int, o *choice) {
	d := w.d
	uses := [2]uint8{o.lists[0], o.lists[3]}
	for l := range lists {
		for i, p := range parts[o.shape-part16x8] {
			ref := int8(0)
			if uses[i]>>l&1 != 0 {
				ref = d.ref[l][cacheAt[p[0]]]
				w.writeRef(l, p[0], ref)
			}
			d.setRefCtx(l, p[0], p[1], p[2], ref)
		}
	}
	for l := range lists {
		for i, p := range parts[o.shape-part16x8] {
			if uses[i]>>l&1 == 0 {
				d.setDifference(l, p[0], p[1], p[2], [2]uint8{})
				continue
			}
			w.writeVector(l, p[0], p[1], p[2], d.predictPart(o.shape, l, i, d.ref[l][cacheAt[p[0]]]))
		}
	}
}

func (w *sliceWriter) writeRef(l, block int, ref int8) {
	if n := w.d.lists[l].n; n > 1 {
		w.refIdx(l, cacheAt[block], n-1, int(ref))
	}
}

// writeVector writes the difference of a part's vector to the predicted one.
func (w *sliceWriter) writeVector(l, block, width, height int, pred motion.Vector) {
	d := w.d
	at := cacheAt[block]
	x, y := w.writeDifference(l, at, d.vec[l][at], pred)
	if d.h.pps.cabac {
		d.setDifference(l, block, width, height, difference(x, y))
	}
}

// writeDifference writes the difference of the vector of a part that begins at place at of the caches.
func (w *sliceWriter) writeDifference(l, at int, v, pred motion.Vector) (x, y int) {
	a, b := w.d.mvd[l][at-1], w.d.mvd[l][at-cacheStep]
	x, y = int(v.X-pred.X), int(v.Y-pred.Y)
	w.mvdComponent(40, int(a[0])+int(b[0]), x)
	w.mvdComponent(47, int(a[1])+int(b[1]), y)
	return x, y
}

// write8x8 writes a macroblock in four sub-macroblocks.
func (w *sliceWriter) write8x8(lists int, o *choice) {
	d := w.d
	if d.h.kind == sliceP {
		w.mbTypeInter(3)
	} else {
		w.mbTypeInter(22)
	}
	for b8 := range 4 {
		switch {
		case d.h.kind == sliceP || o.direct>>b8&1 != 0:
			w.subMbType(0)
		default:
			w.subMbType(int(o.lists[b8]))
		}
	}
	for l := range lists {
		for b8 := range 4 {
			first := b8&1*2 + b8>>1*8
			ref := int8(0)
			if o.direct>>b8&1 != 0 {
				d.setDifference(l, first, 2, 2, [2]uint8{})
			} else if o.lists[b8]>>l&1 != 0 {
				ref = d.ref[l][cacheAt[first]]
				w.writeRef(l, first, ref)
			}
			d.setRefCtx(l, first, 2, 2, ref)
		}
	}
	for l := range lists {
		for b8 := range 4 {
			first := b8&1*2 + b8>>1*8
			switch {
			case o.direct>>b8&1 != 0:
			case o.lists[b8]>>l&1 == 0:
				d.setDifference(l, first, 2, 2, [2]uint8{})
			default:
				w.writeVector(l, first, 2, 2, d.predict(l, first, 2, d.ref[l][cacheAt[first]]))
			}
		}
	}
}
