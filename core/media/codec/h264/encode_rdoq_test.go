package h264

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// blockCost is what levels of a block lose and take together, by the syntax of
// 7.3.5.3.3 with contexts that stay as they are.
func blockCost(w *rdoq, levels, c, factors []int32, shift uint, scan []uint8) (sum float64) {
	bit := func(ctx uint16, bin int) {
		s := w.state[ctx>>1]
		least := 0.5 * math.Pow(0.01875/0.5, float64(s>>1)/63)
		if bin == int(s&1) {
			least = 1 - least
		}
		sum -= rdoqLambda * math.Log2(least)
	}
	last := -1
	for i, at := range scan {
		x := float64(motion.Abs32(c[at])) * float64(factors[at]) / float64(int(1)<<shift)
		d := x - float64(motion.Abs32(levels[at]))
		sum += 4096 * d * d
		if levels[at] != 0 {
			last = i
		}
	}
	for i := 0; i <= last && i < len(scan)-1; i++ {
		sig, end := w.flags.at(i)
		there := levels[scan[i]] != 0
		bit(sig, oneIf(there))
		if there {
			bit(end, oneIf(i == last))
		}
	}
	ones, more := 1, 0
	for i := last; i >= 0; i-- {
		level := motion.Abs32(levels[scan[i]])
		if level == 0 {
			continue
		}
		sum += rdoqLambda
		bit(uint16(w.abs+ones)<<1, oneIf(level > 1))
		if level == 1 {
			if ones > 0 {
				ones = min(ones+1, 4)
			}
			continue
		}
		for k := int32(2); k <= min(level, 14); k++ {
			bit(uint16(w.abs+5+min(4, more))<<1, oneIf(k < level))
		}
		ones = 0
		more++
	}
	return sum
}

// Rate-distortion optimised levels cost less than the nearest ones and than those rounded at a
// third, and none is further from its coefficient than a step.
func TestRDOQCostsLess(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	var state [512]uint8
	var weighed, nearest, third float64
	for range 400 {
		for i := range state {
			state[i] = uint8(r.IntN(126))
		}
		cat := []int{cat4x4, catAC16, catChromaAC, cat8x8}[r.IntN(4)]
		c := macroblockEncoder[uint8]{d: &sliceDecoder{}, w: &sliceWriter{}}
		c.d.h = &sliceHeader{structure: framepool.WholeFrame}
		c.w.bins.State = &state
		w := c.rdoqFor(cat)
		q := newQuantiser(r.IntN(52), usualRounding)
		n, factors, shift, scan, order := 16, q.small[:], q.shift, scans4[0][:], orders4[0][:]
		if cat == cat8x8 {
			n, factors, shift, scan, order = 64, q.large[:], q.shift+1, scans8[0][:], orders8[0][:]
		}
		sent := scan[w.first:]
		require.Len(t, sent, w.size)
		spread := 0.2 + 2*r.Float64()
		coef := make([]int32, n)
		for i, at := range sent { // smaller towards the end of the scan
			coef[at] = int32(r.NormFloat64() * spread * math.Exp(-3*float64(i)/float64(n)) * float64(int(1)<<shift) / float64(factors[at]))
		}
		levels := func(bias int32) ([]int32, uint64) {
			l := append([]int32(nil), coef...)
			return l, quantise(l, factors, bias, shift)
		}
		near, nonZero := levels(1 << shift >> 1)
		less, _ := levels(int32(1<<shift) / 3)
		got := append([]int32(nil), near...)
		left := w.run(got, coef, factors, shift, scan, order, nonZero)
		for i := range got {
			require.Equal(t, got[i] != 0, left>>i&1 != 0)
			require.LessOrEqual(t, motion.Abs32(near[i])-motion.Abs32(got[i]), int32(1))
			require.GreaterOrEqual(t, motion.Abs32(near[i]), motion.Abs32(got[i]))
			require.GreaterOrEqual(t, coef[i]*got[i], int32(0), "signs stay")
		}
		weighed += blockCost(w, got, coef, factors, shift, sent)
		nearest += blockCost(w, near, coef, factors, shift, sent)
		third += blockCost(w, less, coef, factors, shift, sent)
	}
	t.Logf("weighed %.0f, nearest %.0f, rounded at a third %.0f", weighed/400, nearest/400, third/400)
	require.Less(t, weighed, 0.97*nearest)
	require.Less(t, weighed, third)
}

