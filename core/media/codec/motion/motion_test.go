package motion

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// samples are random ones, some at the ends of the range, which overflow first.
func samples[T Sample](r *rand.Rand, n, most int) []T {
	list := make([]T, n+RowPadding)
	for i := range list {
		if list[i] = T(r.IntN(most + 1)); r.IntN(4) == 0 {
			list[i] = T(most * r.IntN(2))
		}
	}
	return list
}

func TestFastDistancesEqualPlainOnes(t *testing.T) {
	equalDistances(t, FastDistanceKernels(), GoDistanceKernels[uint8](), 255)
	equalDistances(t, FastWideDistanceKernels(), GoDistanceKernels[uint16](), 1023)
}

func equalDistances[T Sample](t *testing.T, fast, plain DistanceKernels[T], most int) {
	r := rand.New(rand.NewPCG(1, uint64(most)))
	for range 300 {
		a, b := samples[T](r, 64*32, most), samples[T](r, 64*32, most)
		x, y := r.IntN(16), r.IntN(16)
		var some, same [4]int
		for _, size := range [][2]int{{16, 16}, {16, 8}, {8, 16}, {8, 8}} {
			w, h := size[0], size[1]
			require.Equal(t, plain.SAD(a[x:], 64, b[y:], 48, w, h), fast.SAD(a[x:], 64, b[y:], 48, w, h))
			require.Equal(t, plain.SATD(a[x:], 64, b[y:], 48, w, h), fast.SATD(a[x:], 64, b[y:], 48, w, h))
			at := [4]int{y, r.IntN(200), 0, 2*48 + x}
			plain.SADFour(a[x:], 64, b, 48, w, h, &at, &some)
			fast.SADFour(a[x:], 64, b, 48, w, h, &at, &same)
			require.Equal(t, some, same)
		}
		require.Equal(t, plain.SATD(a[x:], 64, b[y:], 48, 4, 4), fast.SATD(a[x:], 64, b[y:], 48, 4, 4))
		for _, n := range []int{16, 8, 4} {
			require.Equal(t, plain.SATDMean(a[x:], 64, b[y:], a[y:], 48, n, n), fast.SATDMean(a[x:], 64, b[y:], a[y:], 48, n, n))
		}
		plain.SADQuarters(a[x:], 64, b[y:], 48, &some)
		fast.SADQuarters(a[x:], 64, b[y:], 48, &same)
		require.Equal(t, some, same)
		require.Equal(t, plain.SAD(a[x:], 64, b[y:], 48, 16, 16), some[0]+some[1]+some[2]+some[3])
	}
}

func TestFastBlocksEqualPlainOnes(t *testing.T) {
	equalBlocks(t, FastBlockKernels(), GoBlockKernels[uint8](), 255)
	equalBlocks(t, FastWideBlockKernels(), GoBlockKernels[uint16](), 1023)
}

func equalBlocks[T Sample](t *testing.T, fast, plain BlockKernels[T], most int) {
	r := rand.New(rand.NewPCG(2, uint64(most)))
	for range 100 {
		dst, src := samples[T](r, 64*32, most), samples[T](r, 64*32, most)
		for w := 2; w <= LineOf[T](); w *= 2 {
			h, x := 4*(1+r.IntN(4)), 16+r.IntN(16)
			both := func(do func(k BlockKernels[T], dst []T)) {
				a, b := slices.Clone(dst), slices.Clone(dst)
				do(plain, a)
				do(fast, b)
				require.Equal(t, a, b, "%d x %d", w, h)
			}
			both(func(k BlockKernels[T], dst []T) { k.Copy(dst[x:], 64, src[w:], 48, w, h) })
			if w > 16 {
				continue // the others are for macroblocks and smaller blocks
			}
			both(func(k BlockKernels[T], dst []T) { k.Average(dst[x:], 64, src[w:], 48, w, h) })
			if w > 2 {
				both(func(k BlockKernels[T], dst []T) { k.Fill(dst[x:], 64, w, h, T(most-7)) })
				both(func(k BlockKernels[T], dst []T) { k.Extend(dst, x, 64, w, h) })
			}
		}
	}
}

