package h264

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"vividstrain/core/media/codec/motion"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/framepool"
)

// predictor is about to predict a macroblock amid random samples.
func predictor(r *rand.Rand) (*recon[uint8], *intraNeighbours) {
	rc := &recon[uint8]{k: goKernels[uint8](), planes: 1, stride: 48, maxSample: [3]int32{255, 255, 255}}
	rc.luma = make([]uint8, 48*48)
	for i := range rc.luma {
		rc.luma[i] = uint8(r.IntN(256))
	}
	rc.at = 16*48 + 16
	return rc, &intraNeighbours{left: allRows, top: true, topLeft: true, topRight: r.IntN(2) == 0}
}

// samples returns p[x, y] of the standard: the neighbours of a block whose own
// upper left sample is 0, 0.
type samples func(x, y int) int

// plain are the neighbours as they are; where those to the upper right may not
// be used the last one above stands for them (8.3.1.2).
func plain(rc *recon[uint8], at, n int, right bool) samples {
	return func(x, y int) int {
		if y < 0 && x >= n && !right {
			x = n - 1
		}
		return int(rc.luma[at+y*rc.stride+x])
	}
}

// smoothed is the reference sample filtering of 8.3.2.2.1 with all neighbours
// there.
func smoothed(p samples) samples {
	return func(x, y int) int {
		switch {
		case x == -1 && y == -1:
			return (p(0, -1) + 2*p(-1, -1) + p(-1, 0) + 2) >> 2
		case y == -1 && x == 0:
			return (p(-1, -1) + 2*p(0, -1) + p(1, -1) + 2) >> 2
		case y == -1 && x == 15:
			return (p(14, -1) + 3*p(15, -1) + 2) >> 2
		case y == -1:
			return (p(x-1, -1) + 2*p(x, -1) + p(x+1, -1) + 2) >> 2
		case y == 0:
			return (p(-1, -1) + 2*p(-1, 0) + p(-1, 1) + 2) >> 2
		case y == 7:
			return (p(-1, 6) + 3*p(-1, 7) + 2) >> 2
		}
		return (p(-1, y-1) + 2*p(-1, y) + p(-1, y+1) + 2) >> 2
	}
}

// predicted is sample x, y of an n x n block in a mode, word for word as
// 8.3.1.2.1 to 8.3.1.2.9 and 8.3.2.2.2 to 8.3.2.2.10 have it.
func predicted(p samples, n, mode, x, y int) int {
	three := func(a, b, c int) int { return (a + 2*b + c + 2) >> 2 }
	two := func(a, b int) int { return (a + b + 1) >> 1 }
	top := func(i int) int { return p(i, -1) }
	left := func(i int) int { return p(-1, i) }
	switch mode {
	case 0:
		return top(x)
	case 1:
		return left(y)
	case 2:
		sum := n
		for i := range n {
			sum += top(i) + left(i)
		}
		return sum / (2 * n)
	case 3:
		if x == n-1 && y == n-1 {
			return (top(2*n-2) + 3*top(2*n-1) + 2) >> 2
		}
		return three(top(x+y), top(x+y+1), top(x+y+2))
	case 4:
		switch {
		case x > y:
			return three(top(x-y-2), top(x-y-1), top(x-y))
		case x < y:
			return three(left(y-x-2), left(y-x-1), left(y-x))
		}
		return three(top(0), top(-1), left(0))
	case 5:
		switch z := 2*x - y; {
		case z >= 0 && z&1 == 0:
			return two(top(x-y>>1-1), top(x-y>>1))
		case z >= 0:
			return three(top(x-y>>1-2), top(x-y>>1-1), top(x-y>>1))
		case z == -1:
			return three(left(0), left(-1), top(0))
		}
		return three(left(y-2*x-1), left(y-2*x-2), left(y-2*x-3))
	case 6:
		switch z := 2*y - x; {
		case z >= 0 && z&1 == 0:
			return two(left(y-x>>1-1), left(y-x>>1))
		case z >= 0:
			return three(left(y-x>>1-2), left(y-x>>1-1), left(y-x>>1))
		case z == -1:
			return three(left(0), left(-1), top(0))
		}
		return three(top(x-2*y-1), top(x-2*y-2), top(x-2*y-3))
	case 7:
		if y&1 == 0 {
			return two(top(x+y>>1), top(x+y>>1+1))
		}
		return three(top(x+y>>1), top(x+y>>1+1), top(x+y>>1+2))
	}
	switch z := x + 2*y; {
	case z > 2*n-3:
		return left(n - 1)
	case z == 2*n-3:
		return (left(n-2) + 3*left(n-1) + 2) >> 2
	case z&1 == 0:
		return two(left(y+x>>1), left(y+x>>1+1))
	}
	return three(left(y+x>>1), left(y+x>>1+1), left(y+x>>1+2))
}

