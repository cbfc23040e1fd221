package tally

import (
	"math"
	"sync"
	"time"
)

// WatchedConfig says what a screen that is watched shows.
type WatchedConfig struct {
	Refresh float64  // Hz of the screen
	Rate    Constant // of the film
	Round   int      // the numbers of frames begin again after so many; 0: they do not
}

// Watched keeps the account of frames that were seen on a screen: readings of their numbers, at known
// times. Numbers that begin again go on by the time that has passed. It is safe for several
// goroutines.
type Watched struct {
	config WatchedConfig

	mu     sync.Mutex
	seen   []sighting
	blank  int // readings without a number after the first picture
	reads  int // since the first picture
	last   time.Time
	widest time.Duration // between readings
}

// sighting is a picture on the screen.
type sighting struct {
	frame       int
	first, last time.Time // when it was read first and last
}

// maxSightings is the largest number of pictures of an account: ten minutes at 240 a second.
const maxSightings = 10 * 60 * 240

// NewWatched returns an account in which nothing was seen.
func NewWatched(c WatchedConfig) *Watched { return &Watched{config: c} }

// Read takes a reading: the number of the frame on the screen, false where none can be read.
func (w *Watched) Read(at time.Time, number int, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.seen) > 0 {
		w.reads++
		w.widest = max(w.widest, at.Sub(w.last))
	}
	w.last = at
	if round := w.config.Round; !ok || round > 0 && number >= round { // no frame has such a number
		if len(w.seen) > 0 {
			w.blank++
		}
		return
	}
	n := len(w.seen)
	if n == 0 {
		w.seen = append(w.seen, sighting{number, at, at})
		return
	}
	s := &w.seen[n-1]
	if frame := w.unwrapped(number, s, at); frame == s.frame {
		s.last = at
	} else if n < maxSightings {
		w.seen = append(w.seen, sighting{frame, at, at})
	}
}

// unwrapped returns the frame with a number that is nearest to where the film should be. What may
// still be the picture before is that.
func (w *Watched) unwrapped(number int, before *sighting, at time.Time) int {
	round := w.config.Round
	if round <= 0 {
		return number
	}
	expected := float64(before.frame) + at.Sub(before.first).Seconds()*w.rate()
	frame := number + int(math.Round((expected-float64(number))/float64(round)))*round
	if here := number + (before.frame-number)/round*round; here == before.frame { // it stands still
		return here
	}
	return frame
}

func (w *Watched) rate() float64 { return float64(w.config.Rate.Num) / float64(w.config.Rate.Den) }

// First returns when the first picture was seen; zero: none was.
func (w *Watched) First() (t time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.seen) > 0 {
		t = w.seen[0].first
	}
	return t
}

// Stands returns for how long the picture has not changed.
func (w *Watched) Stands(now time.Time) time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.seen); n > 0 {
		return now.Sub(w.seen[n-1].first)
	}
	return 0
}

// Sum returns the account of all that was seen so far.
func (w *Watched) Sum() (f Frames) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.seen); n > 0 {
		w.across(&f, w.seen[0].first, w.last.Add(1))
	}
	return f
}

