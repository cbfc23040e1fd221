package motion

import (
	"math"
	"math/bits"
)

// The patterns of the search, as steps in whole samples: a large and a small diamond, and the
// corners of a square (S. Zhu, K.-K. Ma: A New Diamond Search Algorithm for Fast Block-Matching
// Motion Estimation, 2000).
var (
	LargeDiamond  = [4][2]int{{-2, 0}, {2, 0}, {0, -2}, {0, 2}}
	SmallDiamond  = [4][2]int{{-1, 0}, {1, 0}, {0, -1}, {0, 1}}
	SquareCorners = [4][2]int{{-1, -1}, {1, -1}, {-1, 1}, {1, 1}}
)

// NotTried is the distance of a position that was not compared.
const NotTried = math.MaxInt32

// Search finds the whole-sample motion vector with the smallest cost for a block: the sum of
// absolute differences plus the weighted bits of the vector. Set the inputs, then call Run. It
// is for one goroutine at a time and allocates nothing.
type Search[T Sample] struct {
	DistanceKernels[T]

	// The block, and the reference picture. Strides and sizes are in samples.
	Block               []T
	Stride, W, H        int
	Ref                 []T
	RefStride           int
	RefWidth, RefHeight int
	X, Y                int // position of the block in its picture

	Pred                  Vector // the predicted vector
	Lambda                int    // weight of a bit against the distance, in sixteenths
	Left, Right, Up, Down int    // bounds of the vector, in whole samples
	// Thorough searches try all patterns, also outside the picture. Others stop where the start
	// costs less than Usual.
	Thorough bool
	Usual    int

	// The result: the vector in whole samples, its cost, and its distance alone. Distances are
	// those of the last four positions compared.
	I, J           int
	Cost, Distance int
	Distances      [4]int

	offsets [4]int
	edge    EdgeBlock[T]
}

// Run searches from the best of the starts: the small diamond, then up to steps steps of the
// large one, then small diamonds and corners as long as they improve. It reports whether the
// last four distances are those of the small diamond around the result.
func (s *Search[T]) Run(starts []Vector, steps int) (surrounded bool) {
	s.Cost = math.MaxInt
	for len(starts) > 0 {
		var positions [4][2]int
		for k := range positions {
			v := starts[min(k, len(starts)-1)]
			positions[k] = [2]int{int(v.X+2) >> 2, int(v.Y+2) >> 2}
		}
		s.tryPositions(&positions)
		starts = starts[min(4, len(starts)):]
	}
	if !s.Thorough && s.Cost < s.Usual {
		steps = 0 // no better around here
	}
	moved := s.Thorough || s.tryAround(&SmallDiamond)
	if moved {
		for range steps {
			if !s.tryAround(&LargeDiamond) {
				break
			}
		}
		moved = s.tryAround(&SmallDiamond)
	}
	for round := 0; round < 4 && (moved || s.Thorough && s.tryAround(&SquareCorners)); round++ {
		moved = s.tryAround(&SmallDiamond)
	}
	return !moved && !s.Thorough
}

// tryPositions compares four positions, clamped to the bounds.
func (s *Search[T]) tryPositions(positions *[4][2]int) {
	inside := true
	for k, p := range positions {
		i, j := max(s.Left, min(p[0], s.Right)), max(s.Up, min(p[1], s.Down))
		positions[k] = [2]int{i, j}
		x, y := s.X+i, s.Y+j
		inside = inside && s.Holds(x, y)
		s.offsets[k] = y*s.RefStride + x
	}
	if inside {
		s.SADFour(s.Block, s.Stride, s.Ref, s.RefStride, s.W, s.H, &s.offsets, &s.Distances)
	} else {
		for k, p := range positions {
			s.Distances[k] = s.distanceAt(p[0], p[1])
		}
	}
	for k, p := range positions {
		if s.Distances[k] < s.Cost {
			s.take(k, p[0], p[1])
		}
	}
}

