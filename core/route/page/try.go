package page

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
	"vividstrain/core/tally"
)

// Times after which a page is given up.
const (
	startTimeout = 20 * time.Second
	silence      = 30 * time.Second
	jumpTimeout  = 15 * time.Second
)

// try is an attempt under way on one device.
type try struct {
	number int
	device string
	conn   *conn

	mu       sync.Mutex
	accounts []*account
	began    time.Time // when it was ordered
	first    time.Time // when the last of the videos showed its first picture
	heard    time.Time
	failure  string
	void     string
	over     chan struct{}
	ended    bool
}

// take takes a message of the page.
func (t *try) take(m *message) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if m.Video >= len(t.accounts) || t.ended {
		return
	}
	t.heard = time.Now()
	a := t.accounts[m.Video]
	started := a.first >= 0
	a.take(m)
	if !started && a.first >= 0 {
		t.first = t.heard
	}
	all := true
	for _, a := range t.accounts {
		if a.lost || a.void != "" {
			t.finish(a.failure, a.void)
			return
		}
		all = all && a.done
	}
	if all {
		t.finish("", "")
	}
}

// finish ends the attempt. The lock is held.
func (t *try) finish(failure, void string) {
	if !t.ended {
		t.ended, t.failure, t.void = true, failure, void
		close(t.over)
	}
}

// end ends the attempt with a failure, or as void.
func (t *try) end(failure, void string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.finish(failure, void)
}

func (t *try) elapsed() time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.into()
}

// into returns how far into the rung the page was heard. The lock is held.
func (t *try) into() time.Duration {
	if t.first.IsZero() {
		return 0
	}
	return max(0, t.heard.Sub(t.first))
}

// Play has the page play the plan.
func (p *Page) Play(ctx context.Context, plan route.Plan, live func(route.Live)) (route.Result, error) {
	result := route.Result{Decode: route.Unknown}
	loads := plan.StreamLoads()
	if len(loads) > maxVideos {
		return result, fmt.Errorf("a page plays at most %d videos, not %d", maxVideos, len(loads))
	}
	var levels []quality
	var list []*films.Film
	var err error
	lasts := plan.Hold + plan.Begin(len(loads)-1) + time.Duration(p.options.Jumps)*2*time.Second + films.Margin
	if plan.Adaptive {
		levels, list, err = p.qualities(ctx, loads, lasts)
	} else {
		list, err = p.films(ctx, loads, lasts, plan.Spread)
	}
	defer func() {
		for _, f := range list {
			f.Close()
		}
	}()
	if err != nil {
		return result, err
	}
	promises := p.promised(ctx, list, loads)
	for _, f := range list {
		result.ClipBPS = max(result.ClipBPS, f.BPS)
	}
	if len(plan.Loads) == 1 {
		result.Clip, result.Marks = list[0].Sum, list[0].Shows()
	}
	tries, err := p.begin(list, levels, plan)
	if err != nil {
		return result, err
	}
	defer p.leave(tries)
	p.shaper.Start()
	p.hub.delivery.begin()
	o := order{Do: "play", Attempt: tries[0].number, Screen: p.options.Screen, Fit: p.options.Fit, Jumps: p.options.Jumps}
	if o.Films, err = p.offered(list, levels); err != nil {
		return result, err
	}
	o.Films = placed(o.Films, list, plan, lasts)
	defer p.hub.withdraw(o.Films)
	for _, t := range tries { // all begin at the same moment
		if err := t.conn.send(o); err != nil {
			return result, away("the page is not there any more")
		}
	}
	if err := p.follow(ctx, tries, plan, live); err != nil {
		return result, err
	}
	if p.hub.delivery.playersFault(plan.Hold) {
		result.Notes = append(result.Notes, "its buffer did not fill although the server could send: the player did not fetch, so that this is not the network")
	}
	for i, t := range tries {
		if result, err = t.collect(result, promises[i][0]); err != nil {
			return result, err
		}
	}
	if len(tries) == 1 {
		result.Promise, result.Devices = promises[0][0], nil
	}
	for i := range result.Streams {
		if a := result.Streams[i].Adaptive; a != nil {
			for _, l := range loads {
				a.Qualities = append(a.Qualities, l.Title())
			}
		}
	}
	return result, err
}

