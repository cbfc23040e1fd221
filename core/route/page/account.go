package page

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"vividstrain/core/tally"
)

// account keeps the account of one video from what its page reports. Times are of the page's
// clock, in milliseconds.
type account struct {
	hold, settle time.Duration
	rate         float64 // frames a second of the film
	refresh      float64 // of the device's display, 0: not known
	film         float64 // its length in seconds
	marks        int     // the film's marks begin again after so many frames; 0: there are none

	levels []level   // qualities of an adaptive film, in order
	rates  []float64 // frames a second of each

	ordered, first float64 // first is negative before the first picture
	frames         []present
	ticks          []message // without their frames
	waits          []span
	jumps          []tally.Seek
	jumped         float64 // when the jump under way was asked for, 0: there is none
	jumpedAt       []span  // windows of the jumps
	lost           bool    // it stopped, with the reason in failure
	failure        string
	void           string // why it says nothing about the device
	done           bool
}

// span is a time from which to which.
type span struct{ from, to float64 }

// maxKept is the largest number of frames of an account: ten minutes at 240 frames a second.
const maxKept = 10 * 60 * 240

func newAccount(hold, settle time.Duration, rate float64) *account {
	return &account{hold: hold, settle: settle, rate: rate, first: -1}
}

// take takes a tick or an event of the video.
func (a *account) take(m *message) {
	switch m.Say {
	case "tick":
		a.tick(m)
	case "event":
		a.event(m)
	}
}

func (a *account) tick(m *message) {
	if len(a.frames)+len(m.Frames) <= maxKept {
		a.frames = append(a.frames, m.Frames...)
	}
	t := *m
	t.Frames = nil
	if len(a.ticks) < maxKept {
		a.ticks = append(a.ticks, t)
	}
	if m.Hidden && !a.done {
		a.void = cmp.Or(a.void, "the page was hidden")
	}
}

func (a *account) event(m *message) {
	switch m.Kind {
	case "ordered":
		a.ordered = m.T
	case "first":
		if a.first < 0 {
			a.first = m.T
			a.resume(m.T)
		}
	case "waiting":
		if a.first >= 0 && a.jumped == 0 && (len(a.waits) == 0 || a.waits[len(a.waits)-1].to > 0) && len(a.waits) < maxItems {
			a.waits = append(a.waits, span{from: m.T})
		}
	case "playing":
		a.resume(m.T)
	case "jump-forward", "jump-back", "jump-inside":
		a.resume(m.T)
		a.jumped = m.T
		a.jumps = append(a.jumps, tally.Seek{Kind: tally.JumpKind(m.Kind[len("jump-"):]), AtS: (m.T - a.first) / 1000})
	case "jumped":
		if len(a.jumps) > 0 && a.jumped > 0 {
			a.jumps[len(a.jumps)-1].DelayS = (m.T - a.jumped) / 1000
			a.jumpedAt = append(a.jumpedAt, span{a.jumped, m.T + 1000})
			a.jumped = 0
		}
	case "hidden":
		a.void = cmp.Or(a.void, "the page was hidden")
	case "left-full":
		a.void = cmp.Or(a.void, "the full screen was left")
	case "paused":
		if !a.done {
			a.void = cmp.Or(a.void, "the video was paused")
		}
	case "error":
		a.fail(cmp.Or(mediaErrors[int(m.X)], "the browser gave up") + wordsOf(m.Text))
	case "refused":
		a.fail("the browser refused to play" + wordsOf(m.Text))
	case "ended":
		if !a.done {
			a.fail(fmt.Sprintf("it ended %.1f s into the rung, before its time was over", max(0, m.T-a.first)/1000))
		}
	case "quality":
		if q := int(m.X); q >= 0 && q < len(a.rates) && len(a.levels) < maxItems && (len(a.levels) == 0 || m.At > a.levels[len(a.levels)-1].media) {
			a.levels = append(a.levels, level{m.At, q, m.Text})
		}
	case "done":
		a.done = true
	}
}

// mediaErrors are the codes of MediaError (HTML, 4.8.11.1).
var mediaErrors = map[int]string{1: "loading was aborted", 2: "the browser lost the network", 3: "the browser could not decode it", 4: "the browser does not play this format"}

func wordsOf(text string) string {
	if text == "" {
		return ""
	}
	return ": " + text
}

func (a *account) fail(why string) {
	if !a.done {
		a.failure, a.done, a.lost = cmp.Or(a.failure, why), true, true
	}
}

