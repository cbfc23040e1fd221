package search

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// quick asks until there is no more to try.
func quick(t testing.TB, q Quick, predicted int, answer func(rung, n int) bool) (trials []Trial) {
	tried := map[int]int{}
	for {
		rung, _, more := q.Next(trials, func(int) int { return predicted })
		if !more {
			return trials
		}
		trials = append(trials, Trial{Rung: rung, Smooth: answer(rung, tried[rung])})
		tried[rung]++
		require.LessOrEqual(t, tried[rung], 3)
	}
}

// Wherever the ceiling is and whatever was predicted, it is found and confirmed, and what was not
// tried is named.
func TestQuickFindsEveryCeiling(t *testing.T) {
	for limit := range 13 {
		for predicted := -1; predicted < 12; predicted++ {
			q := Quick{Columns: []int{12}}
			trials := quick(t, q, predicted, below(limit))
			ceilings, skipped := q.Ceilings(trials)
			require.Equal(t, limit-1, ceilings[0].Rung)
			require.True(t, ceilings[0].Confirmed)
			require.LessOrEqual(t, len(trials), 11)
			tried := map[int]bool{}
			for _, trial := range trials {
				tried[trial.Rung] = true
			}
			for _, s := range skipped[0] {
				require.False(t, tried[s])
				require.Less(t, s, limit)
			}
			if predicted == limit-1 && limit > 1 && limit < 12 {
				require.LessOrEqual(t, len(trials), 5, "a true prediction needs the easiest rung, the ceiling and the next, twice")
			}
		}
	}
}

// It ends on any device, also one that answers by chance.
func TestQuickEndsOnAnyDevice(t *testing.T) {
	for seed := range uint64(2000) {
		random := rand.New(rand.NewPCG(seed, 2))
		q := Quick{Columns: []int{1 + random.IntN(9), 1 + random.IntN(9)}}
		trials := quick(t, q, random.IntN(10)-1, func(int, int) bool { return random.IntN(3) > 0 })
		ceilings, _ := q.Ceilings(trials)
		require.Len(t, ceilings, 2)
	}
}