// offered makes films available to the page, and returns what it is to play: each in a video of
// its own, or in one video all of them as its qualities.
func (p *Page) offered(films []*films.Film, levels []quality) (list []orderedFilm, err error) {
	top := films[len(films)-1].Track.Format
	if levels != nil {
		for i := range levels {
			p.hub.offer(levels[i].Name, films[i])
		}
		return []orderedFilm{{Width: top.Width, Height: top.Height, Rate: top.Rate.Hz(), Levels: levels}}, nil
	}
	for i, f := range films {
		port, err := p.hub.port(i)
		if err != nil {
			return list, err
		}
		t, name := f.Track.Format, code(12)
		p.hub.offer(name, f)
		list = append(list, orderedFilm{Name: name, Port: port, Width: t.Width, Height: t.Height, Rate: t.Rate.Hz(), Marks: p.options.Marks && f.Marks > 0})
	}
	return list, nil
}

// placed says of each film for how long it plays, when it begins, and where: those of a plan that
// is spread begin at different places of what they last longer than they are played, and films
// that repeat a clip at different places of the clip.
func placed(list []orderedFilm, films []*films.Film, plan route.Plan, lasts time.Duration) []orderedFilm {
	for i := range list {
		spans := plan.Spans(i)
		list[i].HoldMS, list[i].DelayMS = spans[len(spans)-1].To.Milliseconds(), plan.Begin(i).Milliseconds()
		if plan.Spread {
			room := max(0, films[i].Seconds-lasts.Seconds())
			if films[i].Made {
				room = min(room, float64(films[i].Marks)/list[i].Rate)
			}
			list[i].From = room * float64(i) / float64(len(list))
		}
	}
	return list
}

// films returns the film of each load; of equal loads, the same one. Films that are made last
// longer by a round of their clip if their streams are spread over it.
func (p *Page) films(ctx context.Context, loads []load.Load, lasts time.Duration, spread bool) (list []*films.Film, err error) {
	if spread && len(loads) > 1 {
		lasts += seconds(p.maker.Seconds())
	}
	made := map[string]*films.Film{}
	for _, l := range loads {
		key := l.String() + l.File
		f := made[key]
		if f == nil {
			if f, err = p.maker.Film(ctx, l, lasts); err != nil {
				return list, err
			}
			made[key] = f
		}
		list = append(list, f)
	}
	return list, nil
}

// away is the error of an attempt that the device was not there for.
func away(why string) error {
	return &route.UnfitError{Unfit: route.Away, Err: errors.New(why)}
}

// begin takes the pages of all devices for an attempt.
func (p *Page) begin(films []*films.Film, levels []quality, plan route.Plan) (tries []*try, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.there() {
		return nil, away("the page is not open on the device")
	}
	if levels != nil {
		films = films[len(films)-1:] // one video
	}
	p.played++
	for _, s := range p.seats {
		t := &try{number: p.played, device: s.name(), conn: s.conn, over: make(chan struct{}), began: time.Now(), heard: time.Now()}
		refresh, _ := strconv.ParseFloat(s.facts["refresh_hz"], 64) // 0: not known
		for i, f := range films {
			early := plan.Begin(len(films)-1) - plan.Begin(i) // it settles for longer, so that all are steady at the same time
			a := newAccount(plan.Hold+early, plan.Settle+early, f.Track.Format.Rate.Hz())
			a.refresh, a.film, a.marks = refresh, f.Seconds, f.Marks
			if !p.options.Marks || levels != nil {
				a.marks = 0
			}
			for _, q := range levels {
				a.rates, a.rate = append(a.rates, q.Rate), min(a.rate, q.Rate)
			}
			t.accounts = append(t.accounts, a)
		}
		s.try = t
		tries = append(tries, t)
	}
	return tries, nil
}

