// Package engine plays clips on this computer with the program's own decoders:
// a decode-ahead queue on several threads, a presentation clock, and a virtual
// display. No monitor is needed.
package engine

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/screen"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
)

// Options are the settings of the route.
type Options struct {
	Threads     int           // decoding threads per stream, 0: one for each core
	Queue       int           // pictures decoded ahead, at least 1
	Refresh     float64       // Hz of the virtual display
	Late        tally.Late    // what happens to late frames
	Clips       string        // folder of clips, missing ones are built there
	ClipSeconds float64       // length of the clips that are built
	Ahead       time.Duration // how far a conversion may run ahead of its viewer
	Screen      string        // "full" or "window": on a real screen; "": on a virtual one
	Fit         string        // "fit" or "native"
	Jumps       int           // after the steady window

	refreshSet bool // Refresh was given
}

// Default returns the default settings, without the folder of clips.
func Default() Options {
	return Options{Threads: runtime.NumCPU(), Queue: 8, Refresh: 60, Late: tally.Drop, ClipSeconds: clip.UsualSeconds, Ahead: tally.ViewerBound}
}

// Engine is the route.
type Engine struct {
	options Options
	sources []sense.Source

	forecast clip.Forecast

	mu    sync.Mutex
	films map[string]*film  // files that were read, by path
	paths map[string]string // of prepared clips, by format
}

// FromOptions parses the settings that Engine.Options returned.
func FromOptions(m map[string]string) (Options, error) {
	o := Default()
	var err error
	number := func(name string, to *int) {
		if text, has := m[name]; has && err == nil {
			if *to, err = strconv.Atoi(text); err != nil {
				err = fmt.Errorf("option %s: %q is not a number", name, text)
			}
		}
	}
	real := func(name string, to *float64) {
		if text, has := m[name]; has && err == nil {
			if *to, err = strconv.ParseFloat(text, 64); err != nil {
				err = fmt.Errorf("option %s: %q is not a number", name, text)
			}
		}
	}
	ahead := o.Ahead.Seconds()
	number("threads", &o.Threads)
	number("queue", &o.Queue)
	number("jumps", &o.Jumps)
	real("refresh_hz", &o.Refresh)
	real("ahead_s", &ahead)
	real("clip_s", &o.ClipSeconds)
	o.Ahead = time.Duration(ahead * float64(time.Second))
	o.Screen, o.Fit, o.refreshSet = m["screen"], m["fit"], true
	if late, has := m["late"]; has {
		o.Late = tally.Late(late)
	}
	o.Clips = m["clips"]
	return o, err
}

// New checks the options.
func New(o Options) (*Engine, error) {
	switch {
	case o.Refresh < 1 || o.Refresh > 1000:
		return nil, fmt.Errorf("the refresh rate must be 1 to 1000 Hz, not %g", o.Refresh)
	case o.Late != tally.Drop && o.Late != tally.Wait:
		return nil, fmt.Errorf("late frames are dropped (drop) or waited for (wait), not %q", o.Late)
	case o.Screen != "" && o.Screen != "full" && o.Screen != "window":
		return nil, fmt.Errorf("--screen is full or window, not %q", o.Screen)
	case o.Screen != "" && o.Fit != "fit" && o.Fit != "native":
		return nil, fmt.Errorf("--fit is fit or native, not %q", o.Fit)
	case o.Jumps < 0 || o.Jumps > 1000:
		return nil, fmt.Errorf("the number of jumps is 0 to 1000, not %d", o.Jumps)
	case o.Threads < 0 || o.Threads > 1024:
		return nil, fmt.Errorf("the number of threads must be 0 to 1024, not %d", o.Threads)
	case o.Queue < 1 || o.Queue > 64:
		return nil, fmt.Errorf("the decode-ahead queue must be 1 to 64 pictures, not %d", o.Queue)
	case o.Ahead < tally.ViewerStart || o.Ahead > time.Hour:
		return nil, fmt.Errorf("a conversion may run %s to 1h ahead, not %s", tally.ViewerStart, o.Ahead)
	}
	if o.Threads == 0 {
		o.Threads = runtime.NumCPU()
	}
	if o.Screen != "" {
		rate, err := screen.Refresh()
		if err != nil {
			return nil, fmt.Errorf("--screen %s: %w", o.Screen, err)
		}
		if rate > 0 && !o.refreshSet {
			o.Refresh = rate
		}
	}
	own := &linux.Group{}
	own.Watch(os.Getpid())
	return &Engine{options: o, sources: local.Local(own), films: map[string]*film{}, paths: map[string]string{}}, nil
}

