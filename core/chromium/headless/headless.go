// Package headless drives a Chromium without a window, for tests and for what is compared with a
// browser's own codecs.
package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/chromedp/chromedp"

	"vividstrain/core/chromium"
)

// Start starts a browser in a fresh profile with an empty tab, for chromedp. Videos play without
// a press. The caller calls close when it is done with it.
func Start(ctx context.Context) (tab context.Context, close func(), err error) {
	path := chromium.Find()
	if path == "" {
		return nil, nil, errors.New("there is no Chromium here; install the package chromium")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox,
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("autoplay-policy", "no-user-gesture-required"), chromedp.WSURLReadTimeout(time.Minute))
	allocator, end := chromedp.NewExecAllocator(ctx, options...)
	tab, leave := chromedp.NewContext(allocator)
	close = func() { leave(); end() }
	if err := chromedp.Do(tab, chromedp.Navigate("about:blank")); err != nil {
		close()
		return nil, nil, fmt.Errorf("the browser does not start: %w", err)
	}
	return tab, close, nil
}
