package hevc

// writeSlice writes the data of the picture's slice after its header (7.3.8.1).
func (c *blockEncoder[T]) writeSlice(header []byte) []byte {
	initContexts(&c.states, c.h)
	c.out.Start(&c.states, header)
	n := c.sps.ctbWidth * c.sps.ctbHeight
	for rs := range n {
		cx, cy := rs%c.sps.ctbWidth, rs/c.sps.ctbWidth
		c.enter(cx, cy)
		c.out.MakeRoom()
		if c.h.saoLuma || c.h.saoC {
			c.writeSAO(cx, cy)
		}
		c.writeTree(cx<<c.sps.ctb, cy<<c.sps.ctb, c.sps.ctb, 0)
		c.out.Terminate(oneIf(rs == n-1))
	}
	return c.out.Out
}

// flag writes a bin with a context.
func (c *blockEncoder[T]) flag(ctx int, v bool) { c.out.Decision(ctx, oneIf(v)) }

// bypass writes a bin without a context.
func (c *blockEncoder[T]) bypass(v bool) { c.out.Bypass(oneIf(v)) }

func oneIf(v bool) int {
	if v {
		return 1
	}
	return 0
}

// fixed writes the low n bits of v without contexts.
func (c *blockEncoder[T]) fixed(v, n int) {
	for n--; n >= 0; n-- {
		c.out.Bypass(v >> n & 1)
	}
}

// writeSAO writes sao (7.3.8.3).
func (c *blockEncoder[T]) writeSAO(cx, cy int) {
	rs := cy*c.sps.ctbWidth + cx
	p := &c.st.sao[rs]
	if cx > 0 {
		left := *p == c.st.sao[rs-1]
		if c.flag(ctxSaoMerge, left); left {
			return
		}
	}
	if cy > 0 {
		above := *p == c.st.sao[rs-c.sps.ctbWidth]
		if c.flag(ctxSaoMerge, above); above {
			return
		}
	}
	for plane := range c.sps.chroma.Planes() {
		if plane == 0 && !c.h.saoLuma || plane > 0 && !c.h.saoC {
			continue
		}
		if plane < 2 {
			if c.flag(ctxSaoType, p.kind[plane] != 0); p.kind[plane] != 0 {
				c.out.Bypass(int(p.kind[plane]) - 1)
			}
		}
		if p.kind[plane] == 0 {
			continue
		}
		most := 1<<(min(c.depths[plane], 10)-5) - 1
		for _, o := range p.offset[plane] {
			for range abs(int(o)) {
				c.out.Bypass(1)
			}
			if abs(int(o)) < most {
				c.out.Bypass(0)
			}
		}
		if plane < 2 {
			c.fixed(int(p.class[plane]), 2)
		}
	}
}

// writeTree writes coding_quadtree (7.3.8.4).
func (c *blockEncoder[T]) writeTree(x, y, log2, depth int) {
	split, inside := false, c.inside(x, y, 1<<log2)
	if log2 > c.sps.minCb {
		split = !inside || int(c.st.depth[c.cb(x, y)]) > depth
	}
	if inside && log2 > c.sps.minCb {
		c.flag(ctxSplitCU+c.deeper(x, y, depth), split)
	}
	if !split {
		c.writeUnit(x, y, log2)
		return
	}
	c.eachQuarter(x, y, log2, 0, func(x, y, log2, _ int) { c.writeTree(x, y, log2, depth+1) })
}

// writeUnit writes coding_unit (7.3.8.5).
func (c *blockEncoder[T]) writeUnit(x, y, log2 int) {
	c.out.MakeRoom()
	at := c.cb(x, y)
	u, skip := &c.units[at], c.st.skip[at]
	c.cuIntra, c.cuLog2 = c.st.intraCU[at], log2
	b := block{xCb: x, yCb: y, nCb: 1 << log2, x: x, y: y, w: 1 << log2, h: 1 << log2}
	if c.h.kind != sliceI {
		if c.flag(ctxSkip+c.skipped(x, y), skip); skip {
			c.writeMerge(u)
			return
		}
		c.flag(ctxPredMode, c.cuIntra)
	}
	if !c.cuIntra || log2 == c.sps.minCb {
		c.flag(ctxPartMode, !u.nxn) // the whole block is one partition
	}
	if c.cuIntra {
		c.writeModes(u, x, y, log2)
	} else {
		c.writePrediction(u, &b, &c.f.motion[y>>2*c.f.stride4+x>>2])
		if !u.merge {
			if c.flag(ctxRootCbf, u.coded); !u.coded {
				return
			}
		}
	}
	c.writeTransforms(x, y, log2, 0, [2][2]bool{{true}, {true}})
}

// writeMerge writes merge_idx.
func (c *blockEncoder[T]) writeMerge(u *codingUnit) {
	for i := range c.h.maxMerge - 1 {
		more := int(u.mergeIdx) > i
		if i == 0 {
			c.flag(ctxMergeIdx, more)
		} else {
			c.bypass(more)
		}
		if !more {
			return
		}
	}
}

