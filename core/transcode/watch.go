package transcode

import (
	"context"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media"
	"vividstrain/core/tally"
)

// Watched is a conversion that is watched while it runs: when it is Ahead of the viewer it
// waits. It is safe for several goroutines.
type Watched struct {
	Ahead time.Duration // 0: no limit

	mu     sync.Mutex
	viewer *tally.Viewer
	began  time.Time // time of the request
}

// NewWatched returns a viewer of a conversion that starts now.
func NewWatched(c tally.ViewerConfig) *Watched {
	w := &Watched{Ahead: c.Bound, viewer: tally.NewViewer(c), began: time.Now()}
	w.viewer.Fetch(0)
	return w
}

// Do calls f with the viewer, whose account is updated to now.
func (w *Watched) Do(f func(v *tally.Viewer, now time.Duration)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Since(w.began)
	w.viewer.Advance(now)
	f(w.viewer, now)
}

// Began returns the time of the request.
func (w *Watched) Began() time.Time { return w.began }

// Take handles a packet of the output's tracks, and waits while the viewer has enough.
func (w *Watched) Take(ctx context.Context, tracks []media.Track, p *media.Packet) error {
	if tracks[p.Track].Kind != media.Video {
		return nil
	}
	until := time.Duration(float64(p.PTS+p.Duration) / float64(tracks[p.Track].Timescale) * float64(time.Second))
	var wait time.Duration
	w.Do(func(v *tally.Viewer, now time.Duration) {
		v.Arrived(now, until)
		if wait = v.Lead() - w.Ahead; w.Ahead > 0 && wait > 0 {
			v.Rest(now)
		}
	})
	if w.Ahead <= 0 || wait <= 0 {
		return nil
	}
	const least = 100 * time.Millisecond // avoids many short rounds of fetching and resting
	if err := (clock.Real{}).Sleep(ctx, wait+least); err != nil {
		return err
	}
	w.Do(func(v *tally.Viewer, now time.Duration) { v.Fetch(now) })
	return nil
}
