package video

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/chromium/headless"
	"vividstrain/core/load"
	"vividstrain/core/media/clip"
	"vividstrain/core/sense"
)

// foreignPage opens a page with a video of 25 frames a second that is not ours.
func foreignPage(t *testing.T) context.Context {
	l, err := load.Parse("h264 240p25 0.5M")
	require.NoError(t, err)
	path, err := clip.Clip(t.Context(), t.TempDir(), clip.Order{Format: l.Format, Seconds: 5, Threads: 2})
	require.NoError(t, err)
	mux := http.NewServeMux()
	mux.HandleFunc("/film.mp4", func(w http.ResponseWriter, r *http.Request) { http.ServeFile(w, r, path) })
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<body><video src=film.mp4 autoplay muted loop></video></body>")) // it left
	})
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	ctx, end, err := headless.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(end)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(server.URL)))
	return ctx
}

// run runs the script in a page.
func run(t *testing.T, ctx context.Context, address string) {
	script, err := Script(address)
	require.NoError(t, err)
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool](script+"; true"))
	require.NoError(t, err)
}

// The video of a page that is not ours is followed.
func TestVideosOfOtherPagesAreFollowed(t *testing.T) {
	f := NewFollower()
	server := httptest.NewServer(f)
	defer server.Close()
	run(t, foreignPage(t), strings.Replace(server.URL, "http", "ws", 1)+f.Path()+"count")
	require.Eventually(t, func() bool {
		time.Sleep(time.Second)
		list, err := f.Sample(t.Context(), time.Now(), nil)
		return err == nil && len(list) == 3 && list[0].Quantity == sense.VideoShown && list[0].Value > 15 && list[0].Value < 35
	}, time.Minute, 10*time.Millisecond)
}

// Where no connection is possible, the counts are shown in a corner and handed over.
func TestCountsAreHandedOver(t *testing.T) {
	ctx := foreignPage(t)
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("window.handed = ''; URL.createObjectURL = function (b) { b.text().then(function (t) { window.handed = t; }); return 'data:,x'; }; true"))
	require.NoError(t, err)
	run(t, ctx, "ws://127.0.0.1:9/none")
	require.Eventually(t, func() bool {
		text, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
		return err == nil && strings.Contains(text, "dropped") && strings.Contains(text, "Save the counts")
	}, time.Minute, 100*time.Millisecond)
	time.Sleep(time.Second)
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool]("document.querySelector('button').click(); true"))
	require.NoError(t, err)
	var handed string
	require.Eventually(t, func() bool {
		handed, err = chromedp.Run(ctx, chromedp.Evaluate[string]("window.handed"))
		return err == nil && handed != ""
	}, time.Minute, 50*time.Millisecond)
	counts, err := ReadFile(strings.NewReader(handed))
	require.NoError(t, err)
	require.Greater(t, len(counts), 3)
	require.NotEmpty(t, Readings(counts[0], counts[len(counts)-1]))
}
