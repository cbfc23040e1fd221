package page

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
)

// chromium starts a headless browser; its tabs are made with tab.
func chromium(t *testing.T) context.Context {
	path := ""
	for _, name := range browserNames {
		if found, err := exec.LookPath(name); err == nil {
			path = found
			break
		}
	}
	require.NotEmpty(t, path, "there is no browser here; install the package chromium")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("autoplay-policy", "no-user-gesture-required"), chromedp.WSURLReadTimeout(time.Minute))
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("about:blank")))
	return ctx
}

// tab opens the page in a tab of its own, after a script has run in it, and presses Start.
func tab(t *testing.T, browser context.Context, p *Page, script string) (ctx context.Context, close func()) {
	ctx, close = chromedp.NewContext(browser)
	prepare := func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return chromedp.Void{}, err
	}
	require.NoError(t, chromedp.Do(ctx, prepare, chromedp.Navigate(p.hub.local())))
	require.Eventually(t, func() bool {
		if p.Reach(t.Context()) == nil {
			return true // a device that comes back goes on without a press
		}
		shown, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("document.getElementById('start').style.display === 'inline-block'"))
		return err == nil && shown
	}, time.Minute, 50*time.Millisecond, "it offers to start")
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent("\r")))
	if len(p.seats) == 1 {
		require.NoError(t, p.Await(t.Context()))
	}
	return ctx, close
}

// The page goes on with each newer interface missing, and says what cannot be measured there.
func TestPagesOfOldBrowsers(t *testing.T) {
	browser := chromium(t)
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	pl := plan(t, "h264 240p25 0.5M")
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	without := func(of, name string) string {
		return "Object.defineProperty(" + of + ", '" + name + "', {value: undefined, configurable: true});"
	}
	for says, script := range map[string]string{
		"":                    "",
		"media capabilities":  without("navigator", "mediaCapabilities"),
		"frame callbacks":     without("HTMLVideoElement.prototype", "requestVideoFrameCallback"),
		"playback quality":    without("HTMLVideoElement.prototype", "getVideoPlaybackQuality") + without("HTMLVideoElement.prototype", "webkitDecodedFrameCount"),
		"wake lock":           without("navigator", "wakeLock"),
		"colour gamut":        without("window", "matchMedia"),
		"pixel ratio":         without("window", "devicePixelRatio"),
		"refresh rate":        without("window", "requestAnimationFrame") + without("window", "webkitRequestAnimationFrame"),
		"frame callbacks: fr": without("HTMLVideoElement.prototype", "requestVideoFrameCallback") + without("HTMLVideoElement.prototype", "getVideoPlaybackQuality") + without("HTMLVideoElement.prototype", "webkitDecodedFrameCount") + without("navigator", "getBattery") + without("window", "performance"),
	} {
		_, close := tab(t, browser, p, script)
		result, err := p.Play(t.Context(), pl, func(route.Live) {})
		require.NoError(t, err, says)
		require.Empty(t, result.Failure, says)
		if says != "" {
			require.Contains(t, p.Device().Spec["not_measured"], says)
		}
		require.NotNil(t, result.Streams[0].StartDelayS, says)
		f := result.Streams[0].Steady()
		switch {
		case strings.HasPrefix(says, "frame callbacks: fr"):
			require.Nil(t, f, "nothing was counted")
			require.NotNil(t, result.Streams[0].Speed)
		case says == "frame callbacks":
			require.InDelta(t, 37, f.Due, 8)
		default:
			require.InDelta(t, 37, f.Due, 3, says)
			require.Equal(t, f.Due, f.Shown+f.Dropped)
		}
		close()
		require.Eventually(t, func() bool { return p.Reach(t.Context()) != nil }, 10*time.Second, 20*time.Millisecond)
	}
}

// A page that is hidden says nothing about the device; two pictures that are swapped are found.
func TestHiddenPagesAndSwappedPictures(t *testing.T) {
	browser := chromium(t)
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	pl := plan(t, "h264 160p25 0.3M")
	pl.Hold = 4 * time.Second
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	ctx, _ := tab(t, browser, p, "")
	right, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Zero(t, right.Streams[0].Steady().Wrong)
	require.Greater(t, *right.Streams[0].Checked, 10)
	hid := false
	_, err = p.Play(t.Context(), pl, func(l route.Live) {
		if l.Elapsed > time.Second && !hid {
			hid = true
			_, _ = chromedp.Run(ctx, chromedp.Evaluate[bool]("Object.defineProperty(document, 'hidden', {get: function () { return true; }, configurable: true}); document.dispatchEvent(new Event('visibilitychange'))"))
		}
	})
	var unfit *route.UnfitError
	require.ErrorAs(t, err, &unfit)
	require.ErrorContains(t, err, "the page was hidden")
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool]("delete document.hidden"))
	require.NoError(t, err)
	swapPictures(t, p.clips[pl.Loads[0].Format.String()], 40, 41, 60, 61, 80, 81)
	wrong, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Positive(t, wrong.Streams[0].Steady().Wrong)
}

// Two devices play the same rung at the same time, each with an account of its own; a third finds
// no place.
func TestTwoDevicesAtOnce(t *testing.T) {
	p := opened(t, Options{Clips: t.TempDir(), Devices: 2})
	pl := plan(t, "h264 160p25 0.3M")
	pl.Hold = 3 * time.Second
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	tab(t, chromium(t), p, "")
	require.Error(t, p.Reach(t.Context()), "one is missing")
	tab(t, chromium(t), p, "")
	require.NoError(t, p.Await(t.Context()))
	require.Equal(t, "2 devices", p.Device().Name)
	other := joined(t, p, `{"say":"hello","page":"c","ready":true,"device":"z"}`)
	require.Equal(t, "Another device is being measured at this address.", next(t, other, "view").Doing)
	result, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Len(t, result.Streams, 2)
	require.Len(t, result.Devices, 2)
	for i, s := range result.Streams {
		require.InDelta(t, 62, s.Steady().Due, 4)
		require.Equal(t, 1, result.Devices[i].Streams)
		require.Empty(t, result.Devices[i].Failure)
	}
}

// swapPictures gives pairs of pictures of a film each other's time.
func swapPictures(t *testing.T, f *film, pairs ...int64) {
	source, err := registry.Open(f.path)
	require.NoError(t, err)
	defer source.Close()
	track := source.Tracks()[0]
	frame := track.Timescale / 25
	path := filepath.Join(t.TempDir(), "swapped.mp4")
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	muxer, err := registry.Write(registry.MP4, file, []media.Track{track}, f.marks)
	require.NoError(t, err)
	var packet media.Packet
	for source.ReadPacket(&packet) == nil {
		for i := 0; i < len(pairs); i += 2 {
			switch packet.PTS {
			case pairs[i] * frame:
				packet.PTS = pairs[i+1] * frame
			case pairs[i+1] * frame:
				packet.PTS = pairs[i] * frame
			}
		}
		require.NoError(t, muxer.WritePacket(&packet))
	}
	require.NoError(t, muxer.Close())
	f.path = path
}
