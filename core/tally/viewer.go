package tally

import (
	"math"
	"time"
)

// ViewerConfig states how a viewer plays what arrives.
type ViewerConfig struct {
	Start time.Duration // lead at which playing starts, and resumes after a stall
	Bound time.Duration // lead at which fetching pauses
	Spans []Span
}

// The default viewer starts with a lead of two seconds and fetches half a minute ahead.
const (
	ViewerStart = 2 * time.Second
	ViewerBound = 30 * time.Second
)

// Viewer keeps the account of media that arrive ahead of playing. Its media clock runs while
// there is something to play. Times are since the request to play and never decrease; the spans
// start at the first picture.
type Viewer struct {
	config ViewerConfig

	now      time.Duration
	played   time.Duration // position in the media, from where playing began
	have     time.Duration // media that have arrived
	partial  time.Duration // media that have arrived, including the part of a segment under way
	started  time.Duration // when playing began, negative: not yet
	waiting  time.Duration // waiting since; negative: it plays
	fetching time.Duration // fetching since; negative: it is not
	ended    bool          // nothing more will come
	finished bool          // played to the end

	steady   account
	windows  []window
	startLag time.Duration
	jumping  bool // waiting for the first picture after a jump
	jumps    []Seek
	jump     Seek // under way
}

// window is the account of one span.
type window struct {
	played, stalled time.Duration
	missing         int
	damaged         int
}

// account is how media arrived in the steady window.
type account struct {
	stalls int
	least  time.Duration // lead, negative: not known
	flow   flow
}

// NewViewer returns a viewer at the moment of the request to play.
func NewViewer(c ViewerConfig) *Viewer {
	return &Viewer{config: c, started: -1, fetching: -1, windows: make([]window, len(c.Spans)), steady: account{least: -1}}
}

// Advance brings the account up to now.
func (v *Viewer) Advance(now time.Duration) {
	for v.now < now {
		next := min(now, v.edge())
		if v.waiting < 0 && v.started >= 0 && !v.finished {
			next = min(next, v.now+v.have-v.played)
		}
		v.step(next)
	}
}

// edge returns when the current span ends.
func (v *Viewer) edge() time.Duration {
	if i := v.span(); i >= 0 {
		return v.started + v.config.Spans[i].To
	}
	return math.MaxInt64
}

// span returns the index of the current span, -1 outside.
func (v *Viewer) span() int {
	if v.started < 0 {
		return -1
	}
	for i, s := range v.config.Spans {
		if at := v.now - v.started; at >= s.From && at < s.To {
			return i
		}
	}
	return -1
}

// step advances to a time before which nothing changes except that the viewer plays or waits.
func (v *Viewer) step(to time.Duration) {
	span := v.span()
	steady := span >= 0 && v.config.Spans[span].Kind == Steady
	elapsed := to - v.now
	switch {
	case v.started < 0 || v.finished:
	case v.waiting >= 0:
		if span >= 0 && !v.jumping {
			v.windows[span].stalled += elapsed
		}
	default:
		v.played += elapsed
		if span >= 0 {
			v.windows[span].played += elapsed
		}
		if lead := v.have - v.played; steady && (v.steady.least < 0 || lead < v.steady.least) {
			v.steady.least = lead
		}
		if v.played >= v.have {
			v.dry(to, steady)
		}
	}
	if steady && v.fetching >= 0 {
		v.steady.flow.open += elapsed
	}
	v.now = to
}

// dry handles the moment at which everything that has arrived is played.
func (v *Viewer) dry(now time.Duration, steady bool) {
	if v.ended {
		v.finished = true
		return
	}
	v.waiting = now
	if steady {
		v.steady.stalls++
	}
}

// Fetch reports that fetching goes on from now.
func (v *Viewer) Fetch(now time.Duration) {
	v.Advance(now)
	v.fetching = now
}

// Rest reports that nothing is being fetched.
func (v *Viewer) Rest(now time.Duration) {
	v.Advance(now)
	v.fetching = -1
}

// Arriving reports that a part of the media under way has arrived, up to a position counted from
// where playing began. It cannot be played yet, but shows how fast media come.
func (v *Viewer) Arriving(now, until time.Duration) {
	v.Advance(now)
	if until <= v.partial {
		return
	}
	if i := v.span(); i >= 0 && v.config.Spans[i].Kind == Steady && v.fetching >= 0 {
		v.steady.flow.add(until - v.partial)
	}
	v.partial = until
}

// Arrived reports that media have arrived up to a position counted from where playing began. It
// returns whether playing starts with that.
func (v *Viewer) Arrived(now, until time.Duration) (begins bool) {
	v.Arriving(now, until)
	if v.partial > until { // less came than was reported
		v.steady.flow.take(v.partial - until)
		v.partial = until
	}
	v.have = max(v.have, until)
	if v.fetching >= 0 {
		v.fetching = now
	}
	return v.resume(now)
}

// End reports that nothing more will come.
func (v *Viewer) End(now time.Duration) {
	v.Advance(now)
	v.ended, v.fetching = true, -1
	v.resume(now)
}

// resume starts playing if there is enough.
func (v *Viewer) resume(now time.Duration) bool {
	if v.started >= 0 && v.waiting < 0 || v.have-v.played < v.config.Start && !v.ended || v.have == v.played {
		return false
	}
	if v.started < 0 {
		v.started, v.startLag = now, now
	}
	if v.jumping {
		v.jump.DelayS = (now - v.waiting).Seconds()
		v.jumps = append(v.jumps, v.jump)
		v.jumping = false
	}
	v.waiting = -1
	return true
}

