package program

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/chromium"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/tally"
	"vividstrain/core/x11/x11test"
)

// player is the program of testdata/player, and clips a folder of clips; made once.
var player, clips string

// preparing is held while a clip is made, which two tests may need.
var preparing sync.Mutex

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "vividstrain-player-")
	if err != nil {
		panic(err)
	}
	player, clips = filepath.Join(dir, "player"), filepath.Join(dir, "clips")
	if out, err := exec.Command("go", "build", "-o", player, "./testdata/player").CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

const drawn = `at (?P<position_s>[\d.]+) s, (?P<shown>\d+) drawn, (?P<dropped>\d+) lost`

// play plays a load with the player and arguments.
func play(t *testing.T, line string, o Options, arguments string, hold time.Duration) route.Result {
	l, err := load.Parse(line)
	require.NoError(t, err)
	o.Clips, o.Start = clips, player+" "+arguments+" {file}"
	if strings.Contains(arguments, "{") {
		o.Start = player + " " + arguments
	}
	p, err := New(o)
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.Check(l))
	preparing.Lock()
	err = p.Prepare(t.Context(), l, nil)
	preparing.Unlock()
	require.NoError(t, err)
	r, err := p.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: hold, Settle: 400 * time.Millisecond}, func(route.Live) {})
	require.NoError(t, err)
	return r
}

func steady(t *testing.T, r route.Result) *tally.Frames {
	require.Empty(t, r.Failure)
	require.Len(t, r.Streams, 1)
	f := r.Streams[0].Steady()
	require.NotNil(t, f)
	return f
}

// brief returns how many frames the player showed for less than 15 ms, by its own record: on a busy
// machine it comes late, and then shows several at once. Nobody can be expected to see those.
func brief(t *testing.T, path string) (n int) {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	before := int64(0)
	for line := range strings.Lines(string(data)) {
		var frame int
		var at int64
		if _, err := fmt.Sscan(line, &frame, &at); err != nil {
			break // the last one
		}
		if at-before < int64(15*time.Millisecond) {
			n++
		}
		before = at
	}
	return n
}

// What the player leaves out is counted on the screen, whatever it says: exactly at 25 and 30 frames a
// second, within one at 60; less what was shown for a moment only, or while nobody could look.
func TestDropsAreCountedOnTheScreen(t *testing.T) {
	x11test.Display(t)
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 7))
		rate := []int{25, 30, 60}[seed%3]
		list, want := []string{}, map[int]bool{}
		for range r.IntN(6) {
			n := rate/2 + 3 + r.IntN(rate-8) // in the window from 0.4 to 1.6 s
			list, want[n] = append(list, fmt.Sprint(n)), true
		}
		truth := filepath.Join(t.TempDir(), "truth")
		result := play(t, fmt.Sprintf("h264 320x180p%d 500k", rate), Options{Eye: "x11:ferry", Lines: drawn}, "-window 400x300 -lie -truth "+truth+" -drop '"+strings.Join(list, ",")+"'", 1600*time.Millisecond)
		f := steady(t, result)
		off := brief(t, truth) + f.Unread
		if rate == 60 {
			off++
		}
		require.InDelta(t, len(want), f.Dropped, float64(off), "seed %d, rate %d, dropped %v: %+v", seed, rate, list, f)
		require.Equal(t, 0, f.Wrong)
		if f.Told != nil {
			require.Equal(t, 0, f.Told.Dropped) // it lies
		}
	}
}

func TestFaultsAreTold(t *testing.T) {
	x11test.Display(t)
	const line = "h264 320x180p25 500k"
	hold := 2 * time.Second
	eye := Options{Eye: "x11"}
	f := steady(t, play(t, line, eye, "-freeze 20:400ms", hold))
	require.GreaterOrEqual(t, f.Freezes, 1)
	require.Greater(t, f.LongestFreezeMS, 350.)
	f = steady(t, play(t, line, eye, "-speed 0.8", hold))
	require.InDelta(t, 0.8, f.Speed, 0.06)
	r := play(t, line, eye, "-tear 30 -freeze 30:200ms", hold)
	require.Equal(t, 1, r.Streams[0].Watching.Torn)
	r = play(t, line, eye, "-crash 30", hold)
	require.Contains(t, r.Failure, "before its time was over: exit status 7; it last said \"the pump failed\"")
	r = play(t, line, eye, "-hang 30", 7*time.Second)
	require.Contains(t, r.Failure, "it hung 1.")
	r = play(t, line, Options{Lines: drawn}, "-quiet -hang 30", 7*time.Second)
	require.Contains(t, r.Failure, "it is still there, but nothing moves; it last said \"at 1.20 s, 30 drawn, 0 lost\"")
}