func TestIntraModesFollowTheStandard(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 40 {
		for mode := range 9 {
			rc, ok := predictor(r)
			for block := range 16 {
				at := rc.at + block>>2*4*rc.stride + block&3*4
				right := block < 3 || block == 3 && ok.topRight || cornerInside[block][1]
				p := plain(rc, at, 4, right)
				var want [16]int
				for i := range want {
					want[i] = predicted(p, 4, mode, i&3, i>>2)
				}
				rc.intra4(at, block, int8(mode), ok)
				for i, v := range want {
					require.EqualValues(t, v, rc.luma[at+i>>2*rc.stride+i&3], "4x4, mode %d, block %d, sample %d", mode, block, i)
				}
			}
			for b8 := range 4 {
				at := rc.at + b8>>1*8*rc.stride + b8&1*8
				right := b8 == 0 || b8 == 1 && ok.topRight || b8 == 2
				p := smoothed(plain(rc, at, 8, right))
				var want [64]int
				for i := range want {
					want[i] = predicted(p, 8, mode, i&7, i>>3)
				}
				rc.intra8(at, b8, int8(mode), ok)
				for i, v := range want {
					require.EqualValues(t, v, rc.luma[at+i>>3*rc.stride+i&7], "8x8, mode %d, block %d, sample %d", mode, b8, i)
				}
			}
		}
	}
}

// Intra_16x16 and its kin for chroma, Plane above all (8.3.3.4, 8.3.4.4).
func TestPlanesFollowTheStandard(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	for range 100 {
		rc, ok := predictor(r)
		p := plain(rc, rc.at, 16, true)
		h, v := 0, 0
		for i := range 8 {
			h += (i + 1) * (p(8+i, -1) - p(6-i, -1))
			v += (i + 1) * (p(-1, 8+i) - p(-1, 6-i))
		}
		b, c, a := (5*h+32)>>6, (5*v+32)>>6, 16*(p(-1, 15)+p(15, -1))
		var want [256]int
		for i := range want {
			want[i] = max(0, min((a+b*(i&15-7)+c*(i>>4-7)+16)>>5, 255))
		}
		rc.intra16(rc.at, 3, ok)
		for i, v := range want {
			require.EqualValues(t, v, rc.luma[rc.at+i>>4*rc.stride+i&15])
		}
	}
	for range 100 {
		for _, tall := range []int{0, 1} { // 4:2:0 and 4:2:2
			rc, ok := predictor(r)
			rc.full[1], rc.chromaStride, rc.chromaAt, rc.chromaShift, rc.chromaRows = rc.luma, rc.stride, rc.at, uint8(1-tall), 8<<tall
			p := plain(rc, rc.at, 8, true)
			height := 8 << tall
			h, v := 0, 0
			for i := range 4 {
				h += (i + 1) * (p(4+i, -1) - p(2-i, -1))
			}
			for i := range 4 + 4*tall {
				v += (i + 1) * (p(-1, 4+4*tall+i) - p(-1, 2+4*tall-i))
			}
			b, c, a := (34*h+32)>>6, ((34-29*tall)*v+32)>>6, 16*(p(-1, height-1)+p(7, -1))
			want := make([]int, 8*height)
			for i := range want {
				want[i] = max(0, min((a+b*(i&7-3)+c*(i>>3-3-4*tall)+16)>>5, 255))
			}
			rc.intraChroma(1, 3, ok)
			for i, v := range want {
				require.EqualValues(t, v, rc.luma[rc.at+i>>3*rc.stride+i&7], "tall %d, sample %d", tall, i)
			}
		}
	}
}

