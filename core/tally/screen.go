package tally

import (
	"math"
	"time"
)

// tolerance is how long after a refresh a frame may be due and still count as due at it: times
// are rounded to nanoseconds, and 50 us are invisible.
const tolerance = 50 * time.Microsecond

// Span is one window with an account of its own, from the start of playing.
type Span struct {
	Kind     string
	From, To time.Duration
}

// ScreenConfig states the refresh rate, the windows, and when frames are due.
type ScreenConfig struct {
	Refresh float64 // Hz
	Late    Late
	Frames  Timeline
	Spans   []Span // one after the other without gaps, from 0
}

// Screen is a display with a fixed refresh rate that shows at each refresh the newest decoded
// frame that is due, and keeps the account of frames. It has no clock: its caller reports when
// frames were decoded, and calls Refresh for each refresh in turn. It is for one goroutine at a
// time.
type Screen struct {
	config  ScreenConfig
	windows []Window
	end     time.Duration

	refreshes int           // done so far
	queue     []decoded     // decoded, not yet shown, oldest first
	shown     int           // frame on the screen, -1: none yet
	since     time.Duration // when it was first shown, or when the window began
	passed    int           // frames below this one are accounted for
	shift     time.Duration // how long the media clock has waited (Late: Wait)
	span      int           // window of the present refresh
	shiftThen time.Duration // shift when that window began
}

// decoded is a frame and when it was decoded.
type decoded struct {
	frame int
	at    time.Duration
}

// NewScreen returns a screen on which nothing is shown yet.
func NewScreen(c ScreenConfig) *Screen {
	s := &Screen{config: c, shown: -1, queue: make([]decoded, 0, 64)}
	for _, span := range c.Spans {
		s.windows = append(s.windows, Window{Kind: span.Kind, FromS: span.From.Seconds(), ToS: span.To.Seconds(), Frames: new(Frames)})
		s.end = span.To
	}
	return s
}

// Next returns the time of the next refresh; false when the last window is over.
func (s *Screen) Next() (time.Duration, bool) {
	t := s.refreshAt(s.refreshes)
	return t, t < s.end
}

// NextAfter returns the time of the first refresh at or after a time.
func (s *Screen) NextAfter(t time.Duration) time.Duration {
	return s.refreshAt(int(math.Ceil((t - tolerance).Seconds() * s.config.Refresh)))
}

// refreshAt returns the time of refresh k.
func (s *Screen) refreshAt(k int) time.Duration {
	return time.Duration(float64(k) / s.config.Refresh * float64(time.Second))
}

// Decoded reports that a frame was decoded at the given time. Frames come in display order; some
// may be left out.
func (s *Screen) Decoded(frame int, at time.Duration) {
	s.queue = append(s.queue, decoded{frame, at})
}

// Due returns when a frame is due, as far as is known now.
func (s *Screen) Due(frame int) time.Duration { return s.config.Frames.At(frame) + s.shift }

// TooLate reports whether a frame need not be decoded any more: its successor is already due.
func (s *Screen) TooLate(frame int, now time.Duration) bool {
	return s.config.Late == Drop && s.Due(frame+1) <= now
}

// Refresh performs the next refresh. It returns how many of the oldest decoded frames have left
// the queue; the last of them is now on the screen.
func (s *Screen) Refresh() (taken int) {
	now := s.refreshAt(s.refreshes)
	s.refreshes++
	s.enter(now)
	for taken < len(s.queue) && s.queue[taken].at <= now && s.Due(s.queue[taken].frame) <= now+tolerance {
		taken++
	}
	if taken > 0 {
		s.show(s.queue[taken-1].frame, now)
		s.queue = append(s.queue[:0], s.queue[taken:]...)
	}
	missing := s.Due(s.shown+1) <= now+tolerance
	if missing && taken == 0 {
		s.windows[s.span].Frames.Repeats++
	}
	if missing && s.config.Late == Wait { // the media clock waits until the next refresh
		s.shift = s.refreshAt(s.refreshes) - s.config.Frames.At(s.shown+1)
	}
	return taken
}

// Miss passes over the next refresh, for which drawing came too late: the old picture stays.
func (s *Screen) Miss() {
	now := s.refreshAt(s.refreshes)
	s.refreshes++
	s.enter(now)
	if s.Due(s.shown+1) <= now+tolerance {
		s.windows[s.span].Frames.Repeats++
	}
}

