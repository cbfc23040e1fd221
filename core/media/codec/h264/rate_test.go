package h264

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// simulated is a video whose pictures take complexity / qstep bits, with some
// noise, a cut now and then, and a fixed cost.
type simulated struct {
	*rand.Rand
	complexity [3]float64
	fixed      float64
	cutAt      int
}

func (s *simulated) bits(kind sliceType, frame, qp int) int {
	c := s.complexity[kind] * math.Exp(0.15*s.NormFloat64())
	if frame == s.cutAt && kind != sliceI {
		c = s.complexity[sliceI]
	}
	return int(c/qsteps[qp+12] + s.fixed)
}

// run codes seconds of simulated video, a group a second, and returns the bits
// of every frame.
func (s *simulated) run(t *testing.T, r *rateControl, rate, b, seconds int) (bits []int) {
	for range seconds {
		count := [3]int{sliceI: 1, sliceB: (rate - 1) / (b + 1) * b}
		count[sliceP] = rate - 1 - count[sliceB]
		r.group(count)
		for i := range rate {
			kind := sliceI
			if i > 0 {
				kind = sliceP
				if r.left[sliceP] == 0 || b > 0 && i%(b+1) != 0 && r.left[sliceB] > 0 {
					kind = sliceB
				}
			}
			h := &sliceHeader{kind: kind}
			for n := 0; ; n++ {
				require.Less(t, n, 5, "it must make do in the end")
				qp := r.choose(h, n)
				require.GreaterOrEqual(t, qp, r.least)
				require.LessOrEqual(t, qp, 51)
				got := s.bits(kind, len(bits), qp)
				if r.accept(h, qp, got, n) {
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
		video.complexity = [3]float64{sliceP: base, sliceB: base * (0.2 + 0.5*r.Float64()), sliceI: base * (2 + 5*r.Float64())}
		set := &Settings{Format: media.Format{Width: 640, Height: 360, Depth: 8, Rate: media.Rate{Num: rate, Den: 1}, Bitrate: bitrate}}
		var control rateControl
		control.begin(set)
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
	var r rateControl
	r.begin(&Settings{Format: media.Format{Depth: 10, Rate: media.Rate{Num: 25, Den: 1}}, QP: -11})
	for kind, want := range map[sliceType]int{sliceP: -11, sliceB: -9, sliceI: -12} {
		require.Equal(t, want, r.choose(&sliceHeader{kind: kind}, 0))
	}
	require.True(t, r.accept(&sliceHeader{}, -11, 1<<30, 0))
}

// What a group left over the next one may take, a tenth of its share at most;
// told from outside it is the same.
func TestGroupsPassOnWhatIsLeft(t *testing.T) {
	set := &Settings{Format: media.Format{Depth: 8, Rate: media.Rate{Num: 25, Den: 1}, Bitrate: 1_000_000}}
	var r rateControl
	r.begin(set)
	r.group([3]int{sliceI: 1, sliceP: 24})
	require.InDelta(t, 1e6, r.budget, 1)
	r.budget = 30_000
	r.group([3]int{sliceI: 1, sliceP: 24})
	require.InDelta(t, 1_030_000, r.budget, 1)
	r.budget = -400_000
	r.group([3]int{sliceI: 1, sliceP: 24})
	require.InDelta(t, 900_000, r.budget, 1)
	require.InDelta(t, -300_000, r.carry, 1)
	var other rateControl
	other.begin(set)
	other.Costs, other.carry = r.Costs, -400_000
	other.group([3]int{sliceI: 1, sliceP: 24})
	require.InDelta(t, r.budget, other.budget, 1)
}

// Steps double every six quantisers, as LevelScale does.
func TestQuantiserSteps(t *testing.T) {
	scale := newLevelScale(&flatScaling)
	for qp := range 52 {
		require.InEpsilon(t, float64(scale.small[0][qp][0])/16/16, qsteps[qp+12]/qsteps[12]*0.625, 0.06, "%d", qp)
		if qp >= 6 {
			require.InEpsilon(t, 2*qsteps[qp+6], qsteps[qp+12], 1e-9)
		}
	}
	require.InDelta(t, 1, qsteps[4+12], 1e-9, "QP 4 is a step of 1")
}
