// Package recount turns a recording of a screen into the account of the frames that were shown on it, by
// the marks of our clips.
package recount

import (
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
	"vividstrain/core/tally"
)

// Options are what is known of a recording.
type Options struct {
	Clip     string  // the clip that was shown; "": its rate and length are found
	Refresh  float64 // of the screen, in Hz
	Settle   time.Duration
	Progress func(done, total time.Duration) // total is 0 where it is not known
}

// Account is what a recording shows.
type Account struct {
	Recording string  `json:"recording"`
	Pictures  int     `json:"pictures"` // of the recording
	Width     int     `json:"width"`
	Height    int     `json:"height"`
	Seconds   float64 `json:"seconds"`
	Rate      float64 `json:"rate"` // of the recording
	FilmRate  float64 `json:"film_rate"`
	Round     int     `json:"round,omitempty"` // the film's numbers begin again after so many frames
	Guessed   bool    `json:"guessed"`         // rate and length of the film were found in the recording
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
	at     time.Duration
	number int
	ok     bool
}

// maxPictures bounds a recording: two hours at 240 pictures a second.
const maxPictures = 2 * 3600 * 240

// reader reads the pictures of a recording.
type reader struct {
	account *Account
	list    []reading
	place   eye.Place
	found   bool
	lost    int    // pictures in a row without marks at the place
	luma    []byte // of pictures of more than 8 bits

	examiner *examiner // nil: pictures are not compared
}

// moved is after how many pictures without marks the picture is looked for elsewhere.
const moved = 5

// ErrNoMarks means that no picture of a recording shows marks.
var ErrNoMarks = errors.New("no picture shows the marks of our clips: it must show the whole picture upright, at least 128 samples wide")

// File accounts for a recording.
func File(ctx context.Context, path string, o Options) (*Account, error) {
	a := &Account{Recording: path, Holds: map[string]int{}}
	r := &reader{account: a}
	if o.Clip != "" {
		if err := r.clip(ctx, o.Clip); err != nil {
			return nil, err
		}
	}
	if err := r.read(ctx, path, o.Progress); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if o.Clip == "" {
		if err := a.film(r.list); err != nil {
			return nil, err
		}
	}
	rate := media.UsualRate(a.FilmRate)
	w := tally.NewWatched(tally.WatchedConfig{Refresh: o.Refresh, Rate: tally.Constant{Num: rate.Num, Den: rate.Den}, Round: a.Round})
	epoch := time.Unix(0, 0)
	for _, s := range r.list {
		w.Read(epoch.Add(s.at), s.number, s.ok)
	}
	first := w.First()
	if first.IsZero() {
		return nil, fmt.Errorf("%s: %w", path, ErrNoMarks)
	}
	a.FirstS = first.Sub(epoch).Seconds()
	spans := []tally.Span{{Kind: tally.Steady, To: r.list[len(r.list)-1].at - first.Sub(epoch)}}
	if o.Settle > 0 && o.Settle < spans[0].To {
		spans = []tally.Span{{Kind: tally.Settle, To: o.Settle}, {Kind: tally.Steady, From: o.Settle, To: spans[0].To}}
	}
	windows := w.Windows(spans)
	a.Frames = *windows[len(windows)-1].Frames
	watching := w.Watching()
	a.Read, a.Blank = watching.Looks+1-watching.Blank, watching.Blank
	a.holds(r.list)
	return a, nil
}

// read reads the marks of all pictures.
func (r *reader) read(ctx context.Context, path string, progress func(done, total time.Duration)) error {
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
	err = registry.Decode(ctx, f, video, runtime.NumCPU(), func(frame media.Frame) error {
		if len(r.list) == maxPictures {
			return fmt.Errorf("it has more than %d pictures", maxPictures)
		}
		at := time.Duration(float64(frame.PTS) / float64(scale) * float64(time.Second))
		r.picture(frame.Picture, at)
		if progress != nil && len(r.list)%30 == 0 {
			progress(at-r.list[0].at, length)
		}
		return nil
	})
	if err != nil {
		return err
	}
	n := len(r.list)
	if n < 2 || !r.found {
		return ErrNoMarks
	}
	zero := r.list[0].at
	for i := range r.list {
		r.list[i].at -= zero
	}
	a := r.account
	a.Pictures, a.Seconds = n, r.list[n-1].at.Seconds()
	if a.Seconds <= 0 || !slices.IsSortedFunc(r.list, func(a, b reading) int { return int(a.at - b.at) }) {
		return errors.New("the times of its pictures make no sense")
	}
	a.Rate = math.Round(1000*float64(n-1)/a.Seconds) / 1000
	a.Seconds += 1 / a.Rate
	p, half := r.place, float64(r.place.Thick)/2
	a.X, a.W = 100*float64(p.X)/float64(a.Width), 100*float64(p.Width)/float64(a.Width)
	a.Y, a.H = 100*(float64(p.Y)-half)/float64(a.Height), 100*(float64(p.Height)+2*half)/float64(a.Height)
	return nil
}

// picture reads the marks of a picture: where they were before, or else wherever they are.
func (r *reader) picture(p *picture.Picture, at time.Duration) {
	r.account.Width, r.account.Height = p.Width, p.Height
	m := r.image(p)
	s := reading{at: at}
	if r.found {
		s.number, s.ok = r.strips(m)
	}
	if s.ok {
		r.lost = 0
	} else if r.lost++; !r.found || r.lost > moved {
		if place, number, ok := eye.Find(m); ok {
			r.place, r.found, s.number, s.ok = place, true, number, true
		}
	}
	r.list = append(r.list, s)
	if s.ok && s.number < max(r.account.Round, 1) {
		r.examiner.examine(r.account.Damage, m, r.place, s.number, (at - r.list[0].at).Seconds())
	}
}

// strips reads the picture where it was before. Of a torn picture the upper part counts.
func (r *reader) strips(m *eye.Image) (number int, ok bool) {
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
func (r *reader) image(p *picture.Picture) *eye.Image {
	plane := &p.Planes[0]
	if plane.Wide == nil {
		return &eye.Image{Pix: plane.Pix, Width: p.Width, Height: p.Height, Stride: plane.Stride, Step: 1}
	}
	if len(r.luma) < p.Width*p.Height {
		r.luma = make([]byte, p.Width*p.Height)
	}
	for y := range p.Height {
		for x, v := range plane.Wide[y*plane.Stride:][:p.Width] {
			r.luma[y*p.Width+x] = byte(v >> (p.Depth - 8))
		}
	}
	return &eye.Image{Pix: r.luma, Width: p.Width, Height: p.Height, Stride: p.Width, Step: 1}
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
	r.account.FilmRate, r.account.Round = l.Rate.Hz(), entry.Frames
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
		switch step := s.number - before.number; {
		case !before.ok:
		case step >= 0 && step <= 60:
			frames, took = frames+step, took+s.at-before.at
		case step < 0 && s.number < before.number/2: // they begin again
			a.Round = most + 1
		}
		before, most = s, max(most, s.number)
	}
	if frames < 10 || took <= 0 {
		return fmt.Errorf("%s: too few frames of a film show for an account", a.Recording)
	}
	a.FilmRate = media.UsualRate(float64(frames) / took.Seconds()).Hz()
	return nil
}

// holds counts frames by the number of pictures that show them.
func (a *Account) holds(list []reading) {
	held, number := 0, -1
	for _, s := range list {
		if s.ok && s.number == number {
			held++
			continue
		}
		if held > 0 {
			a.Holds[fmt.Sprint(min(held, 10))]++
		}
		if held = 0; s.ok {
			held, number = 1, s.number
		}
	}
}
