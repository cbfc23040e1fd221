package tally

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// watch has a screen of 60 Hz watched twice a refresh for some seconds; shows returns the frame that is
// on it at a time.
func watch(rate Constant, round int, seconds float64, shows func(t float64) int) *Watched {
	w := NewWatched(WatchedConfig{Refresh: 60, Rate: rate, Round: round})
	for k := range int(seconds * 120) {
		t := float64(k) / 120
		frame := shows(float64(int(t*60+1e-9)) / 60)
		w.Read(noon.Add(time.Duration(t*1e9)), frame%round, true)
	}
	return w
}

func steady(w *Watched, from, to time.Duration) Frames {
	list := w.Windows([]Span{{Settle, 0, from}, {Steady, from, to}})
	return *list[len(list)-1].Frames
}

func TestWatchedScreenWithoutFaults(t *testing.T) {
	for _, rate := range []Constant{{25, 1}, {30, 1}, {60, 1}, {24000, 1001}} {
		hz := float64(rate.Num) / float64(rate.Den)
		w := watch(rate, 50, 7, func(t float64) int { return int(t*hz + 1e-6) })
		f := steady(w, time.Second, 6*time.Second)
		require.InDelta(t, 5*hz, f.Due, 1, "%v", rate)
		require.Equal(t, []int{f.Due, 0, 0, 0, 0, 0}, []int{f.Shown, f.Dropped, f.Freezes, f.Wrong, f.Uneven, f.Unread}, "%v", rate)
		require.InDelta(t, 1, f.Speed, 0.004)
	}
}

func TestWatchedDropsAreCounted(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		dropped := map[int]bool{}
		for range r.IntN(12) {
			dropped[30+r.IntN(110)] = true
		}
		w := watch(Constant{25, 1}, 50, 7, func(t float64) int {
			n := int(t*25 + 1e-6)
			for dropped[n] {
				n--
			}
			return n
		})
		f := steady(w, time.Second, 6*time.Second)
		require.Equal(t, []int{125, len(dropped)}, []int{f.Due, f.Dropped}, "seed %d: %v", seed, dropped)
	}
}

func TestWatchedFreezeAndSlowMotion(t *testing.T) {
	w := watch(Constant{25, 1}, 50, 7, func(t float64) int {
		if t > 2 && t < 3.2 {
			t = 2
		}
		return int(t*25 + 1e-6)
	})
	f := steady(w, time.Second, 6*time.Second)
	require.Equal(t, []int{1, 29}, []int{f.Freezes, f.Dropped}) // 51 to 79
	require.InDelta(t, 1200, f.LongestFreezeMS, 20)
	slow := steady(watch(Constant{25, 1}, 50, 7, func(t float64) int { return int(t*22 + 1e-6) }), time.Second, 6*time.Second)
	require.Equal(t, 0, slow.Dropped)
	require.InDelta(t, 0.88, slow.Speed, 0.01)
}

func TestWatchedWithoutLooking(t *testing.T) {
	w := NewWatched(WatchedConfig{Refresh: 60, Rate: Constant{25, 1}, Round: 50})
	for k := range 7 * 120 {
		if k > 300 && k < 330 { // a quarter second without a look
			continue
		}
		at := float64(k) / 120
		w.Read(noon.Add(time.Duration(at*1e9)), int(at*25+1e-6)%50, true)
	}
	f := steady(w, time.Second, 6*time.Second)
	require.Equal(t, 0, f.Dropped)
	require.InDelta(t, 6, f.Unread, 1)
	require.Equal(t, 125, f.Due)
	require.InDelta(t, 250, w.Watching().WidestMS, 20)
}

func TestWatchedGoingBack(t *testing.T) {
	w := watch(Constant{25, 1}, 500, 4, func(t float64) int {
		n := int(t*25 + 1e-6)
		if n == 60 || n == 61 {
			return 121 - n // 61 before 60
		}
		return n
	})
	require.Equal(t, 1, steady(w, time.Second, 3*time.Second).Wrong)
}