// writePrediction writes prediction_unit (7.3.8.6).
func (c *blockEncoder[T]) writePrediction(u *codingUnit, b *block, m *blockMotion) {
	if c.flag(ctxMergeFlag, u.merge); u.merge {
		c.writeMerge(u)
		return
	}
	if c.h.kind == sliceB {
		both := m.ref[0] >= 0 && m.ref[1] >= 0
		if c.flag(ctxInterDir+c.sps.ctb-log2Of(b.nCb), both); !both {
			c.flag(ctxInterDir+4, m.ref[1] >= 0)
		}
	}
	for l := range 2 {
		if m.ref[l] < 0 {
			continue
		}
		c.writeReference(int(m.ref[l]), c.h.refs[l])
		c.writeDifference(u.delta[l])
		c.flag(ctxMVPFlag, u.predictor[l] != 0)
	}
}

// writeReference writes ref_idx of a list of n references.
func (c *blockEncoder[T]) writeReference(ref, n int) {
	for i := range n - 1 {
		more := ref > i
		if i < 2 {
			c.flag(ctxRefIdx+i, more)
		} else {
			c.bypass(more)
		}
		if !more {
			return
		}
	}
}

// writeModes writes the intra modes of a coding unit.
func (c *blockEncoder[T]) writeModes(u *codingUnit, x, y, log2 int) {
	n, size := 1, 1<<log2
	if u.nxn {
		n, size = 4, size>>1
	}
	var index, rest [4]int
	for i := range n {
		bx, by := x+size*(i&1), y+size*(i>>1)
		index[i], rest[i] = codeMode(c.modeCandidates(bx, by), c.lumaModeAt(bx, by))
		c.flag(ctxPrevIntra, index[i] >= 0)
	}
	for i := range n {
		switch index[i] {
		case 0:
			c.out.Bypass(0)
		case 1, 2:
			c.fixed(index[i]+1, 2)
		default:
			c.fixed(rest[i], 5)
		}
	}
	if c.sps.hasChroma() {
		c.flag(ctxChromaMode, false) // the mode of luma
	}
}

// codeMode returns mpm_idx of a mode, or -1 and rem_intra_luma_pred_mode (8.4.2).
func codeMode(candidates [3]int, mode int) (index, rest int) {
	rest = mode
	for i, m := range candidates {
		if m == mode {
			return i, 0
		}
		if m < mode {
			rest--
		}
	}
	return -1, rest
}

// writeTransforms writes transform_tree and transform_unit (7.3.8.8, 7.3.8.10). parent are the flags of
// the chroma blocks around.
func (c *blockEncoder[T]) writeTransforms(x, y, log2, depth int, parent [2][2]bool) {
	t := c.transform(x, y)
	split, most := int(t.log2) < log2, c.sps.depthInter
	if c.cuIntra {
		most = c.sps.depthIntra
	}
	if depth < most && log2 > c.sps.minTb {
		c.flag(ctxSplitTU+5-log2, split)
	}
	flags := parent
	if log2 > 2 && c.sps.hasChroma() {
		flags = c.chromaFlags(x, y, log2)
		for plane := range flags {
			if !parent[plane][0] && !parent[plane][1] {
				continue
			}
			if whole := !split || log2 == 3; c.tall() && whole {
				c.flag(ctxCbfChroma+depth, flags[plane][0])
				c.flag(ctxCbfChroma+depth, flags[plane][1])
			} else {
				c.flag(ctxCbfChroma+depth, flags[plane][0] || flags[plane][1])
			}
		}
	}
	if split {
		half := 1 << (log2 - 1)
		for i := range 4 {
			c.writeTransforms(x+half*(i&1), y+half*(i>>1), log2-1, depth+1, flags)
		}
		if log2 == 3 {
			c.writeChroma(flags, x, y, log2)
		}
		return
	}
	luma := c.st.cbf[y>>2*c.st.stride4+x>>2]
	if c.cuIntra || depth > 0 || flags != [2][2]bool{} {
		c.flag(ctxCbfLuma+oneIf(depth == 0), luma)
	}
	if luma {
		c.predMode = c.lumaModeAt(x, y)
		c.writeResidual(x, y, log2, 0)
	}
	if log2 > 2 {
		c.writeChroma(flags, x, y, log2)
	}
}

// chromaFlags returns which chroma blocks of a part of a transform tree have coefficients.
func (c *blockEncoder[T]) chromaFlags(x, y, log2 int) (flags [2][2]bool) {
	t := c.transform(x, y)
	if int(t.log2) == log2 || log2 == 3 {
		return t.chroma
	}
	half := 1 << (log2 - 1)
	for i := range 4 {
		part := c.chromaFlags(x+half*(i&1), y+half*(i>>1), log2-1)
		for plane := range flags {
			flags[plane][0] = flags[plane][0] || part[plane][0] || part[plane][1]
		}
	}
	return flags
}

// writeChroma writes the levels of the chroma blocks at a luma place.
func (c *blockEncoder[T]) writeChroma(flags [2][2]bool, x, y, log2 int) {
	c.predMode = c.chromaModeOf(c.lumaModeAt(x>>c.cuLog2<<c.cuLog2, y>>c.cuLog2<<c.cuLog2)) // that of the unit's first block
	for plane, list := range flags {
		for i, coded := range list {
			if coded {
				half := log2 - c.shiftX[1]
				c.writeResidual(x>>c.shiftX[1], y>>c.shiftY[1]+i<<half, half, plane+1)
			}
		}
	}
}