// show accounts for a frame that reaches the screen at now, and for earlier ones that did not.
func (s *Screen) show(frame int, now time.Duration) {
	due := s.Due(frame)
	s.passTo(frame, now)
	s.hold(now)
	s.shown, s.since, s.passed = frame, now, frame+1
	f := s.account(due, now)
	f.Due++
	f.Shown++
	if now-due > s.interval()+tolerance {
		f.Late++
	}
}

func (s *Screen) interval() time.Duration {
	return time.Duration(float64(time.Second) / s.config.Refresh)
}

// account returns the account to which a frame belongs: in Drop that of the window in which it
// was due, in Wait that of the current window.
func (s *Screen) account(due, now time.Duration) *Frames {
	if s.config.Late == Wait {
		return s.windows[s.span].Frames
	}
	for i := range s.config.Spans {
		if due < s.config.Spans[i].To {
			return s.windows[i].Frames
		}
	}
	return s.windows[len(s.windows)-1].Frames
}

// passTo accounts for the frames before frame that can no longer be shown.
func (s *Screen) passTo(frame int, now time.Duration) {
	for i := s.passed; i < frame; i++ {
		f := s.account(s.Due(i), now)
		if s.hidden(i) {
			f.Hidden++
			continue
		}
		f.Due++
		f.Dropped++
	}
	s.passed = max(s.passed, frame)
}

// hidden reports whether no refresh falls between a frame and its successor.
func (s *Screen) hidden(frame int) bool {
	first := s.refreshFrom(s.Due(frame))
	return first == s.refreshFrom(s.Due(frame+1))
}

// refreshFrom returns the first refresh at which something due at the given time is due.
func (s *Screen) refreshFrom(due time.Duration) int {
	k := int(due.Seconds() * s.config.Refresh)
	for s.refreshAt(k)+tolerance < due {
		k++
	}
	return k
}

// hold accounts for the time for which the current picture has been on the screen.
func (s *Screen) hold(now time.Duration) {
	if s.shown < 0 {
		return
	}
	f := s.windows[s.span].Frames
	held := now - s.since
	duration := s.config.Frames.At(s.shown+1) - s.config.Frames.At(s.shown)
	if duration > 0 && held >= 3*duration-tolerance {
		f.Freezes++
		f.LongestFreezeMS = max(f.LongestFreezeMS, held.Seconds()*1000)
	}
}

// enter moves to the current window.
func (s *Screen) enter(now time.Duration) {
	for s.span < len(s.windows)-1 && now >= s.config.Spans[s.span].To {
		s.leave(s.config.Spans[s.span].To)
		s.span++
	}
}

// leave closes the current window at its end.
func (s *Screen) leave(end time.Duration) {
	s.hold(end)
	s.since = end
	w := &s.windows[s.span]
	length := (end - s.config.Spans[s.span].From).Seconds()
	w.Frames.Speed = 1
	if length > 0 {
		w.Frames.Speed = max(0, 1-(s.shift-s.shiftThen).Seconds()/length)
	}
	s.shiftThen = s.shift
}

// Damaged counts a frame that could not be decoded completely.
func (s *Screen) Damaged(frame int) { s.account(s.Due(frame), 0).Damaged++ }

// Wrong counts a frame that shows another picture than it should.
func (s *Screen) Wrong(frame int) { s.account(s.Due(frame), 0).Wrong++ }

// Finish closes the account and returns it: at the end of the last window, or at the last
// refresh if playing stopped before.
func (s *Screen) Finish() []Window {
	end := min(s.refreshAt(s.refreshes), s.end)
	s.enter(end)
	if s.config.Late == Drop {
		last := s.passed
		for s.refreshAt(s.refreshFrom(s.Due(last))) < end {
			last++
		}
		s.passTo(last, end)
	}
	s.leave(end)
	s.windows[s.span].ToS = end.Seconds()
	s.windows = s.windows[:s.span+1]
	for i := range s.windows {
		w := &s.windows[i]
		if length := w.ToS - w.FromS; length > 0 {
			w.Frames.ShownRate = float64(w.Frames.Shown) / length
		}
	}
	return s.windows
}

// Sum returns the account over all windows so far.
func (s *Screen) Sum() (f Frames) {
	for i := range s.windows {
		w := s.windows[i].Frames
		f.Due, f.Shown, f.Dropped = f.Due+w.Due, f.Shown+w.Shown, f.Dropped+w.Dropped
	}
	return f
}
