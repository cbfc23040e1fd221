package engine

import (
	"fmt"
	"sync/atomic"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/screen"
)

// canvas draws the pictures of a player on a real screen. A nil canvas draws nothing.
type canvas struct {
	window   *screen.Window
	slots    int // pictures that are painted ahead, by their number
	interval time.Duration

	painted, drawn    atomic.Int64
	painting, drawing atomic.Int64 // nanoseconds
	decoding          time.Duration
	missed            int
}

// openCanvas opens a window for pictures of a size, of which queue are painted ahead.
func openCanvas(o Options, width, height int) (*canvas, error) {
	slots := o.Queue + 3
	w, err := screen.Open("vividstrain", width, height, slots, o.Screen == "full", o.Fit == "native")
	if err != nil {
		return nil, fmt.Errorf("--screen %s: %w", o.Screen, err)
	}
	return &canvas{window: w, slots: slots, interval: time.Duration(float64(time.Second) / o.Refresh)}, nil
}

// paint paints a decoded picture, and returns when it can be shown.
func (c *canvas) paint(frame *media.Frame, at time.Time) time.Time {
	if c == nil || frame.Picture == nil {
		return at
	}
	began := time.Now()
	c.window.Paint(int(frame.PTS)%c.slots, frame.Picture)
	at = time.Now()
	c.painting.Add(int64(at.Sub(began)))
	c.painted.Add(1)
	return at
}

// late reports whether drawing is so far behind that a refresh is missed.
func (c *canvas) late(behind time.Duration) bool {
	if c == nil || behind < c.interval {
		return false
	}
	c.missed++
	return true
}

// show draws the painted picture of a frame.
func (c *canvas) show(frame int) error {
	if c == nil {
		return nil
	}
	began := time.Now()
	err := c.window.Show(frame % c.slots)
	c.drawing.Add(int64(time.Since(began)))
	c.drawn.Add(1)
	return err
}

// close closes the window.
func (c *canvas) close(d media.Decoder) {
	if c == nil {
		return
	}
	if w, is := d.(media.Worker); is {
		c.decoding = w.Busy()
	}
	c.window.Close()
}

// told says what a frame took. When the screen is refreshed is not known, only how often.
func (c *canvas) told() string {
	each := func(total int64, n int64) float64 { return float64(total) / 1e6 / float64(max(n, 1)) }
	text := fmt.Sprintf("a frame took %.1f ms of decoding, %.1f ms of scaling and %.1f ms of drawing", each(int64(c.decoding), c.painted.Load()), each(c.painting.Load(), c.painted.Load()), each(c.drawing.Load(), c.drawn.Load()))
	if c.missed > 0 {
		text += fmt.Sprintf("; drawing was too late for %d refreshes", c.missed)
	}
	return text + "; when exactly the screen is refreshed is not known"
}
