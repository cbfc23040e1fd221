package program

import (
	"context"
	"fmt"
	"math"
	"os/exec"
	"strconv"
	"time"

	"vividstrain/core/child"
	"vividstrain/core/eye"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
	"vividstrain/core/tally"
)

// Times after which something is given up.
const (
	startTimeout = 20 * time.Second // no picture
	hangTimeout  = 5 * time.Second  // nothing moves
	endTimeout   = 10 * time.Second // it goes on after the film
	patience     = 3 * time.Second  // with a player that was asked to end
)

// attempt is an attempt under way.
type attempt struct {
	route  *Program
	plan   route.Plan
	film   *films.Film
	lines  *listener
	screen *tally.Watched // nil: the screen is not watched
	relay  *relay         // of what is seen on it
	jumped []tally.Seek
	player *child.Child
	began  time.Time
	unseen bool // no picture came in time
	seen   eye.Report
}

// Play starts the player, and ends it when the rung is over.
func (p *Program) Play(ctx context.Context, plan route.Plan, live func(route.Live)) (result route.Result, err error) {
	result.Decode = route.Unknown
	a := &attempt{route: p, plan: plan, lines: &listener{pattern: p.pattern}}
	lasts := plan.Hold + films.Margin
	if p.options.Count == countNone && p.pattern == nil {
		lasts = plan.Hold // its end shows whether it kept pace
	}
	if n := p.options.Jumps; n > 0 {
		lasts = max(leastFilm, lasts+time.Duration(float64(n)*(max(p.jumping.step, 0)*float64(time.Second)+float64(afterJump+films.Margin))))
	}
	if a.film, err = p.maker.Film(ctx, plan.Loads[0], lasts); err != nil {
		return result, err
	}
	defer a.film.Close()
	result.ClipBPS, result.Clip, result.Marks, result.Later = a.film.BPS, a.film.Sum, a.film.Shows(), p.later()
	watch := func() eye.Report { return eye.Report{} }
	if p.watcher != nil {
		watch = a.watch(ctx)
	}
	if err := a.start(); err != nil {
		watch()
		return result, &route.UnfitError{Unfit: route.Away, Err: err}
	}
	result.Failure, err = a.follow(ctx, live)
	if result.Failure == "" && err == nil {
		a.jumped, result.Notes, err = a.jump(ctx)
	}
	seen := watch() // before the player's window closes
	if !a.player.End(patience) && result.Failure == "" && err == nil {
		result.Notes = append(result.Notes, "the player did not end when it was asked to, and was killed")
	}
	p.group.Watch()
	if err := p.stop(); err != nil {
		result.Notes = append(result.Notes, err.Error())
	}
	if err != nil {
		return result, err
	}
	if seen.Err != nil {
		return result, &route.UnfitError{Unfit: route.Away, Err: fmt.Errorf("the screen could not be watched: %w", seen.Err)}
	}
	if a.unseen {
		result.Failure += ": " + p.watcher.Why()
	}
	a.seen = seen
	return a.account(result)
}

// places returns what the placeholders stand for.
func (a *attempt) places() places {
	t := a.film.Track.Format
	values := places{"file": a.film.Path, "width": strconv.Itoa(t.Width), "height": strconv.Itoa(t.Height), "seconds": strconv.FormatFloat(a.film.Seconds, 'f', -1, 64)}
	if s := a.route.server; s != nil {
		values["url"] = s.offer(a.film)
	}
	return values
}

// start starts the player.
func (a *attempt) start() error {
	o := a.route.options
	cmd, err := build(o.Start, o.Shell, a.places())
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = a.lines, a.lines, time.Second
	a.began = time.Now()
	if a.player, err = child.Start(cmd); err != nil {
		return fmt.Errorf("the player could not be started: %w", err)
	}
	a.route.group.Watch(cmd.Process.Pid)
	return nil
}

// stop runs the command that ends a player elsewhere.
func (p *Program) stop() error {
	if p.server != nil {
		p.server.offer(nil)
	}
	if p.options.Stop == "" {
		return nil
	}
	cmd, err := build(p.options.Stop, p.options.Shell, nil)
	if err != nil {
		return err
	}
	c, err := child.Start(cmd)
	if err != nil {
		return fmt.Errorf("--stop could not be run: %w", err)
	}
	select {
	case <-c.Ended:
	case <-time.After(endTimeout):
	}
	if c.End(0); !cmd.ProcessState.Success() {
		return fmt.Errorf("--stop failed: %s", cmd.ProcessState)
	}
	return nil
}

// watch has the screen watched until the function that it returns is called.
func (a *attempt) watch(ctx context.Context) (stop func() eye.Report) {
	refresh := a.route.watcher.Refresh()
	t := a.film.Track.Format
	a.screen = tally.NewWatched(tally.WatchedConfig{Refresh: refresh, Rate: tally.Constant{Num: t.Rate.Num, Den: t.Rate.Den}, Round: a.film.Marks})
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan eye.Report, 1)
	a.relay = &relay{screen: a.screen}
	go func() { done <- eye.Watch(ctx, a.route.watcher, a.relay) }()
	return func() eye.Report { cancel(); return <-done }
}

// first returns when the first picture was seen, as far as that is known; zero: not yet.
func (a *attempt) first() time.Time {
	switch {
	case a.screen != nil:
		return a.screen.First()
	case a.lines.pattern != nil:
		return a.lines.first()
	}
	return a.began
}

