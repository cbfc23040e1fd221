package page

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/tally"
)

// playedPage is what a page reports that plays a film of 25 frames a second from the page's time
// 1000 ms on.
type playedPage struct {
	seconds float64
	shows   func(frame int) bool                  // whether a frame reaches the display
	at      func(frame int) (display float64)     // when; nil: in time
	mark    func(frame int) float64               // nil: the right one
	ahead   func(t, at float64) (fetched float64) // nil: all of 100 s
	uncount bool                                  // the browser has no frame callback
}

// report gives an account what the page reports.
func (p playedPage) report(a *account) {
	a.film = 100
	a.take(&message{Say: "event", Kind: "ordered", T: 900})
	n, dropped := 0, 0
	frame := 0
	for t := 1000.0; t <= 1000+1000*p.seconds; t += 250 {
		var frames []present
		for ; float64(frame)*40+1000 <= t; frame++ {
			if p.shows != nil && !p.shows(frame) {
				dropped++
				continue
			}
			n++
			display := 1000 + float64(frame)*40
			if p.at != nil {
				display = p.at(frame)
			}
			mark := float64(frame % 125)
			if p.mark != nil {
				mark = p.mark(frame)
			}
			frames = append(frames, present{N: float64(n), Media: float64(frame) / 25, Display: display, Mark: mark, Total: float64(n + dropped), Dropped: float64(dropped)})
		}
		if a.first < 0 {
			a.take(&message{Say: "event", Kind: "first", T: 1000})
		}
		total, at := n+dropped, (t-1000)/1000
		if p.uncount {
			frames = nil
		}
		m := &message{Say: "tick", T: t, At: at, Ahead: 100, Total: &total, Dropped: dropped, Frames: frames}
		if p.ahead != nil {
			m.Ahead = p.ahead(t, at)
		}
		a.take(m)
	}
	a.take(&message{Say: "event", Kind: "done", T: 1000 + 1000*p.seconds})
}

func tallied(p playedPage) tally.Tally {
	a := newAccount(10*time.Second, 2*time.Second, 25)
	a.refresh, a.marks = 60, 125
	p.report(a)
	return a.finish()
}

// Without drops the presented frames, the browser's own count and the frames of the film are
// equal.
func TestAllFramesAreCounted(t *testing.T) {
	got := tallied(playedPage{seconds: 10})
	require.Len(t, got.Windows, 2)
	require.Equal(t, tally.Steady, got.Windows[1].Kind)
	f := got.Steady()
	require.Equal(t, []int{200, 200, 0, 0, 0, 0}, []int{f.Due, f.Shown, f.Dropped, f.Late, f.Freezes, f.Wrong})
	require.Equal(t, &tally.Told{Due: 200}, f.Told)
	require.Equal(t, 1.0, f.Speed)
	require.InDelta(t, 0.1, *got.StartDelayS, 1e-9)
	require.Equal(t, 251, *got.Checked, "each picture was checked")
	require.Zero(t, got.Buffer.Stalls)
}

// Dropped frames are found wherever they are in the window, also at its ends.
func TestDroppedFramesAreFound(t *testing.T) {
	for name, missing := range map[string][]int{"single": {60, 100, 140}, "first of the window": {50, 51}, "last of the window": {247, 248, 249}, "in a row": {120, 121, 122, 123}} {
		gone := map[int]bool{}
		for _, f := range missing {
			gone[f] = true
		}
		got := tallied(playedPage{seconds: 12, shows: func(f int) bool { return !gone[f] }}).Steady()
		require.InDelta(t, len(missing), got.Dropped, 0.1, name)
		if name == "in a row" {
			require.Equal(t, 1, got.Freezes)
			require.InDelta(t, 200, got.LongestFreezeMS, 1)
		}
		require.InDelta(t, got.Dropped, got.Told.Dropped, 3, name)
	}
	frozen := tallied(playedPage{seconds: 10, shows: func(f int) bool { return f < 200 }}).Steady()
	require.InDelta(t, 50, frozen.Dropped, 1, "it froze to the end")
	require.InDelta(t, 2000, frozen.LongestFreezeMS, 50)
}

