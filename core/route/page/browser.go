package page

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"vividstrain/core/chromium"
	"vividstrain/core/partial"
)

// ErrNoBrowser means that no browser was found on this computer.
var ErrNoBrowser = errors.New("no browser was found here; name one with --browser 'COMMAND ARGS'")

// browserCommand returns the words of the command that opens a browser on an address: the user's,
// or that of a browser which was found, with a fresh profile. pin is the pin of the server's key.
func browserCommand(own, url, profile, screen, pin string) ([]string, error) {
	if words := strings.Fields(own); len(words) > 0 {
		for i := range words {
			if strings.Contains(words[i], "{url}") {
				words[i] = strings.ReplaceAll(words[i], "{url}", url)
				return words, nil
			}
		}
		return append(words, url), nil
	}
	path := chromium.Find()
	if path == "" {
		return nil, ErrNoBrowser
	}
	words := []string{path, "--user-data-dir=" + profile, "--no-first-run", "--no-default-browser-check", "--autoplay-policy=no-user-gesture-required",
		"--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-quic", "--disable-session-crashed-bubble", "--hide-scrollbars"}
	if os.Geteuid() == 0 {
		words = append(words, "--no-sandbox", "--test-type") // its sandbox refuses the superuser; without a bar that says so
	}
	if pin != "" {
		words = append(words, "--ignore-certificate-errors-spki-list="+pin)
	}
	switch {
	case os.Getenv("DISPLAY") == "" && os.Getenv("WAYLAND_DISPLAY") == "":
		words = append(words, "--headless=new", "--window-size=1920,1080", "--screen-info={1920x1080}")
	case screen == "full":
		words = append(words, "--start-fullscreen")
	}
	return append(words, url), nil
}

// browser is a browser on this computer that was started for the page.
type browser struct {
	cmd     *exec.Cmd
	profile *partial.Folder
	ended   chan struct{}
}

// openBrowser starts a browser on an address.
func openBrowser(own, url, screen, pin string) (*browser, error) {
	profile, err := partial.NewFolder("vividstrain-browser-")
	if err != nil {
		return nil, err
	}
	words, err := browserCommand(own, url, profile.Path, screen, pin)
	if err != nil {
		profile.Close()
		return nil, err
	}
	b := &browser{cmd: exec.Command(words[0], words[1:]...), profile: profile, ended: make(chan struct{})}
	groupOf(b.cmd)
	started := make(chan error)
	go func() {
		defer close(b.ended)
		runtime.LockOSThread() // the browser ends with the thread that started it
		err := b.cmd.Start()
		if started <- err; err == nil {
			_ = b.cmd.Wait() // how it ended is seen by its page
		}
	}()
	if err := <-started; err != nil {
		profile.Close()
		return nil, fmt.Errorf("the browser could not be started: %w", err)
	}
	return b, nil
}

// close ends the browser: politely, then hard.
func (b *browser) close() {
	end(b.cmd, false)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	select {
	case <-b.ended:
	case <-ctx.Done():
	}
	end(b.cmd, true)
	<-b.ended
	b.profile.Close()
}
