package h264

import "vividstrain/core/media/codec/motion"

// fastKernels returns the fastest kernels for 8-bit samples.
func fastKernels() kernels[uint8] {
	k := goKernels[uint8]()
	k.BlockKernels = motion.FastBlockKernels()
	k.across = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		acrossFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+5, h), step, w, h)
	}
	k.down = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		downFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w, h+5), step, w, h)
	}
	k.center = func(dst []uint8, stride int, src []uint8, step, w, h int, _ int32) {
		centerFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+5, h+5), step, w, h)
	}
	k.bilinear = func(dst []uint8, stride int, src []uint8, step, w, h, dx, dy int) {
		bilinearFast(motion.First(dst, stride, w, h), stride, motion.First(src, step, w+1, h+1), step, w, h, dx, dy)
	}
	k.add4 = func(dst []uint8, stride int, c *[16]int32, _ int32) {
		add4Fast(motion.First(dst, stride, 4, 4), stride, &c[0])
	}
	k.add8 = func(dst []uint8, stride int, c *[64]int32, _ int32) {
		add8Fast(motion.First(dst, stride, 8, 8), stride, &c[0])
	}
	k.addDC = func(dst []uint8, stride, size int, c *int32, _ int32) {
		v := (*c + 32) >> 6
		*c = 0
		addDCFast(motion.First(dst, stride, size, size), stride, size, int(min(max(v, 0), 255)), int(min(max(-v, 0), 255)))
	}
	k.addDCs = func(dst []uint8, stride int, dcs *[16]int16, _ int32) {
		addDCsFast(motion.First(dst, stride, 16, 16), stride, &dcs[0])
	}
	k.lumaEdge = lumaEdges[uint8]([2][2]lumaFilter{{lumaRowFast, lumaRowStrongFast}, {lumaColumnFast, lumaColumnStrongFast}})
	k.chromaEdges = bothChromaEdges[uint8]([2][2]chromaFilter{{chromaRowFast, chromaRowStrongFast}, {chromaColumnFast, chromaColumnStrongFast}})
	return k
}

// fastWideKernels returns the kernels for two-byte samples.
func fastWideKernels() kernels[uint16] { return goKernels[uint16]() }

// fastEncodeKernels returns the fastest kernels for 8-bit samples.
func fastEncodeKernels() encodeKernels[uint8] {
	k := goEncodeKernels[uint8]()
	k.DistanceKernels = motion.FastDistanceKernels()
	k.satdEach = func(src []uint8, stride int, preds *predictions[uint8], n int, costs *modeCosts) {
		for mode := range 9 {
			costs[mode] = int32(k.SATD(src, stride, preds[mode*n*n:], n, n, n))
		}
	}
	return k
}

// fastWideEncodeKernels returns the kernels for two-byte samples.
func fastWideEncodeKernels() encodeKernels[uint16] { return goEncodeKernels[uint16]() }

// fastQueueFlags returns queueFlags.
func fastQueueFlags() func(queue []uint16, f *significanceFlags, nonZero uint64, end int) {
	return queueFlags
}
