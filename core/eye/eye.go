// Package eye watches what a screen shows, by the marks of the pictures on it.
package eye

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"time"

	"vividstrain/core/cputime"
)

// Eye watches a screen.
type Eye interface {
	// Refresh returns how often a second the screen is refreshed, in Hz.
	Refresh() float64
	// Look reads the number of the frame that is on the screen; false: there is no frame with
	// marks, or they cannot be read. at is when it was there.
	Look() (number int, ok bool, at time.Time, err error)
	// Torn returns how many pictures were seen so far whose upper and lower marks are of two frames.
	Torn() int
	// Why returns why nothing can be read, and what to do; "" where nothing is known.
	Why() string
	Close() error
}

// Later is the name of no eye: a recording of the screen will follow.
const Later = "later"

// Open opens an eye by its name: x11, x11:TITLE, or capture:PATH.
func Open(name string) (Eye, error) {
	kind, rest, _ := strings.Cut(name, ":")
	switch {
	case kind == "x11":
		return openX11(rest)
	case kind == "capture" && rest != "":
		return openCapture(rest)
	}
	return nil, fmt.Errorf("there is no eye %q; there is x11, x11:TITLE for the window of that title, capture:/dev/video0 for a capture card, and later where a recording of the screen will follow", name)
}

// Reader takes what is read, at which time.
type Reader interface {
	Read(at time.Time, number int, ok bool)
}

// Report is what watching took.
type Report struct {
	CPU  float64 // percent of a core
	Torn int     // pictures of two frames
	Err  error   // why it ended before it was told to
}

// Watch looks at a screen twice a refresh until it is told to end.
func Watch(ctx context.Context, e Eye, to Reader) (r Report) {
	torn := e.Torn()
	defer func() { r.Torn = e.Torn() - torn }()
	runtime.LockOSThread() // so that its processor time is known
	defer runtime.UnlockOSThread()
	began, spent := time.Now(), cputime.Thread()
	ticker := time.NewTicker(time.Duration(float64(time.Second) / (2 * e.Refresh())))
	defer ticker.Stop()
	for ctx.Err() == nil {
		number, ok, at, err := e.Look()
		if err != nil {
			r.Err = err
			break
		}
		to.Read(at, number, ok)
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
	if elapsed := time.Since(began); elapsed > 0 {
		r.CPU = 100 * float64(cputime.Thread()-spent) / float64(elapsed)
	}
	return r
}
