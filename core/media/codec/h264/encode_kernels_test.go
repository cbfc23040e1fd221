package h264

import (
	mathbits "math/bits"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/ratecontrol"
)

// The encoder's fast kernels do what the plain ones do; those of motion search are tested beside them.
func TestFastSearchKernelsEqualPlainOnes(t *testing.T) {
	equalKernels(t, fastEncodeKernels(), goEncodeKernels[uint8](), 255)
	equalKernels(t, fastWideEncodeKernels(), goEncodeKernels[uint16](), 1023)
}

func equalKernels[T motion.Sample](t *testing.T, fast, plain encodeKernels[T], most int) {
	r := rand.New(rand.NewPCG(1, uint64(most)))
	a, b := make([]T, 64*32), make([]T, 64*32)
	for range 300 {
		for i := range a {
			a[i], b[i] = T(r.IntN(most+1)), T(r.IntN(most+1))
			if r.IntN(4) == 0 { // the ends of the range overflow first
				a[i], b[i] = T(most*r.IntN(2)), T(most*r.IntN(2))
			}
		}
		x, y := r.IntN(16), r.IntN(16)
		for _, n := range []int{4, 8} {
			var preds, alike predictions[T]
			var costs, same modeCosts
			around := (*border[T])(b[y:])
			plain.directions(around, n, &preds)
			fast.directions(around, n, &alike)
			require.Equal(t, preds, alike)
			plain.satdEach(a[x:], 64, &preds, n, &costs)
			fast.satdEach(a[x:], 64, &preds, n, &same)
			require.Equal(t, costs[:9], same[:9])
		}
		q := newQuantiser(r.IntN(52), usualRounding)
		for _, size := range [][2]int{{16, 16}, {8, 16}, {8, 8}, {4, 4}} {
			w, h := size[0], size[1]
			var c, d [256]int32
			plain.forward4(a[x:], 64, b[y:], 48, w, h, c[:])
			fast.forward4(a[x:], 64, b[y:], 48, w, h, d[:])
			require.Equal(t, c, d)
			nonZero, same := make([]uint16, w*h/16), make([]uint16, w*h/16)
			plain.quantise(c[:], q.small, q.bias(q.shift), q.shift, nonZero)
			fast.quantise(d[:], q.small, q.bias(q.shift), q.shift, same)
			require.Equal(t, c, d)
			require.Equal(t, nonZero, same)
		}
		scale := &newLevelScale(&flatScaling).large[0][r.IntN(52)]
		var c, d, coeffs, alike [64]int32
		plain.forward8(a[x:], 64, b[y:], 48, &c)
		fast.forward8(a[x:], 64, b[y:], 48, &d)
		require.Equal(t, c, d)
		require.Equal(t, plain.bitCost(&c, q.large, q.shift-5), fast.bitCost(&c, q.large, q.shift-5))
		require.Equal(t, plain.bitCost(&c, q.small, q.shift-6), fast.bitCost(&c, q.small, q.shift-6))
		nonZero := plain.quantise8(&c, q.large, scale, q.bias(q.shift+1), q.shift+1, &coeffs)
		require.Equal(t, nonZero, fast.quantise8(&d, q.large, scale, q.bias(q.shift+1), q.shift+1, &alike))
		require.Equal(t, c, d)
		require.Equal(t, coeffs, alike)
	}
}

// Flags of coefficients come in the same order, up to the last that counts.
func TestFlagsAreNotedAlike(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 500 {
		end := 1 + r.IntN(63)
		nonZero := r.Uint64()&r.Uint64()&(1<<end-1) | 1<<end
		f := &significanceBins[r.IntN(2)][cat8x8]
		var want, got [cabac.QueueSize]uint16
		queueFlags(want[:], f, nonZero, end)
		fastQueueFlags()(got[:], f, nonZero, end)
		n := end + mathbits.OnesCount64(nonZero) - 1
		require.Equal(t, want[:n], got[:n])
	}
}

// What is transformed, quantised finely, scaled and transformed back is what it
// was: the factors fit the transforms.
func TestQuantiserUndoesScaling(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	scale := newLevelScale(&flatScaling)
	for qp := range 24 {
		q := newQuantiser(qp, usualRounding)
		var src, pred, got [64]uint8
		for i := range src {
			src[i], pred[i] = uint8(r.IntN(256)), uint8(r.IntN(256))
		}
		far := func() (most int32) {
			for i := range src {
				most = max(most, motion.Abs32(int32(src[i])-int32(got[i])))
			}
			return most
		}
		bound := int32(ratecontrol.Step(qp)) + 2 // the rounding of each coefficient, spread over the block
		var c [64]int32
		forward8(src[:], 8, pred[:], 8, &c)
		quantise(c[:], q.large[:], q.bias(q.shift+1), q.shift+1)
		for i := range c {
			c[i] = (c[i]*scale.large[0][qp][i] + 32) >> 6
		}
		got = pred
		add8(got[:], 8, &c, 255)
		require.LessOrEqual(t, far(), 2*bound, "8x8, %d", qp)
		for block := range 4 {
			at := block&1*4 + block>>1*32
			var c [16]int32
			forward4(src[at:], 8, pred[at:], 8, &c)
			quantise(c[:], q.small[:16], q.bias(q.shift), q.shift)
			for i := range c {
				c[i] = (c[i]*scale.small[0][qp][i] + 8) >> 4
			}
			if block == 0 {
				got = pred
			}
			add4(got[at:], 8, &c, 255)
		}
		require.LessOrEqual(t, far(), 2*bound, "4x4, %d", qp)
	}
}
