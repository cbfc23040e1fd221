package cli_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/chromium/headless"
	"vividstrain/core/logbook"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// One command measures this computer's browser: whole rungs that it plays, a jump, and one that is
// too much for software.
func TestClimbInABrowser(t *testing.T) {
	s := newSession(t)
	out, errOut, status := s.run("climb", "--once", "--route", "page", "--open", "--listen", "127.0.0.1:0", "--hold", "4s", "--settle", "1s", "--baseline", "1s", "--jumps", "1", "--name", "lounge PC", "--json",
		"h264 240p25 0.5M", "h264 2160p30 40M")
	require.Contains(t, []int{0, 1}, status, errOut) // 1: other programs took so much of this computer that nothing counts
	doc := document(t, out)
	require.True(t, doc.Complete)
	require.Equal(t, "lounge PC", doc.Device.Name)
	for _, fact := range []string{"browser", "screen", "refresh_hz", "cores", "cpu"} {
		require.NotEmpty(t, doc.Device.Spec[fact], fact)
	}
	easy, hard := played(t, doc, 0), played(t, doc, 1)
	f := easy.Frames
	require.InDelta(t, 75, f.Due, 2)
	require.Equal(t, f.Due, f.Shown+f.Dropped)
	require.InDelta(t, f.Due, f.Told.Due, 5, "the browser's own count")
	require.Len(t, easy.Buffer.Jumps, 1)
	require.True(t, easy.Promise.Supported)
	require.Contains(t, easy.Use, "group_cpu_pct", "the browser's processes are watched")
	require.Greater(t, easy.Use["group_processes"].Max, 2.0, "with its helpers")
	require.True(t, hard.Verdict != verdict.Smooth && (hard.Frames.Dropped > 2 || hard.Frames.Speed < 0.97), "2160p30 is too much for software on two cores")
	told := s.ok("show")
	for _, words := range []string{"lounge PC", "Jumps, to the first picture after each", "dropped"} {
		require.Contains(t, told, words)
	}
}

// played returns the first attempt at a rung in which frames were counted, also one that is void
// because others used this computer.
func played(t *testing.T, doc logbook.Document, rung int) logbook.Attempt {
	for _, a := range doc.Rungs[rung].Attempts {
		if a.Frames != nil {
			return a
		}
	}
	t.Fatalf("rung %d was not played: %+v", rung, doc.Rungs[rung].Attempts)
	return logbook.Attempt{}
}

// A browser that is killed has failed the rung; another is opened and the climb goes on.
func TestKilledBrowser(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	temporary := filepath.Join(s.dir, "tmp")
	require.NoError(t, os.Mkdir(temporary, 0o700))
	s.env = append(s.env, "TMPDIR="+temporary)
	c := s.command("climb", "--route", "page", "--open", "--listen", "127.0.0.1:0", "--hold", "5s", "--settle", "1s", "--baseline", "0s", "--all", "--json", "h264 240p25 0.5M", "h264 360p25 1M")
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	require.NoError(t, c.Start())
	playing := func() bool { // a film is kept for as long as it plays
		list, err := filepath.Glob(filepath.Join(temporary, "vividstrain-films-*", "*.mp4"))
		return err == nil && len(list) > 0
	}
	require.Eventually(t, playing, 2*time.Minute, 50*time.Millisecond)
	time.Sleep(2 * time.Second)
	require.NoError(t, exec.Command("pkill", "-KILL", "-f", "user-data-dir="+temporary).Run())
	_ = c.Wait() // nothing may count where others use this computer
	doc := document(t, out.String())
	require.True(t, doc.Complete)
	reasons := ""
	for _, a := range doc.Rungs[0].Attempts {
		reasons += strings.Join(a.Reasons, " ") + " "
	}
	require.Contains(t, reasons, "the browser ended")
	require.Positive(t, played(t, doc, 1).Frames.Shown, "the climb goes on")
}

// A link that carries half of the need is what was the limit, not the device.
func TestStarvedBrowser(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	out, errOut, status := s.run("climb", "--once", "--route", "page", "--open", "--listen", "127.0.0.1:0", "--hold", "9s", "--settle", "2s", "--baseline", "0s", "--link", "1M", "--json", "h264 360p25 2M")
	require.Contains(t, []int{0, 1}, status, errOut)
	a := played(t, document(t, out), 0)
	require.NotEqual(t, verdict.Smooth, a.Verdict)
	require.Less(t, *a.Buffer.BuildRate, 0.8)
	require.Greater(t, a.Use["net_link_pct:to the page"].Mean, 90.0, "sending had to wait")
	if a.Verdict != verdict.Void {
		require.Equal(t, verdict.Network, a.Limiter, a.Evidence)
	}
}

// A link that gets worse and better again makes a device step down and up again. Where the browser
// drops frames, which is no link's fault, it stays at the lower quality for long: that is tried again.
func TestAdaptivePlayingStepsDownAndUp(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	var got logbook.Attempt
	for range 3 {
		out, errOut, status := s.run("climb", "--route", "page", "--open", "--listen", "127.0.0.1:0", "--adaptive", "--hold", "32s", "--settle", "2s", "--baseline", "0s", "--link", "6M,0.7M@7s,8M@17s", "--json",
			"h264 160p25 0.2M", "h264 240p25 0.8M", "h264 360p25 2M")
		require.Contains(t, []int{0, 1}, status, errOut)
		got = played(t, document(t, out), 0)
		if !slices.ContainsFunc(got.Adaptive.Steps, func(s tally.Step) bool { return strings.HasSuffix(s.Why, "frames dropped") }) {
			break
		}
	}
	up, down, again := false, false, false
	for i := 1; i < len(got.Adaptive.Steps); i++ {
		change := got.Adaptive.Steps[i].Quality - got.Adaptive.Steps[i-1].Quality
		again = again || down && change > 0
		down = down || up && change < 0
		up = up || change > 0
	}
	require.True(t, up && down && again, "%+v", got.Adaptive.Steps)
	require.Equal(t, []string{"h264 160p25 200k", "h264 240p25 800k", "h264 360p25 2M"}, got.Adaptive.Qualities)
	require.NotNil(t, got.Frames, "frames are counted across the changes")
	require.Contains(t, s.ok("show"), "settles")
}

