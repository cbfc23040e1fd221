package search

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// climb asks until there is no more to try; answer tells whether attempt n at a
// rung is smooth.
func climb(t *testing.T, c Climb, answer func(rung, n int) bool) (order []int, trials []Trial) {
	tried := map[int]int{}
	for {
		rung, why, more := c.Next(trials)
		if !more {
			return order, trials
		}
		require.Equal(t, []Purpose{Explore, Confirm, Decide}[tried[rung]], why)
		order = append(order, rung)
		trials = append(trials, Trial{rung, answer(rung, tried[rung])})
		tried[rung]++
		require.LessOrEqual(t, tried[rung], 3)
	}
}

func below(limit int) func(int, int) bool { return func(rung, _ int) bool { return rung < limit } }

func TestClimbsAndConfirms(t *testing.T) {
	for name, c := range map[string]struct {
		climb   Climb
		answer  func(rung, n int) bool
		order   []int
		ceiling []Ceiling
	}{
		"stops behind two":      {Climb{Columns: []int{6}}, below(2), []int{0, 1, 2, 3, 1, 2}, []Ceiling{{1, 2, true}}},
		"all":                   {Climb{Columns: []int{6}, All: true}, below(2), []int{0, 1, 2, 3, 4, 5, 1, 2}, []Ceiling{{1, 2, true}}},
		"all smooth":            {Climb{Columns: []int{3}}, below(9), []int{0, 1, 2, 2}, []Ceiling{{2, -1, true}}},
		"none smooth":           {Climb{Columns: []int{3}}, below(0), []int{0, 1, 0}, []Ceiling{{-1, 0, true}}},
		"last is not":           {Climb{Columns: []int{2}}, below(1), []int{0, 1, 0, 1}, []Ceiling{{0, 1, true}}},
		"two columns":           {Climb{Columns: []int{2, 2}}, func(r, _ int) bool { return r != 1 && r != 3 }, []int{0, 1, 0, 1, 2, 3, 2, 3}, []Ceiling{{0, 1, true}, {2, 3, true}}},
		"a fluke below the top": {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n == 1 }, []int{0, 1, 2, 3, 1, 2, 2}, []Ceiling{{1, 2, true}}},
		"the next was a fluke":  {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n > 0 }, []int{0, 1, 2, 3, 1, 2, 2, 4, 3}, []Ceiling{{2, 3, true}}},
		"the ceiling falls":     {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n == 0 }, []int{0, 1, 2, 3, 4, 2, 2, 1}, []Ceiling{{1, 2, true}}},
	} {
		t.Run(name, func(t *testing.T) {
			order, trials := climb(t, c.climb, c.answer)
			require.Equal(t, c.order, order)
			require.Equal(t, c.ceiling, c.climb.Ceilings(trials))
		})
	}
}

// Whatever the device answers, a climb ends, and the ceiling is a rung whose
// attempts are smooth by majority, as are all below it.
func TestClimbEndsOnAnyDevice(t *testing.T) {
	for seed := range uint64(2000) {
		random := rand.New(rand.NewPCG(seed, 1))
		c := Climb{Columns: []int{1 + random.IntN(6), 1 + random.IntN(6)}, All: seed%3 == 0}
		_, trials := climb(t, c, func(int, int) bool { return random.IntN(3) > 0 })
		first := 0
		for i, ceiling := range c.Ceilings(trials) {
			require.True(t, ceiling.Confirmed)
			for rung := first; rung <= ceiling.Rung; rung++ {
				votes := 0
				for _, trial := range trials {
					if trial.Rung == rung {
						votes += map[bool]int{true: 1, false: -1}[trial.Smooth]
					}
				}
				require.Positive(t, votes)
			}
			first += c.Columns[i]
		}
	}
}

func TestOutOfOrder(t *testing.T) {
	c := Climb{Columns: []int{4, 2}}
	require.Equal(t, []int{1}, c.OutOfOrder([]Trial{{0, true}, {1, false}, {2, true}, {3, false}, {4, false}, {5, false}}))
	require.Empty(t, c.OutOfOrder([]Trial{{0, true}, {1, false}}))
}
