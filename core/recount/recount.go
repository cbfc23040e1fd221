// Package recount turns a recording of a screen into the account of the frames that were shown on it, by
// the marks of our clips.
package recount

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"
	"time"

	"vividstrain/core/eye"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/tally"
)

// Options are what is known of a recording.
type Options struct {
	Clip     string  // the clip that was shown; "": its rate and length are found
	Refresh  float64 // of the screen, in Hz
	Settle   time.Duration
	Progress func(done, total time.Duration) // total is 0 where it is not known
}

// Report is what a recording shows: of one screen, or of two beside each other.
type Report struct {
	Recording string     `json:"recording"`
	Screens   []*Account `json:"screens"` // from left to right
	// DelayMS is how much later frames show on the second screen: the median. Nil where there is one
	// screen, or nothing to compare.
	DelayMS *float64 `json:"delay_ms,omitempty"`
}

// Account is what a screen shows in a recording.
type Account struct {
	Pictures int     `json:"pictures"` // of the recording
	Width    int     `json:"width"`
	Height   int     `json:"height"`
	Seconds  float64 `json:"seconds"`
	Rate     float64 `json:"rate"` // of the recording
	FilmRate float64 `json:"film_rate"`
	Round    int     `json:"round,omitempty"` // the film's numbers begin again after so many frames
	Guessed  bool    `json:"guessed"`         // rate and length of the film were found in the recording
	Angled   bool    `json:"angled,omitempty"`
	// Where the picture is, of the recording's width and height.
	X float64 `json:"x_pct"`
	Y float64 `json:"y_pct"`
	W float64 `json:"width_pct"`
	H float64 `json:"height_pct"`

	FirstS float64        `json:"first_s"` // when the first frame shows, from the start of the recording
	Read   int            `json:"read"`    // pictures whose marks were read, after the first one
	Blank  int            `json:"blank"`   // and those whose marks could not be
	Torn   int            `json:"torn"`    // pictures whose upper and lower marks differ
	Holds  map[string]int `json:"holds"`   // frames by the number of pictures that show them
	Frames tally.Frames   `json:"frames"`
	Damage *Damage        `json:"damage,omitempty"` // where the clip is known
}

// reading is what a picture of the recording shows.
type reading struct {
	at   time.Duration
	mark scene.Mark
	ok   bool
}

// maxPictures bounds a recording: two hours at 240 pictures a second.
const maxPictures = 2 * 3600 * 240

// reader reads the pictures of a screen in a recording.
type reader struct {
	account  *Account
	list     []reading
	from, to int // columns of the recording in which the screen is; to is 0: all
	place    eye.Place
	found    bool
	upright  *eye.Upright // nil: the camera looks straight at the screen
	lost     int          // pictures in a row without marks at the place

	examiner *examiner // nil: pictures are not compared
}

// moved is after how many pictures without marks the picture is looked for elsewhere.
const moved = 5

// ErrNoMarks means that no picture of a recording shows marks.
var ErrNoMarks = fmt.Errorf("no picture shows the marks of our clips: it must show the whole picture, at least %d samples wide", eye.LeastWidth)

// File accounts for a recording.
func File(ctx context.Context, path string, o Options) (*Report, error) {
	first, err := newReader(ctx, o.Clip)
	if err != nil {
		return nil, err
	}
	t := &recording{readers: []*reader{first}, clip: o.Clip}
	if err := t.read(ctx, path, o.Progress); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	report := &Report{Recording: path}
	for _, r := range t.readers {
		if err := r.finish(o); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		report.Screens = append(report.Screens, r.account)
	}
	if len(t.readers) == 2 {
		report.DelayMS = delay(t.readers[0].list, t.readers[1].list)
	}
	return report, nil
}

// newReader returns a reader of a screen on which a clip was shown, "": one that is not known.
func newReader(ctx context.Context, clip string) (*reader, error) {
	r := &reader{account: &Account{Holds: map[string]int{}}}
	if clip == "" {
		return r, nil
	}
	return r, r.clip(ctx, clip)
}

// finish makes the account of what was read.
func (r *reader) finish(o Options) error {
	r.oneClip()
	a, zero := r.account, r.list[0].at
	for i := range r.list {
		r.list[i].at -= zero
	}
	n := len(r.list)
	a.Pictures, a.Seconds = n, r.list[n-1].at.Seconds()
	if a.Seconds <= 0 || !slices.IsSortedFunc(r.list, func(a, b reading) int { return int(a.at - b.at) }) {
		return errors.New("the times of its pictures make no sense")
	}
	a.Rate = math.Round(1000*float64(n-1)/a.Seconds) / 1000
	a.Seconds += 1 / a.Rate
	p, half := r.place, float64(r.place.Thick)/2
	if r.upright != nil {
		box := r.upright.Bounds()
		p = eye.Place{X: box.Min.X, Y: box.Min.Y, Width: box.Dx(), Height: box.Dy()}
		a.Angled, half = true, 0
	}
	a.X, a.W = 100*float64(p.X+r.from)/float64(a.Width), 100*float64(p.Width)/float64(a.Width)
	a.Y, a.H = 100*(float64(p.Y)-half)/float64(a.Height), 100*(float64(p.Height)+2*half)/float64(a.Height)
	if o.Clip == "" {
		if err := a.film(r.list); err != nil {
			return err
		}
	}
	return r.account.count(r.list, o)
}