// Jump goes to another position in the media: what has arrived is discarded, and media are
// counted from the new position on.
func (v *Viewer) Jump(now time.Duration, kind JumpKind) {
	v.Advance(now)
	v.jump = Seek{Kind: kind, AtS: (now - v.started).Seconds()}
	v.played, v.have, v.partial, v.waiting = 0, 0, 0, now
	v.ended, v.finished, v.jumping = false, false, true
	v.fetching = now
}

// BeganAnew reports that the server began anew for the last jump, and what shows it.
func (v *Viewer) BeganAnew(by Evidence) {
	last := &v.jump
	if !v.jumping {
		if len(v.jumps) == 0 {
			return
		}
		last = &v.jumps[len(v.jumps)-1]
	}
	yes := true
	last.BeganAnew, last.ShownBy = &yes, by
}

// Missing counts frames that the media should have contained but did not.
func (v *Viewer) Missing(frames int) {
	if i := v.span(); i >= 0 {
		v.windows[i].missing += frames
	}
}

// Damaged counts frames that could not be decoded completely, whenever they arrived.
func (v *Viewer) Damaged(frames int) {
	for i, s := range v.config.Spans {
		if s.Kind == Steady {
			v.windows[i].damaged += frames
		}
	}
}

// Started returns when playing began; false if it has not.
func (v *Viewer) Started() (time.Duration, bool) { return v.started, v.started >= 0 }

// Lead returns how much media is buffered, as of the last call.
func (v *Viewer) Lead() time.Duration { return v.have - v.played }

// Played returns the position in the media, as of the last call.
func (v *Viewer) Played() time.Duration { return v.played }

// Have returns how much media has arrived.
func (v *Viewer) Have() time.Duration { return v.have }

// Waits reports whether there is nothing to play.
func (v *Viewer) Waits() bool { return v.started < 0 || v.waiting >= 0 }

// Full reports whether nothing more is to be fetched for now.
func (v *Viewer) Full() bool { return v.Lead() >= v.config.Bound }

// Finished reports whether everything was played.
func (v *Viewer) Finished() bool { return v.finished }

// Finish closes the account. hz is the frame rate.
func (v *Viewer) Finish(now time.Duration, hz float64) Tally {
	v.Advance(now)
	start := v.startLag.Seconds()
	t := Tally{StartDelayS: &start, Buffer: v.buffer()}
	if v.started < 0 {
		start = now.Seconds()
		t.Buffer.StartDelayS = start
	}
	for i, s := range v.config.Spans {
		w := v.windows[i]
		if v.started < 0 || v.now-v.started <= s.From {
			break
		}
		due := int(math.Round(w.played.Seconds() * hz))
		missing := min(w.missing, due)
		f := Frames{Due: due, Shown: due - missing, Dropped: missing, Damaged: w.damaged, Speed: 1}
		if watched := (w.played + w.stalled).Seconds(); watched > 0 {
			f.ShownRate, f.Speed = float64(f.Shown)/watched, w.played.Seconds()/watched
		}
		t.Windows = append(t.Windows, Window{Kind: s.Kind, FromS: s.From.Seconds(), ToS: min(s.To, v.now-v.started).Seconds(), Frames: &f})
	}
	return t
}

// buffer returns the account of the steady window.
func (v *Viewer) buffer() *Buffer {
	b := &Buffer{StartDelayS: v.startLag.Seconds(), Stalls: v.steady.stalls, MinLeadS: max(v.steady.least, 0).Seconds(), Jumps: v.jumps}
	for i, s := range v.config.Spans {
		if s.Kind == Steady {
			b.StallS += v.windows[i].stalled.Seconds()
			if b.StallS > 0 {
				b.Stalls = max(b.Stalls, 1) // it began before
			}
		}
	}
	const most = 1000 // JSON has no infinity
	switch rate, off, known := v.steady.flow.rate(); {
	case v.steady.flow.open <= 0 && v.started >= 0 && v.Full(): // it was full all the time
		full := float64(most)
		b.BuildRate = &full
	case known:
		rate = min(rate, most)
		b.BuildRate, b.BuildRateError = &rate, min(off, most)
		if rate < 1 && v.started >= 0 {
			at := v.played.Seconds() + max(0, v.Lead().Seconds())/(1-rate)
			b.StallExpectedAtS = &at
		}
	}
	return b
}

// Stalls returns how often the viewer had to wait in the steady window so far.
func (v *Viewer) Stalls() int { return v.steady.stalls }

// Jumps returns how many jumps have led to a picture so far.
func (v *Viewer) Jumps() int { return len(v.jumps) }

// Jumping reports whether the viewer waits for the first picture after a jump.
func (v *Viewer) Jumping() bool { return v.jumping }

// Standing is the state of one viewer: how far it has played and fetched.
type Standing struct {
	Played, Fetched time.Duration // places in the film
	Film            time.Duration // its length, 0: not known
	Waits           bool          // there is nothing to play
	Stalls          int
}

// Lead returns how much media is buffered.
func (s Standing) Lead() time.Duration { return s.Fetched - s.Played }

// Standing returns the state of the viewer.
func (v *Viewer) Standing() Standing {
	return Standing{Played: v.Played(), Fetched: v.Have(), Waits: v.Waits(), Stalls: v.Stalls()}
}