// leave frees the pages after an attempt.
func (p *Page) leave(tries []*try) {
	p.hub.delivery.wants(false)
	p.mu.Lock()
	for _, s := range p.seats {
		s.try = nil
	}
	screen := p.screen
	p.mu.Unlock()
	for _, t := range tries { // any of them may have gone
		_ = t.conn.send(order{Do: "stop"})
		_ = t.conn.send(order{Do: "view", Screenful: screen})
	}
}

// follow watches an attempt until its pages have finished, fail or fall silent.
func (p *Page) follow(ctx context.Context, tries []*try, plan route.Plan, live func(route.Live)) error {
	longest := startTimeout + plan.Begin(plan.Streams()-1) + 2*plan.Hold + time.Duration(p.options.Jumps)*jumpTimeout
	stop := clock.Real{}.Every(250*time.Millisecond, func(now time.Time) {
		l, hungry := route.Live{}, false
		for _, t := range tries {
			t.live(now, &l)
			hungry = hungry || t.hungry()
		}
		live(l)
		p.hub.delivery.wants(hungry)
	})
	defer stop()
	look := time.NewTicker(200 * time.Millisecond)
	defer look.Stop()
	for _, t := range tries {
		for over := false; !over; {
			select {
			case <-t.over:
				over = true
			case <-ctx.Done():
				return ctx.Err()
			case <-look.C:
			}
			for _, t := range tries {
				t.look(longest)
				if p.browserEnded() {
					t.end(fmt.Sprintf("the browser ended %.1f s into the rung", t.elapsed().Seconds()), "")
				}
			}
		}
	}
	return nil
}

// look gives up a page that has fallen silent, shows no picture or does not come to an end.
func (t *try) look(longest time.Duration) {
	now := time.Now()
	t.mu.Lock()
	defer t.mu.Unlock()
	switch quiet := now.Sub(t.heard); {
	case quiet >= silence:
		t.finish(fmt.Sprintf("the page went silent %.1f s into the rung", t.into().Seconds()), "")
	case t.first.IsZero() && now.Sub(t.began) > startTimeout && quiet < silence/2:
		t.finish(fmt.Sprintf("there was no picture within %s", startTimeout), "")
	case now.Sub(t.began) > longest:
		t.finish("it did not come to its end", "")
	}
}

// browserEnded reports whether the browser that was opened here has ended.
func (p *Page) browserEnded() bool {
	p.mu.Lock()
	b := p.browser
	p.mu.Unlock()
	if b == nil {
		return false
	}
	select {
	case <-b.Ended:
		return true
	default:
		return false
	}
}

// live adds the state of the attempt on this device.
func (t *try) live(now time.Time, l *route.Live) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.first.IsZero() {
		l.Elapsed = now.Sub(t.first)
	}
	for _, a := range t.accounts {
		f, s := a.live()
		l.Frames.Due, l.Frames.Shown, l.Frames.Dropped = l.Frames.Due+f.Due, l.Frames.Shown+f.Shown, l.Frames.Dropped+f.Dropped
		l.Viewers = append(l.Viewers, s)
	}
}

// hungry reports whether a video has little in hand and is not fetched to its end.
func (t *try) hungry() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, a := range t.accounts {
		if n := len(a.ticks); !a.done && (n == 0 || a.ticks[n-1].Ahead-a.ticks[n-1].At < hungry && a.ticks[n-1].Ahead < a.film-0.5) {
			return true
		}
	}
	return false
}

// collect adds the accounts of this device, and what its browser had promised.
func (t *try) collect(result route.Result, promise *tally.Promise) (route.Result, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.void != "" {
		return result, away(t.void)
	}
	if began := cmp.Or(t.first, t.began); began.After(result.Began) {
		result.Began = began
	}
	part := route.Part{Device: t.device, Failure: t.failure, Promise: promise}
	if t.failure != "" {
		result.Failure = cmp.Or(result.Failure, t.failure)
	}
	if t.failure == "" || t.started() {
		for _, a := range t.accounts {
			result.Streams = append(result.Streams, a.finish())
			part.Streams++
		}
	}
	result.Devices = append(result.Devices, part)
	return result, nil
}

// started reports whether any video showed a picture. The lock is held.
func (t *try) started() bool {
	for _, a := range t.accounts {
		if a.first >= 0 {
			return true
		}
	}
	return false
}
