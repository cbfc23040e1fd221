package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/tally"
)

// A film of varying frame rate is judged by the times that it gives its pictures: slow stretches are
// no freezes and fast ones must be kept up with.
func TestVaryingFrameRates(t *testing.T) {
	const ms = time.Millisecond
	line := tally.Listed{Length: 4 * time.Second}
	for at := time.Duration(0); at < line.Length; { // 5, 25 and 50 frames a second, a while each
		line.Times = append(line.Times, at)
		switch s := at / time.Second; {
		case s < 1:
			at += 200 * ms
		case s < 2:
			at += 40 * ms
		default:
			at += 20 * ms
		}
	}
	judge := func(decoded func(i int) bool) (Grade, []string) {
		s := tally.NewScreen(tally.ScreenConfig{Refresh: 60, Late: tally.Drop, Frames: line, Spans: []tally.Span{{Kind: tally.Steady, To: line.Length}}})
		for i := range line.Times {
			if decoded(i) {
				s.Decoded(i, -time.Second)
			}
		}
		for {
			if _, more := s.Next(); !more {
				break
			}
			s.Refresh()
		}
		delay := 0.1
		return Default().Judge(tally.Tally{StartDelayS: &delay, Windows: s.Finish()})
	}
	grade, reasons := judge(func(int) bool { return true })
	require.Equal(t, Smooth, grade, reasons)
	last := len(line.Times) - 1
	grade, reasons = judge(func(i int) bool { return i != last-20 && i != last-40 })
	require.Equal(t, Marginal, grade, reasons)
	require.Contains(t, reasons[0], "2 of 130 frames dropped")
	grade, reasons = judge(func(i int) bool { return i < 30 || i%2 == 0 }) // half of the fast stretch
	require.Equal(t, Choppy, grade, reasons)
	grade, reasons = judge(func(i int) bool { return i < 40 || i > 47 }) // 160 ms without a new picture
	require.Equal(t, Choppy, grade, reasons)
}