// The player is told where to jump, and takes its time.
func TestJumpsAreTimed(t *testing.T) {
	x11test.Display(t)
	file := filepath.Join(t.TempDir(), "jump")
	r := play(t, "h264 320x180p25 500k", Options{Eye: "x11", Jump: player + " -write " + file + " {position_s}", Jumps: 3}, "-window 320x180 -obey "+file+" -later 300ms", 2*time.Second)
	require.Empty(t, r.Failure)
	require.Empty(t, r.Notes)
	jumps := r.Streams[0].Jumps
	require.Len(t, jumps, 3)
	for _, j := range jumps {
		require.Greater(t, j.DelayS, 0.3)
		require.Less(t, j.DelayS, 5.)
	}
	require.Equal(t, []tally.JumpKind{tally.Forward, tally.Back, tally.Forward}, []tally.JumpKind{jumps[0].Kind, jumps[1].Kind, jumps[2].Kind})
	r = play(t, "h264 320x180p25 500k", Options{Eye: "x11", Jump: "true {position_s}", Jumps: 1}, "-window 320x180", 2*time.Second)
	require.Contains(t, r.Notes[0], "its picture was not seen within 15s")
	for _, jump := range []string{"true", "key:Right", "key:Right+0", "no-such-command {position_s}"} {
		_, err := New(Options{Start: player + " {file}", Eye: "x11", Jump: jump})
		require.Error(t, err, jump)
	}
}

func TestCountingByLines(t *testing.T) {
	t.Parallel()
	r := play(t, "h264 320x180p25 500k", Options{Lines: drawn}, "-quiet -drop 22,23,30", 2*time.Second)
	f := steady(t, r)
	require.Equal(t, 3, f.Dropped)
	window := float64(f.Shown) / f.ShownRate                  // from line to line
	require.InDelta(t, 25*window*f.Speed, f.Due, 2, "%+v", f) // however busy the machine is
	require.Equal(t, &tally.Told{Due: f.Due, Dropped: 3}, f.Told)
}

func TestWithoutCounting(t *testing.T) {
	t.Parallel()
	const line, hold = "h264 320x180p25 500k", 2 * time.Second
	t.Run("speed", func(t *testing.T) {
		t.Parallel()
		r := play(t, line, Options{}, "-quiet", hold)
		require.Empty(t, r.Failure)
		normal := *r.Streams[0].Speed // 1, unless the machine is so busy that it starts late
		require.LessOrEqual(t, normal, 1.)
		require.Nil(t, r.Streams[0].Steady())
		r = play(t, line, Options{}, "-quiet -speed 0.25", hold)
		require.Less(t, *r.Streams[0].Speed, normal)
		require.LessOrEqual(t, *r.Streams[0].Speed, 2/6.)
	})
	t.Run("crash", func(t *testing.T) {
		t.Parallel()
		require.Contains(t, play(t, line, Options{}, "-quiet -crash 10", hold).Failure, "exit status 7")
	})
	t.Run("stop", func(t *testing.T) {
		t.Parallel()
		r := play(t, line, Options{Listen: "127.0.0.1:0", Stop: "false"}, "-quiet {file} {url}", hold)
		require.Contains(t, r.Notes, "--stop failed: exit status 1")
	})
	p, err := New(Options{Start: player + " {url}", Listen: "127.0.0.1:0", Stop: "true"})
	require.NoError(t, err)
	defer p.Close()
	require.Empty(t, p.Sources(), "they would be those of another machine")
	require.Equal(t, "a machine by player", p.Device().Name)
}

// A browser is a player like any other.
func TestBrowserAsAPlayer(t *testing.T) {
	x11test.Display(t)
	browser := chromium.Find()
	require.NotEmpty(t, browser)
	l, err := load.Parse("h264 320x180p25 500k")
	require.NoError(t, err)
	p, err := New(Options{Clips: clips, Eye: "x11", Start: browser + " --no-sandbox --kiosk --no-first-run --disable-background-networking --autoplay-policy=no-user-gesture-required --user-data-dir='" + t.TempDir() + "' {file}"})
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.Prepare(t.Context(), l, nil))
	r, err := p.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: 3 * time.Second, Settle: time.Second}, func(route.Live) {})
	require.NoError(t, err)
	f := steady(t, r)
	require.InDelta(t, 50*f.Speed, f.Due, 3, "%+v", f) // on a busy machine it starts late, and shows its first picture for long
	require.Equal(t, f.Due, f.Shown+f.Dropped+f.Unread)
	require.Equal(t, 0, f.Wrong)
	require.Positive(t, f.Shown)
}

func TestWrongSettings(t *testing.T) {
	for _, o := range []Options{
		{}, {Start: player}, {Start: "no-such-player {file}"}, {Start: player + " {file}", Count: "lines"}, {Start: player + " {file}", Count: "marks"},
		{Start: player + " {file}", Count: "eyes"}, {Start: player + " {file}", Lines: "("}, {Start: player + " {file}", Eye: "mirror"}, {Start: player + " {file} | tee"},
	} {
		_, err := New(o)
		require.Error(t, err, "%+v", o)
	}
	t.Setenv("DISPLAY", "")
	_, err := New(Options{Start: player + " {file}", Eye: "x11"})
	require.ErrorContains(t, err, "DISPLAY is not set; read it with a capture card")
}
