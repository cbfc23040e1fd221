package search

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// crowd asks until all is known.
func crowd(t *testing.T, c Crowd, smooth func(number, n int) bool) (order []int, trials []Counted) {
	tried := map[int]int{}
	for {
		number, why, more := c.Next(trials)
		if !more {
			return order, trials
		}
		require.Equal(t, []Purpose{Explore, Confirm, Decide}[tried[number]], why)
		order = append(order, number)
		trials = append(trials, Counted{Number: number, Smooth: smooth(number, tried[number])})
		tried[number]++
		require.LessOrEqual(t, tried[number], 3)
		require.Less(t, len(trials), 100)
	}
}

func TestCrowdClosesIn(t *testing.T) {
	for limit, want := range map[int][]int{
		0: {1, 1}, 1: {1, 2, 1, 2}, 5: {1, 2, 4, 8, 6, 5, 5, 6}, 3: {1, 2, 4, 3, 3, 4}, 16: {1, 2, 4, 8, 16, 16},
	} {
		order, trials := crowd(t, Crowd{Most: 16}, func(n, _ int) bool { return n <= limit })
		require.Equal(t, want, order, "limit %d", limit)
		good, _ := Crowd{Most: 16}.Bounds(trials)
		require.Equal(t, limit, good)
		require.True(t, Crowd{Most: 16}.Confirmed(trials))
	}
}

func TestCrowdIsNotPettyWithLargeNumbers(t *testing.T) {
	order, trials := crowd(t, Crowd{Most: 10000}, func(n, _ int) bool { return n <= 777 })
	good, bad := Crowd{Most: 10000}.Bounds(trials)
	require.LessOrEqual(t, good, 777)
	require.Greater(t, bad, 777)
	require.Less(t, float64(bad-good), 0.06*float64(good))
	require.Less(t, len(order), 20)
}

// Whatever the answers are, it ends, and what it found was smooth by majority.
func TestCrowdEndsOnAnyDevice(t *testing.T) {
	for seed := range uint64(2000) {
		random := rand.New(rand.NewPCG(seed, 3))
		limit := random.IntN(40)
		c := Crowd{Most: 1 + random.IntN(50)}
		_, trials := crowd(t, c, func(n, _ int) bool { return n <= limit+random.IntN(3)-1 })
		good, bad := c.Bounds(trials)
		require.Less(t, good, c.Most+1)
		require.True(t, bad == 0 || good < bad)
		if good > 0 {
			require.True(t, Majority(byNumber(trials)[good].smooth))
		}
	}
}

func TestVoidNumbers(t *testing.T) {
	try := func(void func(number int) Void) (order []int, good, bad int, confirmed bool) {
		c := Crowd{Most: 16}
		var trials []Counted
		for {
			number, _, more := c.Next(trials)
			if !more {
				good, bad = c.Bounds(trials)
				return order, good, bad, c.Confirmed(trials)
			}
			order, trials = append(order, number), append(trials, Counted{number, number <= 5, void(number)})
			require.Less(t, len(trials), 50)
		}
	}
	order, good, bad, confirmed := try(func(n int) Void {
		if n == 4 {
			return Repeatable
		}
		return Counts
	})
	require.Equal(t, []int{1, 2, 4, 4, 4, 5, 10, 7, 6, 5, 6}, order)
	require.Equal(t, [2]int{5, 6}, [2]int{good, bad})
	require.True(t, confirmed)
	order, _, _, confirmed = try(func(int) Void { return Permanent })
	require.Equal(t, []int{1}, order)
	require.False(t, confirmed)
	order, _, _, confirmed = try(func(int) Void { return Repeatable })
	require.Equal(t, []int{1, 1, 1, 2, 2, 2, 3, 3, 3}, order, "it does not go on for ever")
	require.False(t, confirmed)
}