// follow waits until the rung is over, and returns why it was not played to its end.
func (a *attempt) follow(ctx context.Context, live func(route.Live)) (failure string, err error) {
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-a.player.Ended:
			return a.ended(time.Now()), nil
		case now := <-ticker.C:
			if failure, over := a.look(now); over {
				return failure, nil
			}
			l := route.Live{Elapsed: now.Sub(a.began)}
			if a.screen != nil {
				l.Frames = a.screen.Sum()
			}
			live(l)
		}
	}
}

// look reports whether the rung is over, and why if it was not played to its end.
func (a *attempt) look(now time.Time) (failure string, over bool) {
	first := a.first()
	if first.IsZero() {
		if now.Sub(a.began) < startTimeout {
			return "", false
		}
		if a.screen != nil {
			a.unseen = true
			return fmt.Sprintf("no picture of the film was seen within %s", startTimeout) + a.lines.said(), true
		}
		return fmt.Sprintf("it said nothing of playing within %s: %s", startTimeout, errNoLines) + a.lines.said(), true
	}
	if a.free() && a.route.later() {
		return "", now.Sub(a.began) > a.plan.Hold+films.Margin
	}
	if a.free() {
		length := time.Duration(a.film.Seconds * float64(time.Second))
		return "", now.Sub(a.began) > length+endTimeout
	}
	stood := a.lines.stands(now)
	if a.screen != nil {
		stood = a.screen.Stands(now)
	}
	if stood > hangTimeout {
		return fmt.Sprintf("it hung %.1f s into the rung: it is still there, but nothing moves", now.Sub(first).Seconds()-stood.Seconds()) + a.lines.said(), true
	}
	return "", now.Sub(first) >= a.plan.Hold+200*time.Millisecond
}

// free reports whether nothing shows what the player does, so that it plays the film to its end.
func (a *attempt) free() bool { return a.screen == nil && a.lines.pattern == nil }

// ended returns why a player that has ended did not play to the end of the rung.
func (a *attempt) ended(now time.Time) string {
	first := a.first()
	if first.IsZero() {
		return fmt.Sprintf("it ended after %.1f s without a picture: %s", now.Sub(a.began).Seconds(), how(a.player.Cmd)) + a.lines.said()
	}
	played := now.Sub(first)
	if a.player.Cmd.ProcessState.Success() && played >= a.plan.Hold-500*time.Millisecond {
		return ""
	}
	return fmt.Sprintf("it ended %.1f s into the rung, before its time was over: %s", played.Seconds(), how(a.player.Cmd)) + a.lines.said()
}

// how returns how a program ended.
func how(cmd *exec.Cmd) string {
	s := cmd.ProcessState
	if s == nil {
		return "it was not started"
	}
	if text := s.String(); text == "signal: killed" {
		return "it was killed, as the kernel does when memory runs out"
	} else {
		return text
	}
}

// account returns the result of an attempt that is over.
func (a *attempt) account(result route.Result) (route.Result, error) {
	first := a.first()
	if first.IsZero() {
		return result, nil
	}
	result.Began = first
	delay := first.Sub(a.began).Seconds()
	steady, end := first.Add(a.plan.Settle), first.Add(a.plan.Hold)
	t := tally.Tally{Jumps: a.jumped}
	if !a.free() {
		t.StartDelayS = &delay
	}
	rate := a.film.Track.Format.Rate.Hz()
	switch {
	case a.screen != nil && a.route.options.Count == countMarks:
		t.Windows = a.screen.Windows(a.plan.Spans(0))
		for i := range t.Windows {
			if w := &t.Windows[i]; w.Frames != nil && a.lines.pattern != nil {
				if told := a.lines.between(at(first, w.FromS), at(first, w.ToS), rate); told != nil {
					w.Frames.Told = told.Told
				}
			}
		}
	case a.route.options.Count == countLines:
		for _, s := range a.plan.Spans(0) {
			w := tally.Window{Kind: s.Kind, FromS: s.From.Seconds(), ToS: s.To.Seconds()}
			w.Frames = a.lines.between(first.Add(s.From), first.Add(s.To), rate)
			t.Windows = append(t.Windows, w)
		}
		if t.Steady() == nil && result.Failure == "" {
			return result, &route.UnfitError{Unfit: route.TooShort, Err: errNoLines}
		}
	default:
		if t.Speed = a.lines.speed(steady, end); a.free() && !a.route.later() {
			t.Speed = a.pace(&result)
		}
		for _, s := range a.plan.Spans(0) {
			t.Windows = append(t.Windows, tally.Window{Kind: s.Kind, FromS: s.From.Seconds(), ToS: s.To.Seconds()})
		}
	}
	if a.screen != nil {
		t.Watching = a.screen.Watching()
		t.Watching.CPUPct, t.Watching.Torn = math.Round(100*a.seen.CPU)/100, a.seen.Torn
	}
	result.Streams = []tally.Tally{t}
	return result, nil
}

func at(t time.Time, seconds float64) time.Time {
	return t.Add(time.Duration(seconds * float64(time.Second)))
}

// startAllowance is how long a player whose pictures nobody sees may take to start and to end.
const startAllowance = 2 * time.Second

// pace returns the least speed at which a player that ended by itself has played the film, nil
// where it did not end.
func (a *attempt) pace(result *route.Result) *float64 {
	if state := a.player.Cmd.ProcessState; state == nil || !state.Exited() {
		result.Notes = append(result.Notes, fmt.Sprintf("the player did not end within %s after the film: whether it kept pace is not known", endTimeout))
		return nil
	}
	took := a.player.Lasted() - startAllowance
	speed := min(1, a.film.Seconds/max(took.Seconds(), 0.001))
	return &speed
}
