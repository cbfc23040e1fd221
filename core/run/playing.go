package run

import (
	"context"
	"sync"
	"time"

	"vividstrain/core/route"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// playing is the source of what an attempt has come to while it goes on: frames shown and dropped
// a second of all streams, and how far media were fetched and played by the viewer that has the
// least in hand.
type playing struct {
	mu             sync.Mutex
	on             bool
	frames         tally.Frames
	least          *tally.Standing // of the viewer with the least in hand, nil: there are none
	shown, dropped int             // at the previous sample
	at             time.Time
}

// Kind returns "player".
func (*playing) Kind() string { return "player" }

// Name returns "the load".
func (*playing) Name() string { return "the load" }

// begin and end enclose an attempt: outside it there are no readings.
func (p *playing) begin() { p.reset(true) }
func (p *playing) end()   { p.reset(false) }

func (p *playing) reset(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.on, p.at, p.frames, p.least, p.shown, p.dropped = on, time.Time{}, tally.Frames{}, nil, 0, 0
}

// update takes the state of the attempt.
func (p *playing) update(live route.Live) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.frames, p.least = live.Frames, nil
	for _, v := range live.Viewers {
		if p.least == nil || v.Lead() < p.least.Lead() {
			p.least = &v
		}
	}
}

// final returns the whole number of dropped frames of an attempt that has ended, of which some are
// only known then: those that were never decoded. Its time is within the attempt. It is false where
// none were counted.
func (p *playing) final(result route.Result, now time.Time) (s sense.Sample, counted bool) {
	dropped := 0
	for _, t := range result.Streams {
		for _, w := range t.Windows {
			if w.Frames != nil {
				dropped, counted = dropped+w.Frames.Dropped, true
			}
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return sense.Sample{At: now.Add(-time.Millisecond), Source: sense.Identify(p), Readings: []sense.Reading{{Quantity: sense.VideoDrops, Value: float64(dropped)}}}, counted && p.frames.Due > 0
}

// Sample implements [sense.Source].
func (p *playing) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.on {
		return list, nil
	}
	f := p.frames
	if s := now.Sub(p.at).Seconds(); f.Due > 0 && !p.at.IsZero() && s > 0 {
		list = append(list, sense.Reading{Quantity: sense.VideoShown, Value: max(0, float64(f.Shown-p.shown)) / s},
			sense.Reading{Quantity: sense.VideoDropped, Value: max(0, float64(f.Dropped-p.dropped)) / s})
	}
	if f.Due > 0 {
		list = append(list, sense.Reading{Quantity: sense.VideoDrops, Value: float64(f.Dropped)})
		p.shown, p.dropped, p.at = f.Shown, f.Dropped, now
	}
	if v := p.least; v != nil {
		list = append(list, sense.Reading{Quantity: sense.VideoLead, Value: v.Lead().Seconds()},
			sense.Reading{Quantity: sense.VideoPlayed, Value: v.Played.Seconds()}, sense.Reading{Quantity: sense.VideoFetched, Value: v.Fetched.Seconds()})
	}
	return list, nil
}