// Two devices play each rung at the same time, with a verdict for each; a page that is hidden says
// nothing about its device, and the rung is played again.
func TestTwoBrowsersOneOfThemHidden(t *testing.T) {
	s := newSession(t)
	c := s.command("climb", "--route", "page", "--devices", "2", "--listen", "127.0.0.1:0", "--hold", "4s", "--settle", "1s", "--baseline", "0s", "--json", "h264 160p25 0.3M")
	var out, errOut syncBuffer
	c.Stdout, c.Stderr = &out, &errOut
	require.NoError(t, c.Start())
	defer c.Process.Kill()
	address := regexp.MustCompile(`http://127\.0\.0\.1:\S+`)
	require.Eventually(t, func() bool { return address.MatchString(errOut.String()) }, time.Minute, 50*time.Millisecond)
	var tabs []context.Context
	for range 2 {
		tab, end, err := headless.Start(context.Background())
		require.NoError(t, err)
		defer end()
		require.NoError(t, chromedp.Do(tab, chromedp.Navigate(address.FindString(errOut.String())), chromedp.WaitVisible("#start"), chromedp.KeyEvent("\r")))
		tabs = append(tabs, tab)
	}
	require.Eventually(t, func() bool {
		playing, err := chromedp.Run(tabs[1], chromedp.Evaluate[bool]("var v = document.querySelector('video'); !!v && v.currentTime > 1"))
		return err == nil && playing
	}, time.Minute, 50*time.Millisecond)
	_, err := chromedp.Run(tabs[1], chromedp.Evaluate[bool]("Object.defineProperty(document, 'hidden', {get: function () { return true; }, configurable: true}); document.dispatchEvent(new Event('visibilitychange')); delete document.hidden"))
	require.NoError(t, err)
	require.NoError(t, c.Wait(), errOut.String())
	doc := document(t, out.String())
	first := doc.Rungs[0].Attempts[0]
	require.Equal(t, verdict.Void, first.Verdict)
	require.Contains(t, strings.Join(first.Reasons, " "), "the page was hidden")
	again := played(t, doc, 0)
	require.Len(t, again.Devices, 2)
	for _, d := range again.Devices {
		require.InDelta(t, 75*d.Frames.Speed, d.Frames.Due, 4, "a computer that is kept busy may play slowly")
		require.True(t, d.Promise.Supported, "each was asked what it promises")
	}
	require.Equal(t, 2, strings.Count(strings.Split(s.ok("show", "--wide"), "says of each format")[1], "Chrome"))
}

// syncBuffer is a buffer that is read while a program writes to it.
type syncBuffer struct {
	mu   sync.Mutex
	data bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.data.Write(p)
}

func (b *syncBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.data.String()
}

// What the route cannot do is said before anything is measured.
func TestPageFlags(t *testing.T) {
	s := newSession(t)
	for says, args := range map[string][]string{
		"--screen is full or window":             {"--screen", "wide"},
		"--fit is fit or native":                 {"--fit", "huge"},
		"a browser plays, it does not convert":   {"h264 240p25 0.5M -> 160p 0.2M"},
		"give both":                              {"--browser", "x"},
		"belong together":                        {"--certificate", "x.pem", "--tls"},
		"--listen takes another address":         {"--listen", "203.0.113.1:1"},
		"--url does nothing on the route page":   {"--url", "http://a/b"},
		"the browser could not be started":       {"--open", "--browser", "no-such-browser-here", "--listen", "127.0.0.1:0"},
		"the browser ended before it had opened": {"--open", "--browser", "true", "--listen", "127.0.0.1:0"},
	} {
		if len(args) > 1 {
			args = append(args, "h264 240p25 0.5M")
		}
		_, errOut, status := s.run(append([]string{"climb", "--route", "page"}, args...)...)
		require.NotZero(t, status, says)
		require.Contains(t, errOut, says)
	}
}

// Counts that a page handed over go to the run at their time.
func TestImportedCounts(t *testing.T) {
	s := newSession(t)
	began := time.Now()
	s.ok("watch", "--for", "3s", "--record")
	at := func(d time.Duration) int64 { return began.Add(d).UnixMilli() }
	s.write("page.json", fmt.Sprintf(`{"schema":"vividstrain.page/1","samples":[[%d,0,5,0,0,720],[%d,1,5,25,1,720]]}`, at(1500*time.Millisecond), at(2500*time.Millisecond)))
	_, errOut, status := s.run("import", "page.json")
	require.Zero(t, status, errOut)
	require.Contains(t, errOut, "1 count added")
	require.Contains(t, s.ok("show"), "video_dropped_hz")
	for says, args := range map[string][]string{"which file?": {}, "no file of counts": {"cli"}, "no such file": {"none.json"}, "do the clocks": {"old.json"}} {
		s.write("cli", "{}")
		s.write("old.json", `{"schema":"vividstrain.page/1","samples":[[1000,0,5,0,0,720],[2000,1,5,25,1,720]]}`)
		_, errOut, status := s.run(append([]string{"import"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
	}
}
