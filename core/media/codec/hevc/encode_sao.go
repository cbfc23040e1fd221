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
// edge class and category: a valley, one side of it, one side of a peak, a peak.
type saoStatistics [4][8]int32

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
		for class := range c.saoClasses {
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
	for i := range 4 {
		sum, count := c.saoStats[plane][class][2*i], c.saoStats[plane][class][2*i+1]
		if count == 0 {
			continue
		}
		sign := int32(1)
		if i >= 2 { // peaks are lowered, valleys are raised
			sign, sum = -1, -sum
		}
		best := c.saoLambda // of no offset
		for o := min((sum+count/2)/count, most); o > 0; o-- {
			if g := float64(int32(c.saoEvery)*(2*o*sum-o*o*count)) - c.saoLambda*float64(o+1); g+best > 0 {
				best, offsets[i] = -g, int16(sign*o)
			}
		}
		gain -= best
	}
	return gain
}

// collect fills the statistics of a plane of a coding tree block. Samples at the edges of the picture
// count, with neighbours that are none; what does not fill 16 samples in a row does not.
func (c *blockEncoder[T]) collect(cx, cy, plane int) {
	p, size := &c.planes[plane], 1<<c.sps.ctb
	x0, y0 := cx*size>>c.shiftX[plane], max(cy*size>>c.shiftY[plane], 2)
	x1, y1 := min(x0+size>>c.shiftX[plane], c.widths[plane]), min((cy+1)*size>>c.shiftY[plane], c.heights[plane]-1)
	c.saoStats[plane] = saoStatistics{}
	w, at := (x1-x0)&^15, y0*p.stride+x0
	if w == 0 || y0 >= y1 {
		return
	}
	rows, stride := (y1-y0+c.saoEvery-1)/c.saoEvery, c.saoEvery*p.stride
	if line := motion.LineOf[T](); x0&(line-1) == 0 { // so many rows are more than a processor follows by itself
		motion.Prefetch(p.pix, at+line, p.stride, y1-y0)
		motion.Prefetch(c.source[plane], at+line, stride, rows)
	}
	for class, step := range saoSteps[:c.saoClasses] {
		c.k.collect(p.pix, at, stride, c.source[plane][at:], w, rows, step[1]*p.stride+step[0], &c.saoStats[plane][class])
	}
}
