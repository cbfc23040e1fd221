package tally

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const ms = time.Millisecond

// play shows n frames on a screen with one settle and one steady window; ready
// tells when each frame is decoded, false: never.
func play(t *testing.T, late Late, rate Constant, refresh float64, length time.Duration, ready func(i int) (time.Duration, bool)) []Window {
	s := NewScreen(ScreenConfig{Refresh: refresh, Late: late, Frames: rate,
		Spans: []Span{{Settle, 0, length / 5}, {Steady, length / 5, length}}})
	next := 0
	for {
		now, more := s.Next()
		if !more {
			break
		}
		for {
			at, ok := ready(next)
			if !ok {
				next++
				continue
			}
			if at > now {
				break
			}
			s.Decoded(next, at)
			next++
			if next > 100000 {
				break
			}
			if s.Due(next) > now+time.Second {
				break
			}
		}
		s.Refresh()
	}
	return s.Finish()
}

// inTime decodes every frame well before it is due.
func inTime(rate Constant) func(int) (time.Duration, bool) {
	return func(i int) (time.Duration, bool) { return rate.At(i) - 100*ms, true }
}

func TestPerfectPlayback(t *testing.T) {
	for _, c := range []struct {
		rate    Constant
		refresh float64
		due     int // in 8 s
		hidden  int
	}{
		{Constant{30, 1}, 60, 240, 0},
		{Constant{60, 1}, 60, 480, 0},
		{Constant{25, 1}, 60, 200, 0},
		{Constant{24000, 1001}, 60, 192, 0},
		{Constant{60000, 1001}, 60, 479, 0},
		{Constant{120, 1}, 60, 480, 480},
		{Constant{50, 1}, 120, 400, 0},
	} {
		for _, late := range []Late{Drop, Wait} {
			w := play(t, late, c.rate, c.refresh, 10*time.Second, inTime(c.rate))
			require.Len(t, w, 2)
			f := w[1].Frames
			require.InDelta(t, c.due, f.Due, 1, "%+v", c)
			require.Equal(t, f.Due, f.Shown)
			require.Zero(t, f.Dropped+f.Late+f.Repeats+f.Freezes)
			require.InDelta(t, c.hidden, f.Hidden, 1)
			require.Zero(t, f.LongestFreezeMS)
			require.InDelta(t, 1, f.Speed, 1e-6)
			require.InDelta(t, float64(c.due)/8, f.ShownRate, 0.2)
		}
	}
}

// Frame 100 (due at 4.00 s) is decoded 210 ms late, and its successors at once
// behind it: 105, due at 4.20 s, is shown one refresh late; 100 to 104 never.
func TestOneSlowFrameIsCountedExactly(t *testing.T) {
	rate := Constant{25, 1}
	w := play(t, Drop, rate, 100, 10*time.Second, func(i int) (time.Duration, bool) {
		at, _ := inTime(rate)(i)
		if i >= 100 {
			at = max(at, 4*time.Second+210*ms)
		}
		return at, true
	})
	f := w[1].Frames
	require.Equal(t, Frames{Due: 200, Shown: 195, Dropped: 5, Late: 0, Repeats: 21, Freezes: 1,
		LongestFreezeMS: 250, ShownRate: 195. / 8, Speed: 1}, *f)
	require.Zero(t, w[0].Frames.Dropped)
}

func TestFrameNeverDecodedIsDropped(t *testing.T) {
	rate := Constant{30, 1}
	w := play(t, Drop, rate, 60, 5*time.Second, func(i int) (time.Duration, bool) {
		at, _ := inTime(rate)(i)
		return at, i%10 != 7
	})
	require.Equal(t, 12, w[1].Frames.Dropped)
	require.Equal(t, 120, w[1].Frames.Due)
	require.Equal(t, 24, w[1].Frames.Repeats, "the frame before stays for two more refreshes")
}

func TestWaitPlaysEveryFrameSlower(t *testing.T) {
	w := play(t, Wait, Constant{30, 1}, 60, 10*time.Second, func(i int) (time.Duration, bool) {
		return time.Duration(i) * 50 * ms, true // 20 frames a second
	})
	f := w[1].Frames
	require.Zero(t, f.Dropped)
	require.InDelta(t, 2./3, f.Speed, 0.01)
	require.InDelta(t, 20, f.ShownRate, 0.2)
}

func TestStoppedEarlyAccountsOnlyForWhatWasDue(t *testing.T) {
	s := NewScreen(ScreenConfig{Refresh: 60, Late: Drop, Frames: Constant{30, 1}, Spans: []Span{{Steady, 0, 10 * time.Second}}})
	for range 60 {
		s.Refresh()
	}
	w := s.Finish()
	require.Equal(t, 30, w[0].Frames.Due)
	require.Equal(t, 30, w[0].Frames.Dropped)
	require.InDelta(t, 1, w[0].ToS, 1e-6)
}

func TestTooLate(t *testing.T) {
	s := NewScreen(ScreenConfig{Refresh: 60, Late: Drop, Frames: Constant{25, 1}, Spans: []Span{{Steady, 0, time.Second}}})
	require.False(t, s.TooLate(3, 159*ms))
	require.True(t, s.TooLate(3, 160*ms))
	s = NewScreen(ScreenConfig{Refresh: 60, Late: Wait, Frames: Constant{25, 1}, Spans: []Span{{Steady, 0, time.Second}}})
	require.False(t, s.TooLate(3, time.Hour))
}

func TestConstantTimelineDoesNotOverflow(t *testing.T) {
	day := Constant{120000, 1001}
	require.InDelta(t, 1001./120000*1e8, day.At(100_000_000).Seconds(), 1e-3)
}

func BenchmarkRefresh(b *testing.B) {
	s := NewScreen(ScreenConfig{Refresh: 60, Late: Drop, Frames: Constant{60, 1}, Spans: []Span{{Steady, 0, 1 << 62}}})
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		s.Decoded(i, 0)
		s.Refresh()
	}
}

// A file of varying frame rate asks for long holds itself: they are no freezes, and its
// longest freeze is that of what froze.
func TestHoldsThatAFileAsksFor(t *testing.T) {
	line := Listed{Times: []time.Duration{0, 40 * ms, 80 * ms, 880 * ms, 920 * ms, 960 * ms}, Length: time.Second}
	play := func(without int) Frames {
		s := NewScreen(ScreenConfig{Refresh: 60, Late: Drop, Frames: line, Spans: []Span{{Steady, 0, 4 * time.Second}}})
		for i := range 24 {
			if i < without || i >= without+4 {
				s.Decoded(i, -time.Second)
			}
		}
		for {
			if _, more := s.Next(); !more {
				return *s.Finish()[0].Frames
			}
			s.Refresh()
		}
	}
	f := play(100)
	require.Zero(t, f.Freezes)
	require.Zero(t, f.LongestFreezeMS)
	f = play(9) // frame 8 has 800 ms, then four of 40 ms are missing: it is held for less than three times its time
	require.Zero(t, f.Freezes)
	f = play(10)
	require.Equal(t, 1, f.Freezes)
	require.InDelta(t, 200, f.LongestFreezeMS, 20)
}
