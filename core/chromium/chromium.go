// Package chromium finds a Chromium, or a browser that takes the same options, on this computer.
package chromium

import "os/exec"

// names are the usual names of such browsers' programs.
var names = []string{"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "microsoft-edge", "chrome"}

// Find returns the path of the browser's program, "" if there is none.
func Find() string {
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}