// Kind returns "engine".
func (*Engine) Kind() string { return Descriptor.Word }

// Traits returns that it decodes here, so that the same frames take the same work.
func (*Engine) Traits() route.Traits {
	return route.Traits{Decodes: true, Counts: true, Buffers: true, Jumps: true, Many: true, SameWork: true}
}

// Options returns the settings, for the record.
func (e *Engine) Options() map[string]string {
	m := map[string]string{
		"threads":    strconv.Itoa(e.options.Threads),
		"queue":      strconv.Itoa(e.options.Queue),
		"refresh_hz": strconv.FormatFloat(e.options.Refresh, 'g', -1, 64),
		"late":       string(e.options.Late),
		"ahead_s":    strconv.FormatFloat(e.options.Ahead.Seconds(), 'g', -1, 64),
		"clip_s":     strconv.FormatFloat(e.options.ClipSeconds, 'g', -1, 64),
		"clips":      e.options.Clips,
	}
	if e.options.Jumps > 0 {
		m["jumps"] = strconv.Itoa(e.options.Jumps)
	}
	if e.options.Screen != "" {
		m["screen"], m["fit"] = e.options.Screen, e.options.Fit
	}
	return m
}

// Device describes this computer as far as is known.
func (*Engine) Device() route.Device {
	identity, spec := local.Machine()
	return route.Device{Name: "this computer", Identity: identity, Spec: spec}
}

// Clock returns the computer's clock.
func (*Engine) Clock() clock.Clock { return clock.Real{} }

// Sources returns the sensors of this computer.
func (e *Engine) Sources() []sense.Source { return e.sources }

// Check returns an error unless clips of this load can be made and played here.
func (e *Engine) Check(l load.Load) error {
	if e.options.Screen != "" && (l.Goal != nil || l.Streams > 1) {
		return fmt.Errorf("load line %q: one film is shown with --screen, as it is", l)
	}
	if e.options.Jumps > 0 && l.Goal != nil {
		return fmt.Errorf("load line %q: --jumps is for films that are played as they are", l)
	}
	if l.Goal != nil {
		if err := transcode.CheckGoal(*l.Goal); err != nil {
			return fmt.Errorf("load line %q: %w", l, err)
		}
	}
	if l.File != "" {
		if _, err := registry.Codec(l.Codec); err != nil {
			return fmt.Errorf("%s: %w", l.File, err)
		}
		return nil
	}
	if err := registry.CanEncode(l.Format); err != nil {
		return fmt.Errorf("load line %q: %w", l, err)
	}
	return nil
}

// order returns the order for the clip of a load: one that exists already may be longer.
func (e *Engine) order(l load.Load) clip.Order {
	return clip.Existing(e.options.Clips, clip.Order{Format: l.Format, Seconds: e.options.ClipSeconds, Threads: runtime.NumCPU()})
}

// Prepare makes the load's clip unless it is there, and checks that it is as it was made; or it
// reads the properties of the load's file. An error says nothing about this computer's ability.
func (e *Engine) Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if l.File != "" {
		return e.prepareFile(ctx, l.File)
	}
	order := e.order(l)
	order.Progress = progress
	path, err := clip.Clip(ctx, e.options.Clips, order)
	if err != nil {
		return err
	}
	e.paths[l.Format.String()] = path
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if f := e.films[path]; f != nil && f.same(info) {
		return nil
	}
	f, err := clipFilm(ctx, path, order)
	if err != nil {
		return err
	}
	f.stamp(info)
	e.films[path] = f
	return nil
}

// Cost returns about how long making the clip of a load takes, by the speed at which clips were
// made here before, and how large it is.
func (e *Engine) Cost(ctx context.Context, l load.Load) (takes time.Duration, bytes int64) {
	if l.File != "" || e.Check(l) != nil {
		return 0, 0
	}
	return e.forecast.Cost(ctx, e.options.Clips, e.order(l))
}

func (e *Engine) prepareFile(ctx context.Context, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if f := e.films[path]; f != nil && f.same(info) {
		return nil
	}
	f, err := scanFile(ctx, path)
	if err != nil {
		return err
	}
	f.stamp(info)
	e.films[path] = f
	return nil
}

