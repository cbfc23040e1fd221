package page

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"vividstrain/core/child"
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
	*child.Child
	profile *partial.Folder
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
	c, err := child.Start(exec.Command(words[0], words[1:]...))
	if err != nil {
		profile.Close()
		return nil, fmt.Errorf("the browser could not be started: %w", err)
	}
	return &browser{c, profile}, nil
}

// close ends the browser.
func (b *browser) close() {
	b.End(3 * time.Second)
	b.profile.Close()
}
