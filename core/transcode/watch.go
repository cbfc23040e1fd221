package transcode

import (
	"context"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media"
	"vividstrain/core/tally"
)

// Watched is a conversion that somebody watches while it goes on: it may run
// ahead of the viewer by so much and then waits. It is safe for several
// goroutines.
type Watched struct {
	Ahead time.Duration // 0: as far as it can

	mu     sync.Mutex
	viewer *tally.Viewer
	began  time.Time // when it was ordered
}

// NewWatched begins to watch.
func NewWatched(c tally.ViewerConfig) *Watched {
	w := &Watched{Ahead: c.Bound, viewer: tally.NewViewer(c), began: time.Now()}
	w.viewer.Fetch(0)
	return w
}

// Do does something with the viewer, whose account is brought up to now.
func (w *Watched) Do(f func(v *tally.Viewer, now time.Duration)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Since(w.began)
	w.viewer.Advance(now)
	f(w.viewer, now)
}

// Began is when it was ordered.
func (w *Watched) Began() time.Time { return w.began }

// Take takes a packet of a result's tracks, and waits while the viewer has
// enough.
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
	const least = 100 * time.Millisecond // fewer rounds of fetching and resting
	if err := (clock.Real{}).Sleep(ctx, wait+least); err != nil {
		return err
	}
	w.Do(func(v *tally.Viewer, now time.Duration) { v.Fetch(now) })
	return nil
}
