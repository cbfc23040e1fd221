package page

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/chromium/headless"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
)

// launched starts a headless browser; its tabs are made with tab.
func launched(t *testing.T) context.Context {
	ctx, end, err := headless.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(end)
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
	browser := launched(t)
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	pl := plan(t, "h264 240p25 0.5M")
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	without := func(of, name string) string {
		return "Object.defineProperty(" + of + ", '" + name + "', {value: undefined, configurable: true});"
	}
	for says, script := range map[string]string{
		"":                 "",
		"frame callbacks":  without("HTMLVideoElement.prototype", "requestVideoFrameCallback"),
		"playback quality": without("HTMLVideoElement.prototype", "getVideoPlaybackQuality") + without("HTMLVideoElement.prototype", "webkitDecodedFrameCount"),
		"refresh rate":     without("window", "requestAnimationFrame") + without("window", "webkitRequestAnimationFrame"),
		"media capabilities, wake lock, colour gamut, pixel ratio": without("navigator", "mediaCapabilities") + without("navigator", "wakeLock") + without("window", "matchMedia") +
			without("window", "devicePixelRatio"),
		"frame callbacks: fr": without("HTMLVideoElement.prototype", "requestVideoFrameCallback") + without("HTMLVideoElement.prototype", "getVideoPlaybackQuality") + without("HTMLVideoElement.prototype", "webkitDecodedFrameCount") + without("navigator", "getBattery") + without("window", "performance"),
	} {
		_, close := tab(t, browser, p, script)
		result, err := p.Play(t.Context(), pl, func(route.Live) {})
		require.NoError(t, err, says)
		require.Empty(t, result.Failure, says)
		for _, part := range strings.Split(says, ", ") {
			require.Contains(t, p.Device().Spec["not_measured"], part)
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

// Pictures that the browser calls presented, but that were the wrong ones, are found.
func TestSwappedPictures(t *testing.T) {
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	pl := plan(t, "h264 160p25 0.3M")
	pl.Hold = 4 * time.Second
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	tab(t, launched(t), p, "")
	right, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Zero(t, right.Streams[0].Steady().Wrong)
	require.Greater(t, *right.Streams[0].Checked, 10)
	clip, err := p.maker.Clip(pl.Loads[0])
	require.NoError(t, err)
	swapPictures(t, clip, 40, 41)
	wrong, err := p.Play(t.Context(), pl, func(route.Live) {})
	require.NoError(t, err)
	require.Positive(t, wrong.Streams[0].Steady().Wrong)
}

// Without drops the frames of the film, the presented ones and the browser's own count are equal:
// in a rung's window, and over a whole film up to its end.
func TestBrowsersCountEachFrame(t *testing.T) {
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	pl := plan(t, "h264 160p25 0.3M")
	pl.Hold = 4 * time.Second
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	ctx, _ := tab(t, launched(t), p, "")
	calm := func(try func() (dropped int)) { // other programs may make this computer drop some
		for range 5 {
			if try() == 0 {
				return
			}
		}
		t.Fatal("frames were dropped in each of five attempts")
	}
	calm(func() int {
		result, err := p.Play(t.Context(), pl, func(route.Live) {})
		require.NoError(t, err)
		f := result.Streams[0].Steady()
		if f.Dropped == 0 {
			require.Equal(t, f.Due, f.Shown)
			require.InDelta(t, f.Due, f.Told.Due, 1)
		}
		return f.Dropped + f.Told.Dropped + max(f.Due, f.Told.Due) - min(f.Due, f.Told.Due)
	})
	film, err := p.maker.Clip(pl.Loads[0])
	require.NoError(t, err)
	p.hub.offer("whole", film)
	calm(func() int {
		got, err := chromedp.Run(ctx, chromedp.Evaluate[struct{ Presented, Total, Dropped int }](`new Promise(function (ended) {
			var v = document.createElement('video'), presented = 0;
			function each(t, m) { presented = m.presentedFrames; v.requestVideoFrameCallback(each); }
			v.muted = true;
			v.requestVideoFrameCallback(each);
			v.onended = function () {
				requestAnimationFrame(function () { requestAnimationFrame(function () { // the last callback
					var q = v.getVideoPlaybackQuality();
					ended({Presented: presented, Total: q.totalVideoFrames, Dropped: q.droppedVideoFrames});
					v.remove();
				}); });
			};
			document.body.appendChild(v);
			v.src = 'film/whole';
			v.play();
		})`, chromedp.EvalAwaitPromise))
		require.NoError(t, err)
		if got.Dropped == 0 {
			require.Equal(t, []int{film.Marks, film.Marks}, []int{got.Presented, got.Total})
		}
		return got.Dropped
	})
}

// Videos of a grid begin one after another and at different places, and are steady together.
func TestSpreadVideos(t *testing.T) {
	p := opened(t, Options{Clips: t.TempDir()})
	pl := plan(t, "h264 160p25 0.3M x3")
	pl.Hold, pl.Stagger, pl.Spread = 3*time.Second, 400*time.Millisecond, true
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	tab(t, launched(t), p, "")
	var places []float64
	result, err := p.Play(t.Context(), pl, func(route.Live) {
		p.mu.Lock()
		try := p.seats[0].try
		p.mu.Unlock()
		try.mu.Lock()
		defer try.mu.Unlock()
		places = nil
		for _, a := range try.accounts {
			if len(a.frames) > 0 {
				places = append(places, a.frames[0].Media)
			}
		}
	})
	require.NoError(t, err)
	require.Empty(t, result.Failure)
	require.Len(t, places, 3)
	for i, s := range result.Streams {
		require.InDelta(t, float64(i)*2/3, places[i], 0.3, "the clip lasts two seconds")
		require.InDelta(t, 62, s.Steady().Due, 4)
		require.InDelta(t, 0.5+0.4*float64(2-i), s.Windows[0].ToS, 0.01)
	}
}

// swapPictures gives pairs of pictures of a film each other's time.
func swapPictures(t *testing.T, f *films.Film, pairs ...int64) {
	source, err := registry.Open(f.Path)
	require.NoError(t, err)
	defer source.Close()
	track := source.Tracks()[0]
	frame := track.Timescale / 25
	path := filepath.Join(t.TempDir(), "swapped.mp4")
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	muxer, err := registry.Write(registry.MP4, file, []media.Track{track}, f.Marks)
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
	f.Path = path
}
