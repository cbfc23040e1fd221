package hevc

import "vividstrain/core/media/codec/motion"

// filterPicture carries out the loop filters on the reconstructed picture, with the offsets that bring
// each coding tree block nearest to the source.
func (c *blockEncoder[T]) filterPicture() {
	rows := c.sps.ctbHeight
	if !c.h.deblockOff {
		for cy := range rows {
			c.deblock(cy)
		}
	}
	if c.h.saoLuma, c.h.saoC = false, false; !c.sps.sao {
		return
	}
	for cy := range rows {
		for cx := range c.sps.ctbWidth {
			c.chooseSAO(cx, cy)
		}
	}
	if c.h.saoLuma || c.h.saoC {
		for cy := range rows {
			c.worker.sao(cy)
		}
	}
}

// saoStatistics are the sums of differences to the source, and their numbers, of a coding tree block by
// edge class and edgeIdx (8.7.3.2) before its order is changed.
type saoStatistics [4][5]struct{ sum, count int32 }

// chooseSAO chooses edge offsets of a coding tree block, or none.
func (c *blockEncoder[T]) chooseSAO(cx, cy int) {
	rs := cy*c.sps.ctbWidth + cx
	p := &c.st.sao[rs]
	*p = saoParams{}
	for first := 0; first < c.sps.chroma.Planes(); first += 1 + first { // luma, then both planes of chroma
		last := 2 * first
		for plane := first; plane <= last; plane++ {
			c.collect(cx, cy, plane)
		}
		best := -c.saoLambda * 4 // what it takes to say so
		for class := range 4 {
			gain, offsets := 0.0, [3][4]int16{}
			for plane := first; plane <= last; plane++ {
				gain += c.edgeOffsets(plane, class, &offsets[plane])
			}
			if gain+best > 0 {
				best = -gain
				for plane := first; plane <= last; plane++ {
					p.kind[plane], p.class[plane], p.offset[plane] = 2, uint8(class), offsets[plane]
				}
			}
		}
	}
	c.h.saoLuma = c.h.saoLuma || p.kind[0] != 0
	c.h.saoC = c.h.saoC || p.kind[1] != 0
}

// edgeOffsets returns the offsets of an edge class that lower the squared error most for their bits, and
// by how much.
func (c *blockEncoder[T]) edgeOffsets(plane, class int, offsets *[4]int16) (gain float64) {
	most := int32(1)<<(min(c.depths[plane], 10)-5) - 1
	for i, category := range [4]int{0, 1, 3, 4} {
		s := &c.saoStats[plane][class][category]
		if s.count == 0 {
			continue
		}
		sign, sum := int32(1), s.sum
		if i >= 2 { // peaks are lowered, valleys are raised
			sign, sum = -1, -sum
		}
		best := c.saoLambda // of no offset
		for o := min((sum+s.count/2)/s.count, most); o > 0; o-- {
			if g := float64(2*o*sum-o*o*s.count) - c.saoLambda*float64(o+1); g+best > 0 {
				best, offsets[i] = -g, int16(sign*o)
			}
		}
		gain -= best
	}
	return gain
}

// collect fills the statistics of a plane of a coding tree block.
func (c *blockEncoder[T]) collect(cx, cy, plane int) {
	st, p, src := &c.saoStats[plane], &c.planes[plane], c.source[plane]
	*st = saoStatistics{}
	size := 1 << c.sps.ctb
	x0, y0 := cx*size>>c.shiftX[plane], cy*size>>c.shiftY[plane]
	x1, y1 := min(x0+size>>c.shiftX[plane], c.widths[plane]-1), min(y0+size>>c.shiftY[plane], c.heights[plane]-1)
	x0, y0 = max(x0, 1), max(y0, 1)
	if x0 >= x1 {
		return
	}
	for y := y0; y < y1; y++ {
		at := y*p.stride + x0
		collectRow(st, p.pix[at-p.stride-1:], p.pix[at-1:], p.pix[at+p.stride-1:], src[at:][:x1-x0])
	}
}

// collectRow adds a row of samples to the statistics. The rows above, at and below begin one sample
// before those of the source.
func collectRow[T motion.Sample](st *saoStatistics, above, row, below, src []T) {
	n := len(src)
	above, row, below = above[:n+2], row[:n+2], below[:n+2]
	for x, s := range src {
		v := int32(row[x+1])
		d := int32(s) - v
		for class, pair := range [4][2]T{{row[x], row[x+2]}, {above[x+1], below[x+1]}, {above[x], below[x+2]}, {above[x+2], below[x]}} {
			e := &st[class][2+sign(v-int32(pair[0]))+sign(v-int32(pair[1]))]
			e.sum += d
			e.count++
		}
	}
}
