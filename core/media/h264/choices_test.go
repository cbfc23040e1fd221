package h264

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// choices codes pictures of luma alone and tells how often each kind of macroblock was
// chosen in the last one.
func choices(t *testing.T, effort Effort, frames int, draw func(n, x, y int) float64) (count map[string]int) {
	set := settings(func(s *Settings) {
		s.Format.Width, s.Format.Height, s.QP, s.Effort, s.KeyEvery = 192, 192, 26, effort, 50
	})
	e, err := NewEncoder(set, func(*media.Packet) error { return nil })
	require.NoError(t, err)
	e.made = func(*frame) {
		count = map[string]int{}
		for i := range e.work.mbs {
			m := &e.work.mbs[i]
			switch {
			case m.kind == kind16x16:
				count["16x16"]++
			case m.intra() && m.transform8:
				count["8x8"]++
			case m.intra():
				count["4x4"]++
			case m.skip:
				count["skipped"]++
			case m.cbp&15 == 0:
				count["without levels"]++
			case m.transform8:
				count["large transform"]++
			default:
				count["small transform"]++
			}
		}
	}
	for n := range frames {
		p := picture.New(192, 192, 8, picture.C420)
		for y := range 192 {
			for x := range 192 {
				p.Planes[0].Pix[y*p.Planes[0].Stride+x] = uint8(max(0, min(draw(n, x, y), 255)))
			}
		}
		for k := 1; k < 3; k++ {
			for i := range p.Planes[k].Pix {
				p.Planes[k].Pix[i] = 128
			}
		}
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	return count
}

// Sparks that come and go take the small transform, slopes that rise the large one.
func TestTransformFollowsTheContent(t *testing.T) {
	sparks := func(n, x, y int) float64 {
		if n == 1 && x%16 == 5 && y%8 == 2 {
			return 230
		}
		return 100 + 60*wave(float64(x), float64(y))
	}
	slopes := func(n, x, y int) float64 { return 60 + 25*float64(n)*wave(float64(x)/2, float64(y)/2) }
	for _, effort := range []Effort{Fast, Good} {
		count := choices(t, effort, 2, sparks)
		require.Greater(t, count["small transform"], 5*count["large transform"], "sparks: %v", count)
		count = choices(t, effort, 3, slopes)
		require.Greater(t, count["large transform"], 3*count["small transform"], "slopes: %v", count)
	}
}

// Flat noise that is new in every picture is predicted as a whole: small blocks would
// but follow it, and a picture before doubles it.
func TestNoiseIsPredictedAsAWhole(t *testing.T) {
	noise := func(n, x, y int) float64 {
		r := rand.New(rand.NewPCG(uint64(n), uint64(y*192+x)))
		return 120 + 14*r.NormFloat64()
	}
	count := choices(t, Fast, 4, noise)
	require.Greater(t, count["16x16"], 100, "%v", count)
	require.Less(t, count["4x4"], 40, "%v", count)
}

// What fine lines in many directions cross is predicted in small blocks in a key frame, a
// flat surface is not.
func TestKeyFramesTakeSmallBlocksWhereTheyTell(t *testing.T) {
	hatched := func(_, x, y int) float64 {
		switch (x/8 + y/8) % 3 {
		case 0:
			return float64(60 + 120*oneIf((x+y)/2%2 == 0))
		case 1:
			return float64(60 + 120*oneIf(x/2%2 == 0))
		}
		return float64(60 + 120*oneIf(y/2%2 == 0))
	}
	for _, effort := range []Effort{Fast, Good} {
		count := choices(t, effort, 1, hatched)
		require.Greater(t, count["4x4"]+count["8x8"], 120, "%v", count)
		count = choices(t, effort, 1, func(_, x, y int) float64 { return 90 })
		require.Greater(t, count["16x16"], 100, "%v", count)
	}
}

// Several pictures before help a B picture, too: what was covered for a moment, or comes
// again, is found further back.
func TestBPicturesReferFurtherBack(t *testing.T) {
	taken := func(references int) (bits int) {
		set := settings(func(s *Settings) { s.BFrames, s.References, s.Effort, s.KeyEvery, s.QP = 1, references, Good, 50, 24 })
		e, err := NewEncoder(set, func(p *media.Packet) error {
			bits += 8 * len(p.Data)
			return nil
		})
		require.NoError(t, err)
		for n := range 16 { // every fourth picture comes again
			p := picture.New(176, 144, 8, picture.C420)
			shifted(p, 31*float64(n%4), 17*float64(n%4))
			require.NoError(t, e.Encode(p, int64(n)))
		}
		require.NoError(t, e.Flush())
		return bits
	}
	one, four := taken(1), taken(4)
	require.Less(t, four, one*9/10, "%d bits with one reference, %d with four", one, four)
}