// oneClip forgets the marks of other clips than the one that shows most: what is on the screen before and
// after it, and patterns that look like marks.
func (r *reader) oneClip() {
	seen := map[int]int{}
	for _, s := range r.list {
		if s.ok {
			seen[s.mark.Clip]++
		}
	}
	most := 0
	for clip, n := range seen {
		if n > seen[most] || n == seen[most] && clip > most {
			most = clip
		}
	}
	for i := range r.list {
		r.list[i].ok = r.list[i].ok && r.list[i].mark.Clip == most
	}
}

// count accounts for readings.
func (a *Account) count(list []reading, o Options) error {
	rate := media.UsualRate(a.FilmRate)
	w := tally.NewWatched(tally.WatchedConfig{Refresh: o.Refresh, Rate: tally.Constant{Num: rate.Num, Den: rate.Den}, Round: a.Round})
	epoch := time.Unix(0, 0)
	for _, s := range list {
		w.Read(epoch.Add(s.at), s.mark.Frame, s.ok)
	}
	first := w.First()
	if first.IsZero() {
		return ErrNoMarks
	}
	a.FirstS = first.Sub(epoch).Seconds()
	spans := []tally.Span{{Kind: tally.Steady, To: list[len(list)-1].at - first.Sub(epoch)}}
	if o.Settle > 0 && o.Settle < spans[0].To {
		spans = []tally.Span{{Kind: tally.Settle, To: o.Settle}, {Kind: tally.Steady, From: o.Settle, To: spans[0].To}}
	}
	windows := w.Windows(spans)
	if len(windows) == 0 {
		return ErrNoMarks
	}
	a.Frames = *windows[len(windows)-1].Frames
	watching := w.Watching()
	a.Read, a.Blank = watching.Looks+1-watching.Blank, watching.Blank
	a.holds(list)
	return nil
}

// delay returns how much later frames show on the second of two screens, in milliseconds; nil where no
// frame shows on both.
func delay(a, b []reading) *float64 {
	firsts := func(list []reading) map[int]time.Duration {
		seen := map[int]time.Duration{}
		for _, s := range list {
			if _, is := seen[s.mark.Frame]; s.ok && !is {
				seen[s.mark.Frame] = s.at
			}
		}
		return seen
	}
	left, right := firsts(a), firsts(b)
	var list []float64
	for number, at := range left {
		if other, both := right[number]; both {
			list = append(list, float64(other-at)/1e6)
		}
	}
	if len(list) == 0 {
		return nil
	}
	slices.Sort(list)
	v := math.Round(10*list[len(list)/2]) / 10
	return &v
}

// recording is a recording that is read.
type recording struct {
	readers []*reader // of each screen
	clip    string
	luma    []byte // of pictures of more than 8 bits
}

// searches is the number of pictures in which a second screen is looked for.
const searches = 60

// read reads the marks of all pictures.
func (t *recording) read(ctx context.Context, path string, progress func(done, total time.Duration)) error {
	f, err := registry.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	video, err := f.Video()
	if err != nil {
		return err
	}
	scale, length := f.Tracks()[video].Timescale, f.Tracks()[video].Duration
	first := t.readers[0]
	err = registry.Decode(ctx, f, video, runtime.NumCPU(), func(frame media.Frame) error {
		n := len(first.list)
		if n == maxPictures {
			return fmt.Errorf("it has more than %d pictures", maxPictures)
		}
		at, m := time.Duration(float64(frame.PTS)/float64(scale)*float64(time.Second)), t.image(frame.Picture)
		for _, r := range t.readers {
			r.picture(m, at)
		}
		if len(t.readers) == 1 && first.found && first.upright == nil && n < searches {
			if err := t.second(ctx, m, at); err != nil {
				return err
			}
		}
		if progress != nil && n%30 == 1 {
			progress(at-first.list[0].at, length)
		}
		return nil
	})
	if err == nil && (len(first.list) < 2 || !first.found) {
		err = ErrNoMarks
	}
	return err
}