// Windows returns the accounts of spans, which begin with the first picture.
func (w *Watched) Windows(spans []Span) (list []Window) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.seen) == 0 {
		return nil
	}
	zero := w.seen[0].first
	// Frames are due at whole periods after the first one, but are seen a little earlier or later.
	zero = zero.Add(-w.config.Rate.At(1) / 2)
	for _, s := range spans {
		from, to := zero.Add(s.From), zero.Add(s.To)
		if !from.Before(w.last) {
			break
		}
		to = earlier(to, w.last)
		f := &Frames{Speed: 1}
		w.across(f, from, to)
		list = append(list, Window{Kind: s.Kind, FromS: s.From.Seconds(), ToS: to.Sub(zero).Seconds(), Frames: f})
	}
	return list
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// across accounts for the pictures that appeared from which time to which. A frame that was never seen
// was dropped, unless it could have been on the screen while nobody looked.
func (w *Watched) across(f *Frames, from, to time.Time) {
	interval := time.Duration(float64(time.Second) / w.config.Refresh)
	period := w.config.Rate.At(1)
	lag := w.lag()
	var first, final *sighting
	for i := range w.seen {
		s := &w.seen[i]
		if s.first.Before(from) || !s.first.Before(to) {
			continue
		}
		if final = s; first == nil {
			first = s
		}
		f.Due, f.Shown = f.Due+1, f.Shown+1
		if s.first.Sub(lag)-w.config.Rate.At(s.frame) > interval+tolerance {
			f.Late++
		}
		if i == 0 {
			continue
		}
		before := &w.seen[i-1]
		w.passed(f, before, s, interval)
		w.held(f, s.first.Sub(later(before.first, from)), period)
		if n := s.frame - before.frame; n == 1 {
			w.cadence(f, s.first.Sub(before.first), interval)
		}
	}
	if final == nil { // one picture all through
		w.standing(f, from, to, period)
		f.Speed = 0
		return
	}
	if rest := to.Sub(final.first); rest >= 3*period { // it stands at the end
		missing := int(rest.Seconds()*w.rate()) - 1
		f.Due, f.Dropped = f.Due+missing, f.Dropped+missing
		w.held(f, rest, period)
	}
	f.ShownRate = float64(f.Shown) / to.Sub(from).Seconds()
	// Both ends are seen at a refresh, so that the time between is known to one refresh only.
	media := w.config.Rate.At(final.frame) - w.config.Rate.At(first.frame)
	wall := final.first.Sub(first.first)
	if rest := to.Sub(final.first); rest >= 3*period {
		wall += rest
	}
	if wall > media {
		wall = max(media, wall-interval)
	}
	if wall > 0 {
		f.Speed = math.Round(1e4*math.Min(1.02, media.Seconds()/wall.Seconds())) / 1e4
	}
}

// standing accounts for a window in which no picture appeared.
func (w *Watched) standing(f *Frames, from, to time.Time, period time.Duration) {
	missing := int(to.Sub(from).Seconds() * w.rate())
	f.Due, f.Dropped = f.Due+missing, f.Dropped+missing
	w.held(f, to.Sub(from), period)
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// lag returns when frame 0 would have been seen, by the earliest of all.
func (w *Watched) lag() time.Time {
	least := w.seen[0].first.Add(-w.config.Rate.At(max(w.seen[0].frame, 0)))
	for i := range w.seen {
		if s := &w.seen[i]; s.frame >= 0 {
			least = earlier(least, s.first.Add(-w.config.Rate.At(s.frame)))
		}
	}
	return least
}

// passed accounts for the frames between two pictures.
func (w *Watched) passed(f *Frames, before, s *sighting, interval time.Duration) {
	missing := s.frame - before.frame - 1
	if missing < 0 {
		f.Wrong++ // it went back
		return
	}
	gap := s.first.Sub(before.last)
	if rate := w.rate(); rate > 1.01*w.config.Refresh { // more frames than refreshes
		room := int(s.first.Sub(before.first).Seconds()*rate - s.first.Sub(before.first).Seconds()*w.config.Refresh + 0.999)
		hidden := min(missing, max(0, room))
		f.Hidden, missing = f.Hidden+hidden, missing-hidden
	}
	unread := min(missing, int(float64(gap)/float64(interval)*0.98))
	f.Due += missing
	f.Dropped += missing - unread
	f.Unread += unread
}

// held counts a picture that was on the screen for so long.
func (w *Watched) held(f *Frames, held, period time.Duration) {
	if held >= 3*period-time.Millisecond {
		f.Freezes++
		f.LongestFreezeMS = max(f.LongestFreezeMS, math.Round(held.Seconds()*1e4)/10)
	}
}

// cadence counts a picture that was held for more or fewer refreshes than an even cadence has.
func (w *Watched) cadence(f *Frames, held, interval time.Duration) {
	each := w.config.Refresh / w.rate()
	if each < 1 {
		return
	}
	n := math.Round(float64(held) / float64(interval))
	if n < math.Floor(each+0.05) || n > math.Ceil(each-0.05) {
		f.Uneven++
	}
	if over := n - math.Ceil(each-0.05); over > 0 {
		f.Repeats += int(over)
	}
}

// Watching returns how the screen was watched from the first picture on.
func (w *Watched) Watching() *Watching {
	w.mu.Lock()
	defer w.mu.Unlock()
	return &Watching{Looks: w.reads, Blank: w.blank, WidestMS: math.Round(1e4*w.widest.Seconds()) / 10}
}

// Marks is what the marks of a clip's pictures say, so that it is found in a recording.
type Marks struct {
	Clip  int `json:"clip"`  // its number
	Round int `json:"round"` // its frames' numbers begin again after so many
}
