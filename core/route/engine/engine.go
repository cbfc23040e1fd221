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

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media/build"
	"vividstrain/core/media/formats"
	"vividstrain/core/route"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Options are the settings of the route.
type Options struct {
	Threads     int        // decoding threads a stream, 0: one for each core
	Queue       int        // pictures decoded ahead, at least 1
	Refresh     float64    // Hz of the virtual display
	Late        tally.Late // what happens to late frames
	Clips       string     // folder of clips, missing ones are built there
	ClipSeconds float64    // length of the clips that are built
}

// Default returns the usual settings, without the folder of clips.
func Default() Options {
	return Options{Threads: runtime.NumCPU(), Queue: 8, Refresh: 60, Late: tally.Drop, ClipSeconds: 5}
}

// Engine is the route.
type Engine struct {
	options Options
	sources []sense.Source

	mu    sync.Mutex
	films map[string]*film // files that were looked through, by path
}

// New checks the options.
func New(o Options) (*Engine, error) {
	switch {
	case o.Refresh < 1 || o.Refresh > 1000:
		return nil, fmt.Errorf("the refresh rate must be 1 to 1000 Hz, not %g", o.Refresh)
	case o.Late != tally.Drop && o.Late != tally.Wait:
		return nil, fmt.Errorf("late frames are dropped (drop) or waited for (wait), not %q", o.Late)
	case o.Threads < 0 || o.Threads > 1024:
		return nil, fmt.Errorf("the number of threads must be 0 to 1024, not %d", o.Threads)
	case o.Queue < 1 || o.Queue > 64:
		return nil, fmt.Errorf("the decode-ahead queue must be 1 to 64 pictures, not %d", o.Queue)
	}
	if o.Threads == 0 {
		o.Threads = runtime.NumCPU()
	}
	own := &sense.Group{}
	own.Watch(os.Getpid())
	return &Engine{options: o, sources: sense.Local(own), films: map[string]*film{}}, nil
}

// Kind returns "engine".
func (*Engine) Kind() string { return "engine" }

// Options lists the settings.
func (e *Engine) Options() map[string]string {
	return map[string]string{
		"threads":    strconv.Itoa(e.options.Threads),
		"queue":      strconv.Itoa(e.options.Queue),
		"refresh_hz": strconv.FormatFloat(e.options.Refresh, 'g', -1, 64),
		"late":       string(e.options.Late),
	}
}

// Device describes this computer as far as it tells.
func (*Engine) Device() route.Device {
	d := route.Device{Name: "this computer", Spec: map[string]string{"cores": strconv.Itoa(runtime.NumCPU())}}
	if info, err := cpu.Info(); err == nil && len(info) > 0 {
		d.Spec["cpu"] = info[0].ModelName
	}
	if m, err := mem.VirtualMemory(); err == nil {
		d.Spec["memory_bytes"] = strconv.FormatUint(m.Total, 10)
	}
	if h, err := host.Info(); err == nil {
		d.Spec["system"] = h.Platform + " " + h.PlatformVersion + ", " + h.KernelArch
	}
	return d
}

// Clock is the computer's.
func (*Engine) Clock() clock.Clock { return clock.Real{} }

// Sources read this computer.
func (e *Engine) Sources() []sense.Source { return e.sources }

// Check tells whether clips of this load can be made and played here.
func (*Engine) Check(l load.Load) error {
	if l.Goal != nil {
		return fmt.Errorf("load line %q: the engine plays as is; it does not convert", l)
	}
	if l.File != "" {
		if _, err := formats.Codec(l.Codec); err != nil {
			return fmt.Errorf("%s: %w", l.File, err)
		}
		return nil
	}
	if err := formats.Carries(l.Format); err != nil {
		return fmt.Errorf("load line %q: %w", l, err)
	}
	return nil
}

// order is the clip that a load needs.
func (e *Engine) order(l load.Load, progress func(done, total int)) build.Order {
	return build.Order{Format: l.Format, Seconds: e.options.ClipSeconds, Threads: runtime.NumCPU(), Progress: progress}
}

// Prepare builds the load's clip, if it is not there, or looks through the
// load's file.
func (e *Engine) Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error {
	if l.File != "" {
		_, err := e.scan(ctx, l.File)
		return err
	}
	_, err := build.Clip(ctx, e.options.Clips, e.order(l, progress))
	return err
}

// Play plays the load's clip, again and again until the time is over, in as
// many streams as the load says.
func (e *Engine) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	result := route.Result{Decode: route.Software}
	film, err := e.film(ctx, p.Load)
	if err != nil {
		return result, err
	}
	players := make([]*player, p.Load.Streams)
	for i := range players {
		if players[i], err = e.open(film, p); err != nil {
			for _, opened := range players[:i] {
				opened.close()
			}
			return result, err
		}
	}
	return playAll(ctx, players, live, result)
}

// open opens one stream of the film.
func (e *Engine) open(film *film, p route.Plan) (*player, error) {
	file, err := formats.Open(film.path)
	if err != nil {
		return nil, err
	}
	s, err := film.stream(file, e.options.Threads)
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", film.path, err)
	}
	return newPlayer(s, tally.ScreenConfig{
		Refresh: e.options.Refresh, Late: e.options.Late, Spans: p.Spans(), Frames: film.timeline,
	}, e.options.Queue), nil
}

// playAll plays all streams at once and gathers their accounts.
func playAll(ctx context.Context, players []*player, live func(route.Live), result route.Result) (route.Result, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ordered := time.Now()
	stop := clock.Real{}.Every(250*time.Millisecond, func(now time.Time) {
		var sum tally.Frames
		for _, p := range players {
			f := p.sum()
			sum.Due, sum.Shown, sum.Dropped = sum.Due+f.Due, sum.Shown+f.Shown, sum.Dropped+f.Dropped
		}
		live(route.Live{Elapsed: now.Sub(ordered), Frames: sum})
	})
	defer stop()
	errs := make([]error, len(players))
	var wait sync.WaitGroup
	for i, p := range players {
		wait.Go(func() { errs[i] = p.play(ctx) })
	}
	wait.Wait()
	for i, p := range players {
		if errs[i] != nil {
			if ctx.Err() != nil {
				return result, ctx.Err()
			}
			result.Failure = errs[i].Error()
			continue
		}
		if p.began.After(result.Began) {
			result.Began = p.began
		}
		result.Streams = append(result.Streams, p.account)
	}
	return result, nil
}
