package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// binCosts are what a bin costs in a context's state, in the unit of toll: of the
// least probable symbol -log2(pLPS), of which pLPS = 0.5 * (0.01875/0.5)^(pStateIdx/63)
// (9.3.1.2, from D. Marpe et al., Context-Based Adaptive Binary Arithmetic Coding in
// the H.264/AVC Video Compression Standard, 2003).
var binCosts = func() (t [128][2]int32) {
	for s := range t {
		least := 0.5 * math.Pow(0.01875/0.5, float64(s>>1)/63)
		t[s][s&1] = int32(-tollOfBit*math.Log2(1-least) + 0.5)
		t[s][1-s&1] = int32(-tollOfBit*math.Log2(least) + 0.5)
	}
	return t
}()

// weigher finds levels of which the loss and the bits that CABAC takes for them are
// least together.
type weigher struct {
	state *[512]uint8
	flags *flags
	abs   int   // the first context of coeff_abs_level_minus1
	first uint8 // place of the scan that is sent
	size  int   // how many are
	coef  [64]int32
	x     [64]int32 // coefficients by the scan, in 1/64 of a quantiser's step
	// What is known of the levels behind, which are sent first.
	has        uint64
	ones, more int
}

// weigh goes through the levels of a block, of which has tells those that are not 0,
// and takes each as it is, the nearest one, or the next one down, from the last one on.
// It tells which are left. Coefficients c are what levels were made of.
func (w *weigher) weigh(levels, c, factors []int32, shift uint, scan, order []uint8, has uint64) (left uint64) {
	w.has, w.ones, w.more = 0, 1, 0
	near := uint64(0)
	for rest := has; rest != 0; rest &= rest - 1 {
		at := mathbits.TrailingZeros64(rest)
		i := (order[at] - w.first) & 63
		near |= 1 << i
		w.x[i] = int32(uint32(motion.Abs32(c[at])*factors[at]) >> (shift - 6))
	}
	for near != 0 {
		i := 63 - mathbits.LeadingZeros64(near)
		near &^= 1 << i
		at := scan[i+int(w.first)]
		level := w.choose(i, near)
		if level > 0 {
			left |= 1 << at
		}
		if levels[at] < 0 {
			level = -level
		}
		levels[at] = level
	}
	return left
}

// choose finds the level at place i of the scan; before tells which places before it
// may have levels, too.
func (w *weigher) choose(i int, before uint64) int32 {
	level := (w.x[i] + 32) >> 6
	sig, last := w.flags.at(i)
	there, none := int32(0), int32(0) // of the flags
	if i < w.size-1 {
		there = w.cost(sig, 1) + w.cost(last, oneIf(w.has == 0))
	}
	if w.has != 0 {
		none = w.cost(sig, 0)
	} else { // up to here flags are sent for its sake alone
		for k := 64 - mathbits.LeadingZeros64(before); k < i; k++ {
			sig, _ := w.flags.at(k)
			there += w.cost(sig, 0)
		}
	}
	high := w.loss(i, level) + there + w.levelBits(level)
	low := w.loss(i, level-1)
	if level > 1 {
		low += there + w.levelBits(level-1)
	} else {
		low += none
	}
	if low < high {
		level--
	}
	switch {
	case level == 1:
		w.ones = int(onesAfter[w.ones&7])
	case level > 1:
		w.ones = 0
		w.more++
	}
	if level > 0 {
		w.has |= 1 << i
	}
	return level
}

// cost is that of a bin, given as flags are.
func (w *weigher) cost(ctx uint16, bin int) int32 { return binCosts[w.state[ctx>>1&511]&127][bin&1] }

// loss is what level gives away.
func (w *weigher) loss(i int, level int32) int32 {
	far := w.x[i] - 64*level
	return far * far
}

// levelBits is what coeff_abs_level_minus1 and the sign of a level cost (9.3.3.1.3).
func (w *weigher) levelBits(level int32) int32 {
	sum := int32(tollOfBit) + w.cost(uint16(w.abs+w.ones)<<1, oneIf(level > 1))
	if level > 1 {
		ctx := uint16(w.abs+5+min(4, w.more)) << 1
		sum += min(level-2, 13)*w.cost(ctx, 1) + w.cost(ctx, 0)
	}
	return sum
}