// interpolated is the luma sample at quarters x, y, word for word as 8.4.2.2.1
// has it; g gives whole samples.
func interpolated(g func(x, y int) int, x, y int) int {
	six := func(at func(i int) int) int { return at(-2) - 5*at(-1) + 20*at(0) + 20*at(1) - 5*at(2) + at(3) }
	limit := func(v int) int { return max(0, min(v, 255)) }
	ix, iy, fx, fy := x>>2, y>>2, x&3, y&3
	b1 := func(y int) int { return six(func(i int) int { return g(ix+i, y) }) }
	h1 := func(x int) int { return six(func(i int) int { return g(x, iy+i) }) }
	b, s := limit((b1(iy)+16)>>5), limit((b1(iy+1)+16)>>5)
	h, m := limit((h1(ix)+16)>>5), limit((h1(ix+1)+16)>>5)
	j := limit((six(func(i int) int { return b1(iy + i) }) + 512) >> 10)
	mean := func(p, q int) int { return (p + q + 1) >> 1 }
	G, H, M := g(ix, iy), g(ix+1, iy), g(ix, iy+1)
	return [4][4]int{ // by fy, fx: table 8-12
		{G, mean(G, b), b, mean(b, H)},
		{mean(G, h), mean(b, h), mean(b, j), mean(b, m)},
		{h, mean(h, j), j, mean(j, m)},
		{mean(h, M), mean(h, s), mean(j, s), mean(s, m)},
	}[fy][fx]
}

func TestInterpolationFollowsTheStandard(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 16))
	const width, height = 48, 48
	src := make([]uint8, width*height+motion.RowPadding)
	for range 30 {
		for i := range src {
			src[i] = uint8(r.IntN(256))
		}
		g := func(x, y int) int { // 8-239, 8-240: what lies outside is as the edge
			return int(src[max(0, min(y, height-1))*width+max(0, min(x, width-1))])
		}
		s := source[uint8]{stride: [3]int{width}, width: width, height: height}
		s.planes[0] = src
		for _, k := range []kernels[uint8]{goKernels[uint8](), fastKernels()} {
			rc := &recon[uint8]{k: k, maxSample: [3]int32{255, 255, 255}}
			halved := s
			halved.halfpel = [4][]uint8{src, bytes.Clone(src), bytes.Clone(src), bytes.Clone(src)}
			rc.interpolateHalfpel(&halved)
			x, y := r.IntN(4*(width+40))-80, r.IntN(4*(height+40))-80
			w, h := 4<<r.IntN(3), 4<<r.IntN(3)
			dst := make([]uint8, 16*16+motion.RowPadding)
			for _, from := range []*source[uint8]{&s, &halved} {
				rc.fetchLuma(dst, 16, from, x>>2, y>>2, w, h, x&3, y&3)
				for j := range h {
					for i := range w {
						require.EqualValues(t, interpolated(g, x+4*i, y+4*j), dst[16*j+i], "at %d, %d of %dx%d from %d, %d", i, j, w, h, x, y)
					}
				}
			}
		}
	}
}

// The implicit weights of 8.4.2.3.1 and the scaling of direct vectors.
func TestDistancesScale(t *testing.T) {
	at := func(poc int32) ref { return ref{s: framepool.WholeFrame, poc: [2]int32{poc, poc + 1}} }
	for _, c := range []struct{ now, a, b, factor int32 }{
		{4, 0, 8, 128}, {2, 0, 8, 64}, {6, 0, 8, 192}, {8, 0, 4, 512}, {0, 4, 8, -256}, {200, 0, 2, 1023},
	} {
		factor, scaled := distScale(c.now, at(c.a), at(c.b))
		require.True(t, scaled)
		require.InDelta(t, c.factor, factor, 2, "%+v", c)
	}
	_, scaled := distScale(4, at(8), at(8))
	require.False(t, scaled)
	long := at(0)
	long.long = true
	_, scaled = distScale(4, long, at(8))
	require.False(t, scaled)
}