// The SATD of a block that differs by a constant is that of the DC coefficient alone: of a 4x4 block
// it is half of sixteen times the difference.
func TestSATDOfAConstant(t *testing.T) {
	a, b := make([]uint8, 8*8), make([]uint8, 8*8)
	for i := range a {
		a[i] = 10
	}
	require.Equal(t, 16*10/2, SATDBlock(a, 8, b, 8, 4, 4))
	require.Equal(t, 4*16*10/2, SATDBlock(a, 8, b, 8, 8, 8))
	require.Equal(t, 64*10, sadBlock(a, 8, b, 8, 8, 8))
}

// Beyond the edges of a picture the nearest samples are repeated.
func TestBlocksAtTheEdges(t *testing.T) {
	const stride, width, height = 8, 6, 5
	src := make([]uint8, stride*height+RowPadding)
	for y := range height {
		for x := range width {
			src[y*stride+x] = uint8(10*y + x)
		}
	}
	var edge EdgeBlock[uint8]
	for _, at := range [][2]int{{-3, -2}, {4, 3}, {-9, 1}, {1, -20}, {30, 30}, {1, 1}} {
		block, step := Clamped(&edge, src, stride, width, height, at[0], at[1], 4, 4)
		for y := range 4 {
			for x := range 4 {
				want := 10*max(0, min(at[1]+y, height-1)) + max(0, min(at[0]+x, width-1))
				require.EqualValues(t, want, block[y*step+x], "%v: %d, %d", at, x, y)
			}
		}
	}
}

// field is a picture with slopes in all directions, so that a search finds its way.
func field(width, height int) []uint8 {
	pix := make([]uint8, width*height+RowPadding)
	for y := range height {
		for x := range width {
			dx, dy := x-width/2, y-height/2
			pix[y*width+x] = uint8(255 - min(255, (dx*dx+dy*dy)/8))
		}
	}
	return pix
}

// The search finds a block that has moved, within its bounds.
func TestSearchFindsTheBlock(t *testing.T) {
	const width, height = 96, 80
	ref := field(width, height)
	for _, moved := range [][2]int{{0, 0}, {3, -2}, {-7, 5}, {11, 9}} {
		x, y := 40, 32
		for _, thorough := range []bool{false, true} {
			s := Search[uint8]{DistanceKernels: FastDistanceKernels(), Block: ref[(y+moved[1])*width+x+moved[0]:], Stride: width, W: 16, H: 16,
				Ref: ref, RefStride: width, RefWidth: width, RefHeight: height, X: x, Y: y, Lambda: 1,
				Left: -24, Right: 24, Up: -24, Down: 24, Thorough: thorough}
			s.Run([]Vector{{}}, 24)
			if thorough {
				require.Equal(t, moved, [2]int{s.I, s.J})
				require.Zero(t, s.Distance)
			}
			require.InDelta(t, moved[0], s.I, 1, "a diamond may miss the last corner")
			require.InDelta(t, moved[1], s.J, 1)
			require.Equal(t, s.Distance+s.VectorCost(Vector{X: int16(4 * s.I), Y: int16(4 * s.J)}), s.Cost)
			s.Right, s.Down = 2, 2
			s.Run([]Vector{{}}, 24)
			require.LessOrEqual(t, s.I, 2)
			require.LessOrEqual(t, s.J, 2)
		}
	}
}

// A good start ends a search early.
func TestSearchEndsEarly(t *testing.T) {
	const width, height = 96, 80
	ref := field(width, height)
	s := Search[uint8]{DistanceKernels: GoDistanceKernels[uint8](), Block: ref[(32+9)*width+40+9:], Stride: width, W: 16, H: 16,
		Ref: ref, RefStride: width, RefWidth: width, RefHeight: height, X: 40, Y: 32, Lambda: 16, Left: -24, Right: 24, Up: -24, Down: 24, Usual: 1 << 20}
	s.Run([]Vector{{}}, 24)
	require.NotZero(t, s.Distance, "it went no more than a few steps")
	s.Usual = 0
	s.Run([]Vector{{}}, 24)
	require.Zero(t, s.Distance)
}

// The minimum of a parabola through three distances, in quarter samples.
func TestSubpelMinimum(t *testing.T) {
	require.EqualValues(t, 0, SubpelMinimum(100, 50, 100))
	require.EqualValues(t, 1, SubpelMinimum(100, 50, 60))
	require.EqualValues(t, -1, SubpelMinimum(52, 50, 100))
	require.EqualValues(t, 2, SubpelMinimum(1000, 50, 50), "never more than half a sample")
	require.Zero(t, SubpelMinimum(NotTried, 50, 60))
	require.Zero(t, SubpelMinimum(40, 50, 60), "no minimum lies between")
}