// A browser without the frame callback is believed what it counts itself.
func TestBrowsersThatOnlyCount(t *testing.T) {
	f := tallied(playedPage{seconds: 10, uncount: true, shows: func(f int) bool { return f%20 != 7 }}).Steady()
	require.InDelta(t, 10, f.Dropped, 1)
	require.InDelta(t, 200, f.Due, 2)
	require.Zero(t, f.LongestFreezeMS)
}

// Pictures that are shown late are counted, and pictures that are not those the browser names.
func TestLateAndWrongPictures(t *testing.T) {
	late := tallied(playedPage{seconds: 10, at: func(f int) float64 {
		if f == 100 {
			return 1000 + 100*40 + 35
		}
		return 1000 + float64(f)*40
	}}).Steady()
	require.Equal(t, 1, late.Late)
	require.Equal(t, 2, late.Uneven, "held for too long, and the one after it too briefly")
	swapped := tallied(playedPage{seconds: 10, mark: func(f int) float64 {
		switch f {
		case 100:
			return 101
		case 101:
			return 100
		}
		return float64(f % 125)
	}}).Steady()
	require.Equal(t, 1, swapped.Wrong, "the next one may be on the screen already, the one before not")
}

// Media that arrive at half of the need are told from media that were there.
func TestStarvedPages(t *testing.T) {
	slow := tallied(playedPage{seconds: 10, ahead: func(t, at float64) float64 { return at + 1 + 0.5*(t-1000)/1000 - at*0.9 }})
	require.NotNil(t, slow.Buffer.BuildRate)
	require.InDelta(t, 0.6, *slow.Buffer.BuildRate, 0.05)
	require.NotNil(t, slow.Buffer.StallExpectedAtS)
	a := newAccount(10*time.Second, 2*time.Second, 25)
	a.take(&message{Say: "event", Kind: "first", T: 1000})
	a.take(&message{Say: "event", Kind: "waiting", T: 5000})
	a.take(&message{Say: "event", Kind: "playing", T: 6500})
	a.take(&message{Say: "event", Kind: "done", T: 11000})
	got := a.finish()
	require.Equal(t, 1, got.Buffer.Stalls)
	require.InDelta(t, 1.5, got.Buffer.StallS, 1e-9)
}

// Jumps have their windows, and their delays.
func TestJumpsOfAPage(t *testing.T) {
	a := newAccount(10*time.Second, 2*time.Second, 25)
	playedPage{seconds: 10}.report(a)
	a.done = false
	a.take(&message{Say: "event", Kind: "jump-back", T: 11000, X: 2})
	a.take(&message{Say: "event", Kind: "waiting", T: 11010})
	a.take(&message{Say: "event", Kind: "jumped", T: 11400})
	a.take(&message{Say: "event", Kind: "done", T: 12400})
	got := a.finish()
	require.Equal(t, []tally.Seek{{Kind: tally.Back, AtS: 10, DelayS: 0.4}}, got.Buffer.Jumps)
	require.Zero(t, got.Buffer.Stalls, "waiting after a jump is no stall")
	require.Equal(t, tally.Jump, got.Windows[2].Kind)
	require.Equal(t, 200, got.Steady().Due)
}

// What ends an attempt, and what makes it void.
func TestEndsOfPages(t *testing.T) {
	for kind, says := range map[string]string{"error": "does not play this format", "ended": "it ended 2.0 s into the rung", "refused": "refused to play: no"} {
		a := newAccount(10*time.Second, 2*time.Second, 25)
		a.take(&message{Say: "event", Kind: "first", T: 1000})
		a.take(&message{Say: "event", Kind: kind, T: 3000, X: 4, Text: "no"})
		require.True(t, a.lost)
		require.Contains(t, a.failure, says)
	}
	for kind, says := range map[string]string{"hidden": "hidden", "paused": "paused"} {
		a := newAccount(10*time.Second, 2*time.Second, 25)
		a.take(&message{Say: "event", Kind: kind, T: 3000})
		require.Contains(t, a.void, says)
	}
	early := newAccount(20*time.Second, 2*time.Second, 25)
	playedPage{seconds: 20, shows: func(f int) bool { return f%50 != 3 }}.report(early)
	got := early.finish()
	require.Len(t, got.Early, 1)
	require.Equal(t, 15.0, got.Early[0].S)
	require.InDelta(t, 8, got.Early[0].Dropped, 1)
	require.False(t, math.IsInf(got.Buffer.MinLeadS, 0))
}