// tryAround compares the positions that are steps away from the best one, and reports whether
// one of them is better. Only a thorough search compares those that reach outside the picture.
func (s *Search[T]) tryAround(steps *[4][2]int) (moved bool) {
	i, j := s.I, s.J
	if s.clear(i, j) {
		at := (s.Y+j)*s.RefStride + s.X + i
		for k, step := range steps {
			s.offsets[k] = at + step[1]*s.RefStride + step[0]
		}
		s.SADFour(s.Block, s.Stride, s.Ref, s.RefStride, s.W, s.H, &s.offsets, &s.Distances)
	} else {
		for k, step := range steps {
			s.Distances[k] = NotTried
			if i, j := i+step[0], j+step[1]; i >= s.Left && i <= s.Right && j >= s.Up && j <= s.Down && (s.Thorough || s.Holds(s.X+i, s.Y+j)) {
				s.Distances[k] = s.distanceAt(i, j)
			}
		}
	}
	for k, step := range steps {
		moved = s.Distances[k] < s.Cost && s.take(k, i+step[0], j+step[1]) || moved
	}
	return moved
}

// take makes position i, j, the k-th of those compared, the result if it costs less.
func (s *Search[T]) take(k, i, j int) bool {
	cost := s.Distances[k] + s.VectorCost(Vector{X: int16(4 * i), Y: int16(4 * j)})
	if cost >= s.Cost {
		return false
	}
	s.Cost, s.Distance, s.I, s.J = cost, s.Distances[k], i, j
	return true
}

// Holds reports whether a block at x, y of the reference is inside it.
func (s *Search[T]) Holds(x, y int) bool {
	return uint(x) <= uint(s.RefWidth-s.W) && uint(y) <= uint(s.RefHeight-s.H)
}

// clear reports whether all steps from position i, j are within the bounds and the picture.
func (s *Search[T]) clear(i, j int) bool {
	const maxStep = 2
	x, y := s.X+i, s.Y+j
	return i >= s.Left+maxStep && i <= s.Right-maxStep && j >= s.Up+maxStep && j <= s.Down-maxStep &&
		x >= maxStep && x <= s.RefWidth-s.W-maxStep && y >= maxStep && y <= s.RefHeight-s.H-maxStep
}

// distanceAt returns the SAD with the reference i, j whole samples away.
func (s *Search[T]) distanceAt(i, j int) int {
	x, y := s.X+i, s.Y+j
	if s.Holds(x, y) {
		return s.SAD(s.Block, s.Stride, s.Ref[y*s.RefStride+x:], s.RefStride, s.W, s.H)
	}
	pix, stride := Clamped(&s.edge, s.Ref, s.RefStride, s.RefWidth, s.RefHeight, x, y, s.W, s.H)
	return s.SAD(s.Block, s.Stride, pix, stride, s.W, s.H)
}

// Within reports whether a vector, in quarter samples, and its successor are within the bounds.
func (s *Search[T]) Within(v Vector) bool {
	x, y := int(v.X>>2), int(v.Y>>2)
	return x >= s.Left && x < s.Right && y >= s.Up && y < s.Down
}

// componentBits is the number of bits of a component of a vector difference, by its absolute
// value, as an Exp-Golomb code.
var componentBits = func() (n [1 << 11]uint8) {
	for v := range n {
		n[v] = uint8(1 + 2*bits.Len(uint(v)))
	}
	return n
}()

// VectorCost returns the weighted bits of a vector.
func (s *Search[T]) VectorCost(v Vector) int {
	return s.Lambda * VectorBits(Vector{v.X - s.Pred.X, v.Y - s.Pred.Y}) >> 4
}

// VectorBits returns the bits of a vector difference, as Exp-Golomb codes.
func VectorBits(d Vector) int {
	const last = 1<<11 - 1
	return int(componentBits[min(max(d.X, -d.X), last)&last]) + int(componentBits[min(max(d.Y, -d.Y), last)&last])
}

// SubpelMinimum returns the offset in quarter samples, -2 to 2, of the minimum of a parabola
// through the distances one sample before, at and one sample after a position.
func SubpelMinimum(before, at, after int) int16 {
	curve := before + after - 2*at
	if curve <= 0 || before == NotTried || after == NotTried {
		return 0
	}
	return int16(max(-2, min(int32(4*(before-after)+curve)/int32(2*curve), 2))) // 64 bits would take three times as long
}
