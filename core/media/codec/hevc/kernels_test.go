package hevc

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/motion"
)

// The kernels in assembly compute what those in Go do.
func TestKernelsAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 50 {
		kernelsAgree(t, r, fastKernels(), goKernels[uint8](), 8)
		kernelsAgree(t, r, fastWideKernels(), goKernels[uint16](), 10)
		kernelsAgree(t, r, fastWideKernels(), goKernels[uint16](), 12)
	}
}

// samples returns random samples, and words words of a magnitude.
func samples[T motion.Sample](r *rand.Rand, n, depth int) []T {
	list := make([]T, n)
	for i := range list {
		list[i] = T(r.IntN(1 << depth))
		if r.IntN(4) == 0 { // a plateau
			list[i] = list[max(i-1, 0)]
		}
	}
	return list
}

func words(r *rand.Rand, n, magnitude int) []int16 {
	list := make([]int16, n)
	for i := range list {
		list[i] = int16(r.IntN(2*magnitude) - magnitude)
	}
	return list
}

func kernelsAgree[T motion.Sample](t *testing.T, r *rand.Rand, fast, plain kernels[T], depth int) {
	const stride = 80
	most := int32(1)<<depth - 1
	pix, other := samples[T](r, stride*90, depth), samples[T](r, stride*90, depth)
	both := func(name string, run func(k *kernels[T]) any) {
		require.Equal(t, run(&plain), run(&fast), "%s, %d bits", name, depth)
	}
	n := 4 << r.IntN(4)
	matrix, list := words(r, n*n, 90), words(r, n*n+32, 1<<15)
	both("interleave and multiply", func(k *kernels[T]) any {
		out, v := make([]int16, n*n), make([]int16, n*n)
		k.interleave(v, list, n, n/2)
		k.multiply(out, matrix, v, n, n/2, n, 7)
		return out
	})
	if n > 4 {
		both("multiply half", func(k *kernels[T]) any {
			out := make([]int16, n*n)
			k.multiplyHalf(out, matrix, list, n, 7)
			return out
		})
	}
	both("difference", func(k *kernels[T]) any {
		v := make([]int16, n*n)
		k.difference(v, pix, stride, other, stride, n)
		return v
	})
	both("forward 8", func(k *kernels[T]) any {
		out := make([]int16, 64)
		k.forward8(out, pix, stride, other, stride, uint(depth-6))
		return out
	})
	both("add", func(k *kernels[T]) any {
		out := append([]T(nil), pix...)
		k.add(out, stride, list, n, most)
		return out
	})
	w, h, taps, count := 2+2*r.IntN(32), 1+r.IntN(64), lumaFilter[r.IntN(4)], 8
	if r.IntN(2) == 0 {
		taps, count = chromaFilter[r.IntN(8)], 4
	}
	crop := func(list []int16) (out [][]int16) {
		for y := range h {
			out = append(out, list[y*predStride:][:w])
		}
		return out
	}
	var pred [2][]int16
	both("filters", func(k *kernels[T]) any {
		a, b, c := make([]int16, predStride*90), make([]int16, predStride*90), make([]int16, predStride*90)
		k.across(a, pix, stride, w, h+7, &taps, count, uint(depth-8))
		k.down(b, pix, stride, w, h, &taps, count, uint(depth-8))
		k.downAgain(c, a, w, h, &taps, count, 6)
		pred[0], pred[1] = b, c
		return [][][]int16{crop(b), crop(c)}
	})
	both("weigh", func(k *kernels[T]) any {
		a, b := append([]T(nil), other...), append([]T(nil), other...)
		k.round(a, stride, pred[0], w, h, uint(14-depth), most)
		k.mean(b, stride, pred[0], pred[1], w, h, uint(15-depth), most)
		return [][]T{a, b}
	})
	var border [113]int16
	for i := range border {
		border[i] = int16(r.IntN(1 << depth))
	}
	angle := intraAngle[2+r.IntN(33)]
	both("directions", func(k *kernels[T]) any {
		out := append([]T(nil), other...)
		k.directions(out, stride, &border, n, angle)
		return out
	})
	if depth <= 10 {
		smooth := make([]T, len(pix)) // steps at the edge, so that all filters are used
		for i := range smooth {
			smooth[i] = T(min(int(most), 1<<(depth-1)+r.IntN(1+r.IntN(6))+(i%stride/20)*6+(i/stride/20)*4))
		}
		vertical, beta := r.IntN(2) == 0, int32(r.IntN(64)+1)<<(depth-8)
		tc := [2]int32{int32(r.IntN(25)) << (depth - 8), int32(r.IntN(25)) << (depth - 8)}
		both("deblock", func(k *kernels[T]) any {
			out := append([]T(nil), smooth...)
			for i := range 16 {
				k.deblock(out, (20+20*(i/4))*stride+20*(i%4+1)-20*(i%4/3), stride, vertical, beta, tc, most)
			}
			return out
		})
		both("planar", func(k *kernels[T]) any {
			out, around := append([]T(nil), other...), make([]int16, 4*n+1)
			for i := range around {
				around[i] = int16(pix[i])
			}
			k.planar(out, stride, around, n, log2Of(n))
			return out
		})
	}
	factor, shift := quantiserFactors[r.IntN(6)], uint(16+r.IntN(8))
	scale, up, sparse := levelScale[r.IntN(6)]<<r.IntN(9), uint(1+r.IntN(9)), r.IntN(2) > 0
	both("levels", func(k *kernels[T]) any {
		c := append([]int16(nil), list[:n*n]...)
		for i := range c {
			if sparse && i/5%7 > 0 {
				c[i] = 0
			}
		}
		cost := k.cost(c, factor, shift-6)
		some := k.quantise(c, c, factor, 1<<shift/3, shift)
		again, order := make([]int16, n*n), make([]int16, n*n)
		k.scale(again, c, scale, up)
		gain, bits := k.worth(list, c, factor, shift-6)
		return []any{cost, some, c, again, gain, bits, k.gather(order, c, n), order, k.nonZero((*[16]int16)(c))}
	})
	step := saoSteps[r.IntN(4)]
	at, to, width := 20*stride+16, step[1]*stride+step[0], 16<<r.IntN(2)
	both("collect", func(k *kernels[T]) any {
		var sums [8]int32
		k.collect(pix, at, stride, other[at:], width, 1+n, to, &sums)
		return sums
	})
	offsets := [8]int16{7, 3, 0, -2, -7}
	both("edges", func(k *kernels[T]) any {
		out := append([]T(nil), other...)
		k.edges(out, pix, at, stride, to, width, 1+n, &offsets, most)
		return out
	})
}
