package ratecontrol

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// simulated is a video whose pictures take complexity / qstep bits, with some
// noise, a cut now and then, and a fixed cost.
type simulated struct {
	*rand.Rand
	complexity [3]float64
	fixed      float64
	cutAt      int
}

func (s *simulated) bits(kind Kind, frame, qp int) int {
	c := s.complexity[kind] * math.Exp(0.15*s.NormFloat64())
	if frame == s.cutAt && kind != I {
		c = s.complexity[I]
	}
	return int(c/Step(qp) + s.fixed)
}

// run codes seconds of simulated video, a group a second, and returns the bits
// of every frame.
func (s *simulated) run(t *testing.T, r *Control, rate, b, seconds int) (bits []int) {
	for range seconds {
		count := [3]int{I: 1, B: (rate - 1) / (b + 1) * b}
		count[P] = rate - 1 - count[B]
		r.BeginGroup(count)
		for i := range rate {
			kind := I
			if i > 0 {
				kind = P
				if r.left[P] == 0 || b > 0 && i%(b+1) != 0 && r.left[B] > 0 {
					kind = B
				}
			}
			for n := 0; ; n++ {
				require.Less(t, n, 5, "it must make do in the end")
				qp := r.QP(kind, n)
				require.GreaterOrEqual(t, qp, r.MinQP)
				require.LessOrEqual(t, qp, 51)
				got := s.bits(kind, len(bits), qp)
				if r.Accept(kind, qp, got, n) {
					bits = append(bits, got)
					break
				}
			}
		}
		require.Equal(t, [3]int{}, r.left)
	}
	return bits
}

// Whatever the content, the mean comes out and no second takes much more.
func TestRateControlHoldsTheRate(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 9))
		rate, b := 24+r.IntN(37), r.IntN(4)
		bitrate := int64(math.Exp(math.Log(2e5) + r.Float64()*math.Log(500)))
		perFrame := float64(bitrate) / float64(rate)
		video := &simulated{Rand: r, cutAt: rate * (1 + r.IntN(6)) * 3 / 2, fixed: perFrame * 0.05 * r.Float64()}
		base := perFrame * math.Exp2(r.Float64()*5) // for steps of 1 to 32
		video.complexity = [3]float64{P: base, B: base * (0.2 + 0.5*r.Float64()), I: base * (2 + 5*r.Float64())}
		set := Settings{Bitrate: float64(bitrate), Rate: float64(rate)}
		var control Control
		control.Begin(set)
		bits := video.run(t, &control, rate, b, 10)
		sum, worst, window := 0, 0, 0
		for i, n := range bits {
			sum += n
			window += n
			if i >= rate {
				window -= bits[i-rate]
			}
			if i >= 2*rate {
				worst = max(worst, window)
			}
		}
		require.InEpsilon(t, 10*float64(bitrate), float64(sum), 0.03, "seed %d", seed)
		require.Less(t, float64(worst), 1.3*float64(bitrate), "seed %d", seed)
	}
}

// Without a bitrate the quantiser is what was asked, by kind of picture.
func TestConstantQuantiser(t *testing.T) {
	var r Control
	r.Begin(Settings{Rate: 25, QP: -11, MinQP: -12})
	for kind, want := range map[Kind]int{P: -11, B: -9, I: -12} {
		require.Equal(t, want, r.QP(kind, 0))
	}
	require.True(t, r.Accept(P, -11, 1<<30, 0))
}

// What a group left over the next one may take, a tenth of its share at most;
// told from outside it is the same.
func TestGroupsPassOnWhatIsLeft(t *testing.T) {
	set := Settings{Bitrate: 1e6, Rate: 25}
	var r Control
	r.Begin(set)
	r.BeginGroup([3]int{I: 1, P: 24})
	require.InDelta(t, 1e6, r.budget, 1)
	r.budget = 30_000
	r.BeginGroup([3]int{I: 1, P: 24})
	require.InDelta(t, 1_030_000, r.budget, 1)
	r.budget = -400_000
	r.BeginGroup([3]int{I: 1, P: 24})
	require.InDelta(t, 900_000, r.budget, 1)
	require.InDelta(t, -300_000, r.Carry, 1)
	var other Control
	other.Begin(set)
	other.Costs, other.Carry = r.Costs, -400_000
	other.BeginGroup([3]int{I: 1, P: 24})
	require.InDelta(t, r.budget, other.budget, 1)
}

// Where noise begins to be coded, a QP more or less changes the bits by half, not by the eighth that is expected: the
// QP settles all the same, and does not swing around the right one.
func TestSteepContentSettles(t *testing.T) {
	r := &Control{}
	r.Begin(Settings{Bitrate: 40e6, Rate: 30})
	var qps []int
	sum := 0
	for range 4 {
		r.BeginGroup([3]int{I: 1, P: 29})
		for i := range 30 {
			kind, most := P, 1.33e6
			if i == 0 {
				kind, most = I, 4e6
			}
			for n := 0; ; n++ {
				qp := r.QP(kind, n)
				got := int(most * math.Pow(1.5, float64(16-qp)))
				if r.Accept(kind, qp, got, n) {
					sum += got
					qps = append(qps, qp)
					break
				}
			}
		}
	}
	require.InEpsilon(t, 4*40e6, sum, 0.03)
	for i, qp := range qps[30:] {
		if i%30 > 0 {
			require.InDelta(t, 16, qp, 2, "%v", qps)
		}
	}
}