// second looks for another screen beside the one that was found. What came before is blank on it.
func (t *recording) second(ctx context.Context, m *eye.Image, at time.Duration) error {
	first := t.readers[0]
	p := first.place
	for _, part := range [2][2]int{{0, p.X}, {p.X + p.Width, m.Width}} {
		place, _, ok := eye.Find(m.Columns(part[0], part[1]))
		if !ok {
			continue
		}
		r, err := newReader(ctx, t.clip)
		if err != nil {
			return err
		}
		r.list = slices.Clone(first.list)
		for i := range r.list {
			r.list[i].ok = false
		}
		r.list = r.list[:len(r.list)-1]
		if r.place, r.found = place, true; part[0] == 0 { // it is to the left: the columns between them are split
			r.to = (place.X + place.Width + p.X) / 2
			first.from = r.to
			first.place.X -= r.to
			t.readers = []*reader{r, first}
		} else {
			r.from = (p.X + p.Width + part[0] + place.X) / 2
			r.place.X -= r.from - part[0]
			first.to = r.from
			t.readers = []*reader{first, r}
		}
		r.picture(m, at)
		return nil
	}
	return nil
}

// picture reads the marks of a picture: where they were before, or else wherever they are.
func (r *reader) picture(m *eye.Image, at time.Duration) {
	r.account.Width, r.account.Height = m.Width, m.Height
	if r.from > 0 || r.to > 0 {
		m = m.Columns(r.from, cmp.Or(r.to, m.Width))
	}
	seen := m
	if r.upright != nil {
		m = r.upright.Turn(m)
	}
	s := reading{at: at}
	if r.found {
		s.mark, s.ok = r.strips(m)
	}
	if s.ok {
		r.lost = 0
	} else if r.lost++; !r.found || r.lost > moved {
		if place, mark, upright, ok := eye.FindAnywhere(seen); ok {
			r.place, r.upright, r.found, s.mark, s.ok = place, upright, true, mark, true
			if m = seen; upright != nil {
				m = upright.Turn(seen)
			}
		}
	}
	r.list = append(r.list, s)
	if s.ok && s.mark.Frame < max(r.account.Round, 1) {
		r.examiner.examine(r.account.Damage, m, r.place, s.mark.Frame, (at - r.list[0].at).Seconds())
	}
}

// strips reads the picture where it was before. Of a torn picture the upper part counts.
func (r *reader) strips(m *eye.Image) (mark scene.Mark, ok bool) {
	top, bottom, okTop, okBottom := eye.Read(m, r.place)
	switch {
	case okTop && okBottom && top != bottom:
		r.account.Torn++
		return top, true
	case okTop:
		return top, true
	}
	return bottom, okBottom
}

// image returns the luma of a picture in 8 bits.
func (t *recording) image(p *picture.Picture) *eye.Image {
	plane := &p.Planes[0]
	if plane.Wide == nil {
		return &eye.Image{Pix: plane.Pix, Width: p.Width, Height: p.Height, Stride: plane.Stride, Step: 1}
	}
	if len(t.luma) < p.Width*p.Height {
		t.luma = make([]byte, p.Width*p.Height)
	}
	for y := range p.Height {
		for x, v := range plane.Wide[y*plane.Stride:][:p.Width] {
			t.luma[y*p.Width+x] = byte(v >> (p.Depth - 8))
		}
	}
	return &eye.Image{Pix: t.luma, Width: p.Width, Height: p.Height, Stride: p.Width, Step: 1}
}

// clip takes the rate and the length of the film from the clip that was shown, and prepares to compare
// pictures with it.
func (r *reader) clip(ctx context.Context, path string) error {
	entry, err := clip.Made(ctx, path)
	if err != nil {
		return err
	}
	l, err := load.Parse(entry.Load)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	r.account.FilmRate, r.account.Round = l.Rate.Hz(), entry.Round()
	if r.examiner, err = newExaminer(entry, l.Format); r.examiner != nil {
		r.account.Damage = &Damage{}
	}
	return err
}

// film finds the rate of the film and after how many frames its numbers begin again, by the numbers that
// were read.
func (a *Account) film(list []reading) error {
	a.Guessed = true
	frames, took, before, most := 0, time.Duration(0), reading{}, 0
	for _, s := range list {
		if !s.ok {
			continue
		}
		switch step := s.mark.Frame - before.mark.Frame; {
		case !before.ok:
		case step >= 0 && step <= 60:
			frames, took = frames+step, took+s.at-before.at
		case step < 0 && s.mark.Frame < before.mark.Frame/2: // they begin again
			a.Round = most + 1
		}
		before, most = s, max(most, s.mark.Frame)
	}
	if frames < 10 || took <= 0 {
		return errors.New("too few frames of a film show for an account")
	}
	a.FilmRate = media.UsualRate(float64(frames) / took.Seconds()).Hz()
	return nil
}

// holds counts frames by the number of pictures that show them.
func (a *Account) holds(list []reading) {
	held, number := 0, -1
	for _, s := range list {
		if s.ok && s.mark.Frame == number {
			held++
			continue
		}
		if held > 0 {
			a.Holds[fmt.Sprint(min(held, 10))]++
		}
		if held = 0; s.ok {
			held, number = 1, s.mark.Frame
		}
	}
}
