package program

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPatterns(t *testing.T) {
	for _, wrong := range []string{"(", "(?P<frames>[0-9]+)", "([0-9]+)", ""} {
		_, err := ParsePattern(wrong)
		require.Error(t, err, wrong)
	}
	p, err := ParsePattern(`(?P<shown>\d+) drawn, (?P<dropped>\d+) lost, (?P<lead_s>[\d,]+) s`)
	require.NoError(t, err)
	s, ok := p.read("at 3 s: 75 drawn, 2 lost, 1,5 s in hand", time.Time{})
	require.True(t, ok)
	require.Equal(t, state{shown: 75, dropped: 2, rate: -1, position: -1, lead: 1.5}, s)
	_, ok = p.read("nothing of it", time.Time{})
	require.False(t, ok)
}

// said is a listener to which lines were said, one every tenth of a second.
func said(t *testing.T, pattern string, lines ...string) (*listener, time.Time) {
	p, err := ParsePattern(pattern)
	require.NoError(t, err)
	l, noon := &listener{pattern: p}, time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for i, line := range lines {
		s, ok := p.read(line, noon.Add(time.Duration(i)*100*time.Millisecond))
		require.True(t, ok, line)
		l.states = append(l.states, s)
	}
	return l, noon
}

func TestCountsBetweenLines(t *testing.T) {
	end := 400 * time.Millisecond
	l, from := said(t, `(?P<shown>\d+)/(?P<dropped>\d+)`, "0/0", "2/0", "4/1", "6/1", "8/2")
	f := l.between(from, from.Add(end), 25)
	require.Equal(t, []int{10, 8, 2}, []int{f.Due, f.Shown, f.Dropped})
	l, from = said(t, `lost (?P<dropped>\d+)`, "lost 3", "lost 3", "lost 4", "lost 4", "lost 5")
	f = l.between(from, from.Add(end), 25)
	require.Equal(t, []int{10, 8, 2}, []int{f.Due, f.Shown, f.Dropped})
	l, from = said(t, `(?P<shown_rate>[\d.]+) a second`, "20 a second", "20.0 a second", "20 a second", "20 a second", "20 a second")
	f = l.between(from, from.Add(end), 25)
	require.Equal(t, []int{10, 8, 2}, []int{f.Due, f.Shown, f.Dropped})
	l, from = said(t, `at (?P<position_s>[\d.]+)`, "at 0", "at 0.9", "at 1.8", "at 2.7", "at 3.6")
	require.Nil(t, l.between(from, from.Add(end), 25))
	require.Nil(t, l.speed(from, from.Add(end))) // of half a second nothing can be said
	require.Nil(t, l.between(from.Add(time.Hour), from.Add(2*time.Hour), 25))
}

func TestListenerEndsLinesAtReturns(t *testing.T) {
	p, err := ParsePattern(`(?P<position_s>\d+) s`)
	require.NoError(t, err)
	l := &listener{pattern: p}
	for _, part := range []string{"1 s\r2 ", "s\r\n3 s\n", "the \x1b[31mpump\x07 failed\n"} {
		n, err := l.Write([]byte(part))
		require.NoError(t, err)
		require.Equal(t, len(part), n)
	}
	require.Len(t, l.states, 3)
	require.Equal(t, 3., l.states[2].position)
	require.Equal(t, `; it last said "the [31mpump failed"`, l.said())
	_, _ = l.Write(make([]byte, 10*maxLine))
	require.Len(t, l.line, maxLine)
}

func TestCommandsAreSplitWithoutAShell(t *testing.T) {
	cmd, err := build(`player --title 'the ferry' "{file}" {width}`, false, places{"file": "/a b/c;d.mp4", "width": "640"})
	require.NoError(t, err)
	require.Equal(t, []string{"player", "--title", "the ferry", "/a b/c;d.mp4", "640"}, cmd.Args)
	for _, wrong := range []string{"player {file} | less", "player {file} > log", "", "player 'open"} {
		_, err := build(wrong, false, nil)
		require.Error(t, err, wrong)
	}
	cmd, err = build("player {file} | cat", true, places{"file": "/it's here"})
	require.NoError(t, err)
	require.Equal(t, `player '/it'\''s here' | cat`, cmd.Args[2])
}

func FuzzPattern(f *testing.F) {
	f.Add(`(?P<shown>\d+) (?P<dropped>[\d,.]+)`, "12 3,4\r13 4\n")
	f.Add(`(?P<position_s>.*)`, "NaN\nInf\n1e400\n-1\n")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		p, err := ParsePattern(pattern)
		if err != nil {
			return
		}
		l := &listener{pattern: p}
		if _, err := l.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		now := time.Now()
		if f := l.between(now.Add(-time.Hour), now, 25); f != nil && f.Due < 0 {
			t.Fatalf("%+v", f)
		}
		l.said()
	})
}