// An isolated level late in the scan costs more bits than it is worth; among other levels it is
// kept.
func TestLoneLevelsAreDecimated(t *testing.T) {
	var state [512]uint8
	for i := range state {
		state[i] = 40 << 1 // flags are seldom 1
	}
	c := macroblockEncoder[uint8]{d: &sliceDecoder{}, w: &sliceWriter{}}
	c.d.h = &sliceHeader{structure: framepool.WholeFrame}
	c.w.bins.State = &state
	w, q := c.rdoqFor(cat4x4), newQuantiser(28, usualRounding)
	weigh := func(steps map[int]float64) (levels []int32) {
		levels = make([]int32, 16)
		for i, v := range steps {
			at := scans4[0][i]
			levels[at] = int32(v * float64(int(1)<<q.shift) / float64(q.small[at]))
		}
		coef := append([]int32(nil), levels...)
		nonZero := quantise(levels, q.small[:16], 1<<q.shift>>1, q.shift)
		w.run(levels, coef, q.small[:], q.shift, scans4[0][:], orders4[0][:], nonZero)
		return levels
	}
	require.Equal(t, make([]int32, 16), weigh(map[int]float64{14: 0.8}))
	many := weigh(map[int]float64{0: 3.1, 1: -2.9, 2: 2.2})
	require.Equal(t, []int32{3, -3, 2}, []int32{many[scans4[0][0]], many[scans4[0][1]], many[scans4[0][2]]})
}

// bitCost follows its formula, and its results choose the transform: the 4x4 one for points, the
// 8x8 one for slopes.
func TestCostTellsTheTransform(t *testing.T) {
	q := newQuantiser(26, usualRounding)
	r := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		var c [64]int32
		want := 0.0
		for i := range c {
			x := 4 * r.ExpFloat64()
			c[i] = int32(x * float64(int(1)<<(q.shift+1)) / float64(q.large[i]))
			x = float64(c[i]) * float64(q.large[i]) / float64(int(1)<<(q.shift+1))
			want += min(x*x*4096, 2570+9*128*max(0, math.Log2(x)))
		}
		require.InEpsilon(t, want, float64(bitCost(&c, q.large, q.shift+1-6)), 0.03)
	}
	costs := func(sample func(x, y int) int) (large, small int) {
		var src, pred [64]uint8
		for i := range src {
			pred[i] = 100
			src[i] = uint8(100 + sample(i&7, i>>3))
		}
		var c, d [64]int32
		forward8(src[:], 8, pred[:], 8, &c)
		forwardBlocks(src[:], 8, pred[:], 8, 8, 8, d[:])
		return bitCost(&c, q.large, q.shift+1-6), bitCost(&d, q.small, q.shift-6)
	}
	large, small := costs(func(x, y int) int { return 100 * oneIf(x == 2 && y == 5) })
	require.Less(t, small, large, "a point")
	large, small = costs(func(x, y int) int { return 5*x + 4*y })
	require.Less(t, large, small, "a slope")
}

func TestDecimationScores(t *testing.T) {
	var l [64]int16
	set := func(places ...int) (nonZero uint64) {
		l = [64]int16{}
		for _, i := range places {
			l[i] = 1
			nonZero |= 1 << i
		}
		return nonZero
	}
	require.Zero(t, decimationScore(0, l[:], &decimationScores8x8))
	require.Equal(t, 3, decimationScore(set(0), l[:], &decimationScores8x8))
	require.Equal(t, 1, decimationScore(set(20), l[:], &decimationScores8x8))
	require.Zero(t, decimationScore(set(40), l[:], &decimationScores8x8))
	require.Equal(t, 3+3+1, decimationScore(set(0, 1, 20), l[:], &decimationScores8x8))
	nonZero := set(60)
	l[60] = -2
	require.Equal(t, 9, decimationScore(nonZero, l[:], &decimationScores8x8), "what is greater is worth its bits anywhere")
	require.Equal(t, 2, decimationScore(set(2), l[:16], &decimationScores4x4))
}