// resume ends a wait.
func (a *account) resume(t float64) {
	if n := len(a.waits); n > 0 && a.waits[n-1].to == 0 {
		a.waits[n-1].to = t
	}
}

// live returns the frames so far, as far as they are known, and where the viewer is.
func (a *account) live() (f tally.Frames, s tally.Standing) {
	s.Film = time.Duration(a.film * 1e9)
	s.Waits = a.first < 0 || len(a.waits) > 0 && a.waits[len(a.waits)-1].to == 0
	if n := len(a.ticks); n > 0 {
		s.Played, s.Fetched = seconds(a.ticks[n-1].At), seconds(max(a.ticks[n-1].Ahead, a.ticks[n-1].At))
	}
	if n := len(a.frames); n > 1 {
		a.count(&f, a.frames[0], a.frames[n-1])
	} else if n := len(a.ticks); n > 0 && a.ticks[n-1].Total != nil {
		f.Due, f.Dropped = *a.ticks[n-1].Total, a.ticks[n-1].Dropped
		f.Shown = f.Due - f.Dropped
	}
	return f, s
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// count adds the frames after one picture up to another: due by their places in the film, shown
// by the browser's count of presented pictures. Frames that come faster than the display is
// refreshed are hidden, not due.
func (a *account) count(f *tally.Frames, from, to present) {
	due, shown := int(math.Round(a.framesTo(to.Media)-a.framesTo(from.Media))), int(to.N-from.N)
	if due <= 0 || shown < 0 || due > maxKept {
		return
	}
	if a.refresh > 0 && a.rate > 1.01*a.refresh {
		refreshes := int(math.Ceil((to.Media - from.Media) * a.refresh))
		hidden := max(0, due-max(shown, refreshes))
		f.Hidden, due = f.Hidden+hidden, due-hidden
	}
	shown = min(shown, due)
	f.Due, f.Shown, f.Dropped = f.Due+due, f.Shown+shown, f.Dropped+due-shown
}

// across adds those of the frames after one picture up to another that belong to a window: what
// was shown by when it was shown, what was dropped by when it was due.
func (a *account) across(f *tally.Frames, before, p present, from, to float64) {
	var all tally.Frames
	a.count(&all, before, p)
	dropped := 0
	for i := range all.Dropped {
		if due := before.Display + float64(i+1)*1000/a.rate; due >= from-1 && due < to-1 {
			dropped++
		}
	}
	f.Due, f.Dropped = f.Due+dropped, f.Dropped+dropped
	if p.Display < to {
		f.Due, f.Shown, f.Hidden = f.Due+all.Shown, f.Shown+all.Shown, f.Hidden+all.Hidden
	}
}

// finish returns the account when playing has ended at a time.
func (a *account) finish() tally.Tally {
	end := a.first + ms(a.hold)
	if n := len(a.ticks); n > 0 && (a.lost || !a.done) {
		end = min(end, a.ticks[n-1].T)
	}
	a.resume(end)
	t := tally.Tally{}
	if a.first < 0 {
		return t
	}
	start := max(0, a.first-a.ordered) / 1000
	t.StartDelayS = &start
	steady := a.first + ms(a.settle)
	t.Windows = append(t.Windows, a.window(tally.Settle, a.first, min(steady, end)))
	if end > steady {
		t.Windows = append(t.Windows, a.window(tally.Steady, steady, end))
	}
	if a.settle <= 0 {
		t.Windows = t.Windows[1:]
	}
	for _, j := range a.jumpedAt {
		t.Windows = append(t.Windows, a.window(tally.Jump, j.from, j.to))
	}
	t.Buffer = a.buffer(start, steady, end)
	if t.Steady() == nil { // nothing counts frames there
		speed := a.speed(steady, end)
		t.Speed = &speed
	}
	t.Early = a.early(end)
	t.Adaptive = a.adaptive(steady, end)
	if a.marks > 0 {
		read := 0
		for _, f := range a.frames {
			if f.Mark >= 0 {
				read++
			}
		}
		t.Checked = &read
	}
	return t
}

func ms(d time.Duration) float64 { return float64(d) / 1e6 }

// window returns the account of the time from which to which.
func (a *account) window(kind string, from, to float64) tally.Window {
	w := tally.Window{Kind: kind, FromS: (from - a.first) / 1000, ToS: (to - a.first) / 1000}
	if f, known := a.called(kind, from, to); known {
		w.Frames = &f
	} else if told := a.told(from, to); told != nil {
		w.Frames = &tally.Frames{Due: told.Due, Shown: told.Due - told.Dropped, Dropped: told.Dropped, Speed: a.speed(from, to), Told: told}
		w.Frames.ShownRate = 1000 * float64(w.Frames.Shown) / max(1, to-from)
	}
	return w
}

// called returns the frames of a window by the calls of the frame callback; false where there
// were none.
func (a *account) called(kind string, from, to float64) (f tally.Frames, known bool) {
	i, _ := slices.BinarySearchFunc(a.frames, from, func(p present, t float64) int { return cmp.Compare(p.Display, t) })
	if len(a.frames) == 0 {
		return f, false
	}
	period, last := 1000/a.rate, max(0, i-1)
	if kind == tally.Jump { // what was before it is elsewhere in the film
		for i < len(a.frames) && i > 0 && math.Abs(a.frames[i].Media-a.frames[i-1].Media) < 0.5 && a.frames[i].Display < to {
			i++
		}
		last = i
	}
	if last >= len(a.frames) {
		return f, true
	}
	first := a.frames[last]
	lead := a.lead(last, to)
	for k := last + 1; k < len(a.frames); k++ {
		p, before := a.frames[k], a.frames[k-1]
		a.across(&f, before, p, from, to)
		if p.Display >= to {
			break
		}
		held := (p.Display - max(before.Display, from)) / max(1, p.N-before.N)
		a.held(&f, held, period)
		if p.N-before.N == 1 && before.Display >= from {
			a.cadence(&f, p.Display-before.Display)
		}
		if late := p.Display - 1000*p.Media - lead; a.refresh > 0 && late > 1000/a.refresh+1 {
			f.Late++
		}
		a.mark(&f, k)
		last = k
	}
	if kind != tally.Jump { // what was due after the last picture, up to the end of the window
		rest := a.position(to) - a.frames[last].Media
		missing := int(math.Floor(rest*a.rate - 0.5))
		if missing > 0 && missing < maxKept && last+1 >= len(a.frames) && to-a.frames[last].Display > 3*period {
			f.Due, f.Dropped = f.Due+missing, f.Dropped+missing
		}
		if last+1 >= len(a.frames) {
			a.held(&f, to-max(a.frames[last].Display, from), period)
		}
	}
	end := a.frames[last]
	f.Told = a.toldBetween(first, end)
	f.Speed = 1
	if wall := end.Display - first.Display; wall > 0 {
		// Both ends are seen at a refresh, so that the wall time is known to one refresh only.
		media := 1000 * (end.Media - first.Media)
		if slack := 1000 / cmp.Or(a.refresh, 60); wall > media {
			wall = max(media, wall-slack)
		}
		f.Speed = media / wall
	}
	if to-end.Display > 500 { // it stood still at the end
		f.Speed = 1000 * (a.position(to) - first.Media) / (to - first.Display)
	}
	f.Speed = math.Round(min(f.Speed, 1.02)*1e4) / 1e4
	f.ShownRate = 1000 * float64(f.Shown) / (to - from)
	return f, true
}

// lead returns how far the display is usually behind the film in a window, in milliseconds: the
// median.
func (a *account) lead(from int, to float64) float64 {
	var list []float64
	for k := from; k < len(a.frames) && a.frames[k].Display < to; k++ {
		list = append(list, a.frames[k].Display-1000*a.frames[k].Media)
	}
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return list[len(list)/2]
}

// toldBetween returns what the browser itself counts from one picture to another.
func (a *account) toldBetween(from, to present) *tally.Told {
	if from.Total < 0 || to.Total < from.Total || to.Dropped < from.Dropped {
		return a.told(from.Display, to.Display)
	}
	return &tally.Told{Due: int(to.Total - from.Total), Dropped: int(to.Dropped - from.Dropped)}
}

// held counts a picture that was seen for so long, in milliseconds.
func (a *account) held(f *tally.Frames, held, period float64) {
	if held >= 3*period-1 {
		f.Freezes++
		f.LongestFreezeMS = max(f.LongestFreezeMS, math.Round(held*10)/10)
	}
}

// cadence counts a picture that was held for another number of refreshes than an even cadence has:
// 2 or 3 of them at 25 frames on 60 Hz.
func (a *account) cadence(f *tally.Frames, held float64) {
	if a.refresh <= 0 || a.rate > a.refresh || len(a.levels) > 0 {
		return
	}
	each := a.refresh / a.rate
	if n := math.Round(held * a.refresh / 1000); n < math.Floor(each+0.05) || n > math.Ceil(each-0.05) {
		f.Uneven++
	}
}

// mark counts picture k if its mark says that it is another one than the browser says. By the time
// that the callback has read it, later ones may be there: as many as fit into its delay, or all up
// to the next one that a callback tells of.
func (a *account) mark(f *tally.Frames, k int) {
	p := a.frames[k]
	if a.marks <= 0 || p.Mark < 0 {
		return
	}
	want := int(math.Round(p.Media * a.rate))
	ahead := ((int(p.Mark)-want)%a.marks + a.marks) % a.marks
	allowed := 1 + int(math.Ceil(max(0, p.LateMS)/1000*a.rate))
	if k+1 < len(a.frames) {
		allowed = max(allowed, int(math.Round(a.frames[k+1].Media*a.rate))-want)
	}
	if ahead > allowed {
		f.Wrong++
	}
}

// position returns where in the film the player was at a time, by its own statement.
func (a *account) position(t float64) float64 {
	i, _ := slices.BinarySearchFunc(a.ticks, t, func(m message, t float64) int { return cmp.Compare(m.T, t) })
	switch {
	case len(a.ticks) == 0:
		return 0
	case i == 0:
		return a.ticks[0].At
	case i == len(a.ticks):
		return a.ticks[i-1].At
	}
	before, after := a.ticks[i-1], a.ticks[i]
	if after.T == before.T || math.Abs(after.At-before.At) > 2*(after.T-before.T)/1000+0.5 { // a jump
		return before.At
	}
	return before.At + (after.At-before.At)*(t-before.T)/(after.T-before.T)
}

// speed returns media seconds per second.
func (a *account) speed(from, to float64) float64 {
	if to-from < 500 {
		return 1
	}
	return math.Round(min(1.02, 1000*(a.position(to)-a.position(from))/(to-from))*1e4) / 1e4
}

// told returns what the browser itself counts between the ticks nearest to a window's ends; nil
// where it counts nothing.
func (a *account) told(from, to float64) *tally.Told {
	nearest := func(t float64) *message {
		var best *message
		for i := range a.ticks {
			m := &a.ticks[i]
			if m.Total != nil && (best == nil || math.Abs(m.T-t) < math.Abs(best.T-t)) {
				best = m
			}
		}
		return best
	}
	begin, end := nearest(from), nearest(to)
	if begin == nil || begin == end || *end.Total < *begin.Total || end.Dropped < begin.Dropped {
		return nil
	}
	return &tally.Told{Due: *end.Total - *begin.Total, Dropped: end.Dropped - begin.Dropped}
}

// early returns the dropped frames of the first 15, 30 and 60 seconds, as far as it was held.
func (a *account) early(end float64) (list []tally.Early) {
	for _, s := range []float64{15, 30, 60} {
		if a.first+1000*s > end+100 {
			break
		}
		if w := a.window("", a.first, a.first+1000*s); w.Frames != nil {
			list = append(list, tally.Early{S: s, Due: w.Frames.Due, Dropped: w.Frames.Dropped})
		}
	}
	return list
}

// hungry is the lead in seconds below which a player that could fetch does fetch.
const hungry = 5

// buffer returns the account of what was fetched: the lead in the steady window, and how fast
// media came while there was little of them.
func (a *account) buffer(start, steady, end float64) *tally.Buffer {
	b := &tally.Buffer{StartDelayS: start, Jumps: a.jumps, MinLeadS: math.Inf(1)}
	for _, w := range a.waits {
		if from, to := max(w.from, steady), min(w.to, end); to > from {
			b.Stalls++
			b.StallS += (to - from) / 1000
		}
	}
	var grown, took float64
	for i, m := range a.ticks {
		if m.T >= steady && m.T <= end && m.Ahead < a.film-0.5 {
			b.MinLeadS = min(b.MinLeadS, max(0, m.Ahead-m.At))
		}
		if i == 0 || m.T > end {
			continue
		}
		before := a.ticks[i-1]
		if before.Ahead-before.At < hungry && before.Ahead < a.film-0.5 && m.Ahead >= before.Ahead {
			grown, took = grown+m.Ahead-before.Ahead, took+(m.T-before.T)/1000
		}
	}
	if math.IsInf(b.MinLeadS, 1) { // all of it was there
		b.MinLeadS = max(0, a.film-a.position(end))
	}
	if took >= 0.5 && grown > 0 {
		rate := min(grown/took, 1000)
		b.BuildRate = &rate
		if rate < 1 {
			lead := 0.0
			if n := len(a.ticks); n > 0 {
				lead = max(0, a.ticks[n-1].Ahead-a.ticks[n-1].At)
			}
			at := a.position(end) + lead/(1-rate)
			b.StallExpectedAtS = &at
		}
	}
	return b
}