// film returns the film that was prepared for a load.
func (e *Engine) film(l load.Load) (*film, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	path := l.File
	if path == "" {
		path = e.paths[l.Format.String()]
	}
	f := e.films[path]
	if f == nil {
		return nil, fmt.Errorf("%s was not prepared", l.Title())
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !f.same(info) {
		return nil, fmt.Errorf("%s was changed while it was to be played", path)
	}
	return f, nil
}

// stream is one playing stream.
type stream interface {
	// play plays to the end of the stream's windows and closes it.
	play(ctx context.Context) error
	// close closes a stream that was not played.
	close()
	// live adds its current state.
	live(l *route.Live)
	// result returns its account, and when playing began.
	result() (tally.Tally, time.Time)
}

// Play plays the loads' clips, repeating them until the time is over, or converts them for
// virtual viewers.
func (e *Engine) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	result := route.Result{Decode: route.Software}
	var streams []stream
	for i, l := range p.StreamLoads() {
		film, err := e.film(l)
		var s stream
		if err == nil {
			result.ClipBPS = max(result.ClipBPS, film.bps)
			if len(p.Loads) == 1 {
				result.Clip, result.Marks = film.sum, film.marks
			}
			s, err = e.open(ctx, film, l, p, i)
		}
		if err != nil {
			for _, opened := range streams {
				opened.close()
			}
			return result, err
		}
		streams = append(streams, s)
	}
	return playAll(ctx, p, streams, live, result)
}

// open opens stream i of a plan.
func (e *Engine) open(ctx context.Context, film *film, l load.Load, p route.Plan, i int) (stream, error) {
	file, err := registry.Open(film.path)
	if err != nil {
		return nil, err
	}
	var s stream
	if l.Goal != nil {
		s, err = e.openConversion(ctx, file, l, p, i)
	} else {
		s, err = e.openPlayer(file, film, p, i)
	}
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", film.path, err)
	}
	return s, nil
}

// openPlayer opens a stream that is played as-is.
func (e *Engine) openPlayer(file *registry.File, film *film, p route.Plan, i int) (stream, error) {
	s, err := film.source(file, e.options.Threads)
	if err != nil {
		return nil, err
	}
	player := newPlayer(s, tally.ScreenConfig{
		Refresh: e.options.Refresh, Late: e.options.Late, Spans: p.Spans(i), Frames: film.timeline,
	}, e.options.Queue)
	player.jumps, player.reopen = e.options.Jumps, func() (source, error) {
		file, err := registry.Open(film.path)
		if err != nil {
			return source{}, err
		}
		s, err := film.source(file, e.options.Threads)
		if err != nil {
			file.Close()
		}
		return s, err
	}
	if e.options.Screen != "" {
		t := file.Tracks()[s.video].Format
		if player.canvas, err = openCanvas(e.options, t.Width, t.Height); err != nil {
			s.decoder.Close()
			return nil, err
		}
	}
	return player, nil
}

// playAll plays all streams at once and collects their accounts.
func playAll(ctx context.Context, p route.Plan, streams []stream, live func(route.Live), result route.Result) (route.Result, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ordered := time.Now()
	stop := clock.Real{}.Every(250*time.Millisecond, func(now time.Time) {
		l := route.Live{Elapsed: now.Sub(ordered)}
		for _, s := range streams {
			s.live(&l)
		}
		live(l)
	})
	defer stop()
	errs := make([]error, len(streams))
	var wait sync.WaitGroup
	for i, s := range streams {
		wait.Go(func() {
			if errs[i] = (clock.Real{}).Sleep(ctx, p.Begin(i)); errs[i] != nil {
				s.close()
				return
			}
			errs[i] = s.play(ctx)
		})
	}
	wait.Wait()
	for i, s := range streams {
		if errs[i] != nil {
			if ctx.Err() != nil {
				return result, ctx.Err()
			}
			result.Failure = errs[i].Error()
			continue
		}
		account, began := s.result()
		if began = began.Add(p.Begin(len(streams)-1) - p.Begin(i)); began.After(result.Began) || len(result.Streams) == 0 {
			result.Began = began
		}
		result.Streams = append(result.Streams, account)
		if p, is := s.(*player); is && p.canvas != nil {
			result.Notes = append(result.Notes, p.canvas.told())
		}
	}
	return result, nil
}
