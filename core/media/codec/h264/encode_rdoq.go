package h264

import (
	"math"
	mathbits "math/bits"

	"vividstrain/core/media/codec/motion"
)

// binCosts are the bits of a bin by a context's state, in the unit of rdoqLambda: -log2 of the
// probability. That of the least probable symbol is pLPS = 0.5 * (0.01875/0.5)^(pStateIdx/63)
// (D. Marpe, H. Schwarz, T. Wiegand: Context-Based Adaptive Binary Arithmetic Coding in the
// H.264/AVC Video Compression Standard, 2003).
var binCosts = func() (t [128][2]int32) {
	for s := range t {
		least := 0.5 * math.Pow(0.01875/0.5, float64(s>>1)/63)
		t[s][s&1] = int32(-rdoqLambda*math.Log2(1-least) + 0.5)
		t[s][1-s&1] = int32(-rdoqLambda*math.Log2(least) + 0.5)
	}
	return t
}()

// rdoq is rate-distortion optimised quantisation of one block. From the last coefficient to the
// first it keeps a level or lowers it by one, whichever has the smaller cost D + lambda*R: D is the
// squared error in 1/4096 of the squared quantiser step, R the bits of the CABAC bins in their
// present states (9.3.3.1.3).
type rdoq struct {
	state *[512]uint8 // of the contexts
	flags *significanceFlags
	abs   int   // the first context of coeff_abs_level_minus1
	first uint8 // index in the scan of the first coefficient that is sent
	size  int   // how many are sent
	coef  [64]int32
	// scaled are the magnitudes in scan order, in 1/64 of the quantiser step.
	scaled [64]int32
	// What is known of the coefficients after the present one, which are sent before it.
	nonZero    uint64
	ones, more int // magnitudes of 1, and above
}

// run chooses among the levels of a block, in place. levels are in raster order, rounded to nearest;
// c are the coefficients that they were made of. Bit i of nonZero is set where levels[i] is not 0;
// the result is the same after the choice.
func (w *rdoq) run(levels, c, factors []int32, shift uint, scan, order []uint8, nonZero uint64) (left uint64) {
	w.nonZero, w.ones, w.more = 0, 1, 0
	near := uint64(0)
	for rest := nonZero; rest != 0; rest &= rest - 1 {
		at := mathbits.TrailingZeros64(rest)
		i := (order[at] - w.first) & 63
		near |= 1 << i
		w.scaled[i] = int32(uint32(motion.Abs32(c[at])*factors[at]) >> (shift - 6))
	}
	for near != 0 {
		i := 63 - mathbits.LeadingZeros64(near)
		near &^= 1 << i
		at := scan[i+int(w.first)]
		level := w.chooseLevel(i, near)
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

// chooseLevel returns the level at index i of the scan. Bit k of before is set where index k < i may
// have a level, too.
func (w *rdoq) chooseLevel(i int, before uint64) int32 {
	level := (w.scaled[i] + 32) >> 6
	sig, last := w.flags.at(i)
	there, none := int32(0), int32(0) // of the flags
	if i < w.size-1 {
		there = w.binCost(sig, 1) + w.binCost(last, oneIf(w.nonZero == 0))
	}
	if w.nonZero != 0 {
		none = w.binCost(sig, 0)
	} else { // as the last level it needs the flags of all before it
		for k := 64 - mathbits.LeadingZeros64(before); k < i; k++ {
			sig, _ := w.flags.at(k)
			there += w.binCost(sig, 0)
		}
	}
	high := w.distortion(i, level) + there + w.levelCost(level)
	low := w.distortion(i, level-1)
	if level > 1 {
		low += there + w.levelCost(level-1)
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
		w.nonZero |= 1 << i
	}
	return level
}

// binCost is the cost of a bin; ctx is the context shifted left by one, as in the queue.
func (w *rdoq) binCost(ctx uint16, bin int) int32 { return binCosts[w.state[ctx>>1&511]&127][bin&1] }

// distortion is the squared error of a level at index i of the scan.
func (w *rdoq) distortion(i int, level int32) int32 {
	difference := w.scaled[i] - 64*level
	return difference * difference
}

// levelCost is the cost of coeff_abs_level_minus1 and the sign (9.3.3.1.3).
func (w *rdoq) levelCost(level int32) int32 {
	sum := int32(rdoqLambda) + w.binCost(uint16(w.abs+w.ones)<<1, oneIf(level > 1))
	if level > 1 {
		ctx := uint16(w.abs+5+min(4, w.more)) << 1
		sum += min(level-2, 13)*w.binCost(ctx, 1) + w.binCost(ctx, 0)
	}
	return sum
}
