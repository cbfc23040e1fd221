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
		trials = append(trials, Trial{Rung: rung, Smooth: answer(rung, tried[rung])})
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
		"stops after two":       {Climb{Columns: []int{6}}, below(2), []int{0, 1, 2, 3, 1, 2}, []Ceiling{{Rung: 1, Next: 2, Confirmed: true}}},
		"all":                   {Climb{Columns: []int{6}, All: true}, below(2), []int{0, 1, 2, 3, 4, 5, 1, 2}, []Ceiling{{Rung: 1, Next: 2, Confirmed: true}}},
		"once":                  {Climb{Columns: []int{6, 2}, Once: true}, below(2), []int{0, 1, 2, 3, 6, 7}, []Ceiling{{Rung: 1, Next: 2}, {Rung: -1, Next: 6}}},
		"all smooth":            {Climb{Columns: []int{3}}, below(9), []int{0, 1, 2, 2}, []Ceiling{{Rung: 2, Next: -1, Confirmed: true, Last: true}}},
		"none smooth":           {Climb{Columns: []int{3}}, below(0), []int{0, 1, 0}, []Ceiling{{Rung: -1, Next: 0, Confirmed: true}}},
		"last is not":           {Climb{Columns: []int{2}}, below(1), []int{0, 1, 0, 1}, []Ceiling{{Rung: 0, Next: 1, Confirmed: true}}},
		"two columns":           {Climb{Columns: []int{2, 2}}, func(r, _ int) bool { return r != 1 && r != 3 }, []int{0, 1, 0, 1, 2, 3, 2, 3}, []Ceiling{{Rung: 0, Next: 1, Confirmed: true}, {Rung: 2, Next: 3, Confirmed: true}}},
		"a fluke below the top": {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n == 1 }, []int{0, 1, 2, 3, 1, 2, 2}, []Ceiling{{Rung: 1, Next: 2, Confirmed: true}}},
		"the next was a fluke":  {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n > 0 }, []int{0, 1, 2, 3, 1, 2, 2, 4, 3}, []Ceiling{{Rung: 2, Next: 3, Confirmed: true}}},
		"the ceiling falls":     {Climb{Columns: []int{5}}, func(r, n int) bool { return r < 2 || r == 2 && n == 0 }, []int{0, 1, 2, 3, 4, 2, 2, 1}, []Ceiling{{Rung: 1, Next: 2, Confirmed: true}}},
	} {
		t.Run(name, func(t *testing.T) {
			order, trials := climb(t, c.climb, c.answer)
			require.Equal(t, c.order, order)
			require.Equal(t, c.ceiling, c.climb.Ceilings(trials))
		})
	}
}

// A rung that asks for more of what was choppy tells nothing new, unless a second attempt at what was choppy is not.
func TestMoreOfWhatWasChoppyIsNotTried(t *testing.T) {
	try := func(c Climb, choppy func(rung, n int) bool) (order []int, result Ceiling) {
		tried, trials := map[int]int{}, []Trial(nil)
		for {
			rung, _, more := c.Next(trials)
			if !more {
				return order, c.Ceilings(trials)[0]
			}
			bad := choppy(rung, tried[rung])
			tried[rung]++
			order, trials = append(order, rung), append(trials, Trial{Rung: rung, Smooth: rung < 2 || rung == 2 && !bad, Choppy: bad})
			require.Less(t, len(trials), 50)
		}
	}
	above := func(rung, _ int) bool { return rung >= 2 }
	order, got := try(Climb{Columns: []int{5}, More: []bool{false, true, true, true, false}}, above)
	require.Equal(t, []int{0, 1, 2, 1, 2}, order, "it counts as the second that is not smooth")
	require.Equal(t, Ceiling{Rung: 1, Next: 2, Confirmed: true}, got)
	order, _ = try(Climb{Columns: []int{5}, More: []bool{false, false, false, false, true}}, above)
	require.Equal(t, []int{0, 1, 2, 3, 1, 2}, order)
	order, _ = try(Climb{Columns: []int{5}, More: []bool{false, true, true, true, true}, All: true}, above)
	require.Equal(t, []int{0, 1, 2, 3, 4, 1, 2}, order)
	order, got = try(Climb{Columns: []int{5}, More: []bool{false, true, true, true, true}}, func(rung, n int) bool { return rung > 2 || rung == 2 && n == 0 })
	require.Equal(t, []int{0, 1, 2, 1, 2, 3, 2, 3}, order, "the first attempt at 2 was a fluke")
	require.Equal(t, Ceiling{Rung: 2, Next: 3, Confirmed: true}, got)
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
	require.Equal(t, []int{1}, c.OutOfOrder([]Trial{{Rung: 0, Smooth: true}, {Rung: 1, Smooth: false}, {Rung: 2, Smooth: true}, {Rung: 3, Smooth: false}, {Rung: 4, Smooth: false}, {Rung: 5, Smooth: false}}))
	require.Empty(t, c.OutOfOrder([]Trial{{Rung: 0, Smooth: true}, {Rung: 1, Smooth: false}}))
}

// Void attempts count for neither side: a rung at which none counts is passed
// over, and what is above it is unconfirmed.
func TestVoidAttempts(t *testing.T) {
	c := Climb{Columns: []int{5}}
	try := func(answer func(rung, n int) (bool, Void)) (order []int, result Ceiling) {
		var trials []Trial
		tried := map[int]int{}
		for {
			rung, _, more := c.Next(trials)
			if !more {
				return order, c.Ceilings(trials)[0]
			}
			smooth, void := answer(rung, tried[rung])
			tried[rung]++
			order, trials = append(order, rung), append(trials, Trial{Rung: rung, Smooth: smooth, Void: void})
			require.Less(t, len(trials), 50)
		}
	}
	order, got := try(func(rung, n int) (bool, Void) {
		if rung == 1 {
			return false, Repeatable
		}
		return rung < 3, Counts
	})
	require.Equal(t, []int{0, 1, 1, 1, 2, 3, 4, 2, 3}, order)
	require.Equal(t, Ceiling{Rung: 2, Next: 3, Untried: []int{1}}, got)
	order, got = try(func(rung, n int) (bool, Void) {
		if rung == 4 {
			return false, Permanent
		}
		return true, Counts
	})
	require.Equal(t, []int{0, 1, 2, 3, 4, 3}, order)
	require.Equal(t, Ceiling{Rung: 3, Next: -1, Last: true, Untried: []int{4}}, got)
	order, got = try(func(rung, n int) (bool, Void) {
		if rung == 2 && n < 5 {
			return false, Interrupted
		}
		return rung < 2, Counts
	})
	require.Equal(t, []int{0, 1, 2, 2, 2, 2, 2, 2, 3, 1, 2}, order, "a rung may be interrupted any number of times")
	require.Equal(t, Ceiling{Rung: 1, Next: 2, Confirmed: true}, got)
	order, got = try(func(rung, n int) (bool, Void) {
		if rung == 1 && n > 0 {
			return false, Repeatable
		}
		return rung < 2, Counts
	})
	require.Equal(t, []int{0, 1, 2, 3, 1, 1, 1, 2}, order)
	require.Equal(t, Ceiling{Rung: 1, Next: 2}, got, "it could not be confirmed")
	_, got = try(func(int, int) (bool, Void) { return false, Permanent })
	require.Equal(t, Ceiling{Rung: -1, Next: -1, Last: true, Untried: []int{0, 1, 2, 3, 4}}, got)
}
