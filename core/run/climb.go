// Package run conducts a run: it puts the rungs that a search chooses on a
// route, reads the sensors meanwhile, judges, and writes the logbook.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// SampleEvery is how often sensors are read.
const SampleEvery = 250 * time.Millisecond

// Config says what to climb and how.
type Config struct {
	Ladder   *load.Ladder
	Route    route.Route
	Criteria verdict.Criteria
	Hold     time.Duration // a rung, settling included
	Settle   time.Duration
	Baseline time.Duration  // idle readings before the first rung
	Rest     time.Duration  // the longest wait between attempts until the device is quiet again
	All      bool           // go on behind two rungs that are not smooth
	Version  string         // of the program
	Sensors  []sense.Source // meters beside those of the route
	// Watch is told what happens, from one goroutine at a time. May be nil.
	Watch func(Event)
}

// Event is something that happened in a run.
type Event struct {
	Kind    EventKind
	Ladder  *load.Ladder // Planned
	Run     string       // Planned: its id
	Load    load.Load
	Streams int // of a crowd: how many are tried at once
	Column  string
	Purpose search.Purpose
	Done    int              // Building: frames done, Playing: milliseconds played
	Total   int              // of so many
	Live    route.Live       // Playing
	CPUPct  float64          // Playing and Baseline: the newest reading, 0 if none yet
	Attempt *logbook.Attempt // Ended
	Text    string           // Warned
}

// EventKind tells events apart.
type EventKind int

// The kinds of events.
const (
	Planned  EventKind = iota // it is known what is to be climbed
	Baseline                  // idle readings are being taken, before or behind the rungs
	Resting                   // the device is not quiet yet after the attempt before
	Warned                    // something makes the result doubtful
	Building                  // a clip is being made
	Playing
	Ended // an attempt
)

// conductor is a run that goes on.
type conductor struct {
	Config
	method method
	doc    *logbook.Document
	record *logbook.Recorder
	trials []search.Trial

	mu      sync.Mutex
	samples []sense.Sample // of the present attempt
	cpu     float64        // newest reading
	idle    sense.Use      // of the baseline
	drift   []string       // how the idle device differs behind the run
	clock   float64        // highest mean clock of a window so far, in percent
	watched sync.Mutex
}

// method is what tells kinds of runs apart.
type method interface {
	// next is the rung to try next and why; false when all is known.
	next(c *conductor) (rung int, why search.Purpose, more bool)
	// plan is what is to be played on a rung.
	plan(c *conductor, rung int) route.Plan
	// conclude writes into the document what the trials so far say, but for
	// its notes; it returns those of its own.
	conclude(c *conductor) (notes []string)
}

// climbing goes up a ladder.
type climbing struct{ search.Climb }

func (m climbing) next(c *conductor) (int, search.Purpose, bool) { return m.Climb.Next(c.trials) }

func (climbing) plan(c *conductor, rung int) route.Plan {
	return route.Plan{Loads: []load.Load{c.doc.Rungs[rung].Load}, Hold: c.Hold, Settle: c.Settle}
}

// Climb makes a run and returns its document, also where it ends early with an
// error: what was measured is in it and in the book.
func Climb(ctx context.Context, book *logbook.Book, c Config) (*logbook.Document, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	doc := c.document("climb")
	doc.Ladder, doc.Plan.Columns = c.Ladder.Name, c.Ladder.Columns
	doc.PlanFiles()
	doc.FillRungs()
	return conduct(ctx, book, c, c.climbing(), doc)
}

// document begins the document of a run.
func (c Config) document(kind string) *logbook.Document {
	started := c.Route.Clock().Now()
	device := c.Route.Device()
	return &logbook.Document{
		Schema: logbook.Schema, ID: logbook.NewID(started), Kind: kind, Started: started.UTC(),
		Tool:   logbook.Tool{Version: c.Version},
		Device: logbook.Device{Name: device.Name, Spec: device.Spec},
		Route:  logbook.Route{Kind: c.Route.Kind(), Options: c.Route.Options()},
		Rungs:  []logbook.Rung{}, Criteria: c.Criteria, Notes: []string{},
		Plan: logbook.Plan{HoldS: c.Hold.Seconds(), SettleS: c.Settle.Seconds(), BaselineS: c.Baseline.Seconds(),
			All: c.All, Columns: []load.Column{}},
	}
}

func (c Config) climbing() climbing {
	m := climbing{search.Climb{All: c.All}}
	for _, column := range c.Ladder.Columns {
		m.Columns = append(m.Columns, len(column.Rungs))
	}
	return m
}

// Resume goes on with a run that was interrupted. Of the configuration only the
// route, the version and Watch are used; the rest is the run's own.
func Resume(ctx context.Context, book *logbook.Book, doc *logbook.Document, c Config) (*logbook.Document, error) {
	if doc.Complete {
		return nil, fmt.Errorf("run %s is complete; there is nothing to resume", doc.ID)
	}
	if doc.Kind != "climb" {
		return nil, fmt.Errorf("run %s is no climb; only climbs can be resumed", doc.ID)
	}
	c.Ladder = &load.Ladder{Name: doc.Ladder, Columns: doc.PlannedColumns()}
	c.Criteria, c.All = doc.Criteria, doc.Plan.All
	c.Hold, c.Settle, c.Baseline = duration(doc.Plan.HoldS), duration(doc.Plan.SettleS), duration(doc.Plan.BaselineS)
	if err := c.Check(); err != nil {
		return nil, err
	}
	doc.ResumedAt = append(doc.ResumedAt, c.Route.Clock().Now().UTC())
	return conduct(ctx, book, c, c.climbing(), doc)
}

func duration(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// Check finds what could not work before anything is measured.
func (c Config) Check() error {
	switch {
	case c.Hold < time.Second || c.Hold > load.MaxHold:
		return fmt.Errorf("each rung must be held for 1s to %s, not %s", load.MaxHold, c.Hold)
	case c.Settle < 0 || c.Settle > c.Hold-500*time.Millisecond:
		return fmt.Errorf("settling must leave at least half a second of the %s for which a rung is held, not %s", c.Hold, c.Settle)
	case c.Baseline < 0 || c.Baseline > time.Hour:
		return fmt.Errorf("the baseline must be 0s to 1h, not %s", c.Baseline)
	case c.Ladder == nil:
		return nil
	}
	for _, column := range c.Ladder.Columns {
		for _, l := range column.Rungs {
			if err := c.Route.Check(l); err != nil {
				return err
			}
		}
	}
	return nil
}

// conduct does the work of Climb and Resume.
func conduct(ctx context.Context, book *logbook.Book, config Config, m method, doc *logbook.Document) (_ *logbook.Document, err error) {
	c := &conductor{Config: config, doc: doc, method: m}
	c.record, err = book.Record(doc, c.abandoned)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, c.record.Close()) }()
	if c.trials, err = book.Trials(doc.ID); err != nil {
		return nil, err
	}
	sources := slices.Concat(c.Route.Sources(), c.Sensors)
	sampler := sense.Start(ctx, c.Route.Clock(), SampleEvery, sources, c.sample)
	defer sampler.Stop()
	c.watch(Event{Kind: Planned, Ladder: c.Ladder, Run: doc.ID})
	err = c.work(ctx, sources)
	now := c.Route.Clock().Now()
	doc.Tool.InstrumentCPU, doc.Tool.LateSamples = sampler.CostPct(now), sampler.Late()
	doc.NoteGaps(sampler.Gaps())
	if err == nil {
		ended := now.UTC()
		doc.Ended, doc.Complete = &ended, true
	}
	c.conclude()
	var remarksErr error
	doc.Remarks, remarksErr = book.Remarks(doc)
	return doc, errors.Join(err, remarksErr)
}

// abandoned is the attempt in which a run was stopped. What its last seconds
// show may tell why: a program that takes more memory than there is gets killed.
func (c *conductor) abandoned(_ int, purpose search.Purpose, started time.Time, readings []logbook.Reading) logbook.Attempt {
	a := logbook.Attempt{Purpose: purpose, Started: started, Verdict: verdict.Failed,
		Reasons: []string{"the run stopped in it"}, Windows: []tally.Window{}, Limiter: verdict.Unknown, Decode: route.Unknown, Use: sense.Use{}}
	a.Evidence = "the run stopped while it was tried"
	if c.killedSince() {
		a.Limiter, a.Evidence = verdict.Memory, "the kernel has killed a program for want of memory since the run began"
	}
	if len(readings) == 0 {
		return a
	}
	const last = 3.0 // seconds
	end := readings[len(readings)-1].AtS
	readings = slices.DeleteFunc(readings, func(r logbook.Reading) bool { return r.AtS < end-last })
	a.Use = useOf(readings, c.doc.Started)
	if evidence := verdict.MemoryWasLow(a.Use); evidence != "" {
		a.Limiter, a.Evidence = verdict.Memory, evidence+" when the run stopped"
	}
	return a
}

// killedSince tells whether the kernel has killed a program for want of memory
// since the run began.
func (c *conductor) killedSince() bool {
	before, err := strconv.Atoi(c.doc.Conditions.Facts[sense.MemoryKills])
	now, err2 := strconv.Atoi(sense.States(c.Route.Sources())[sense.MemoryKills])
	return err == nil && err2 == nil && now > before
}

// sample takes what the sampler reads.
func (c *conductor) sample(s sense.Sample) {
	c.record.Sample(s)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.samples = append(c.samples, s)
	for _, r := range s.Readings {
		if r.Quantity == sense.CPU {
			c.cpu = r.Value
		}
	}
}

// takeSamples returns the samples since the last call.
func (c *conductor) takeSamples() []sense.Sample {
	c.mu.Lock()
	defer c.mu.Unlock()
	taken := c.samples
	c.samples = nil
	return taken
}

func (c *conductor) watch(e Event) {
	if c.Watch == nil {
		return
	}
	c.mu.Lock()
	e.CPUPct = c.cpu
	c.mu.Unlock()
	c.watched.Lock()
	defer c.watched.Unlock()
	c.Watch(e)
}

// work takes the baseline and tries rungs until the search knows enough.
func (c *conductor) work(ctx context.Context, sources []sense.Source) error {
	if err := c.before(ctx, sources); err != nil {
		return err
	}
	for {
		rung, why, more := c.method.next(c)
		if !more {
			return c.after(ctx)
		}
		if len(c.trials) > 0 {
			if err := c.rest(ctx); err != nil {
				return err
			}
		}
		a, err := c.attempt(ctx, rung, why)
		if err != nil {
			return err
		}
		c.trials = append(c.trials, search.Trial{Rung: rung, Smooth: a.Verdict == verdict.Smooth})
		c.doc.Rungs[rung].Attempts = append(c.doc.Rungs[rung].Attempts, a)
		c.conclude()
		if err := c.record.Update(); err != nil {
			return err
		}
		ended := c.event(rung, why)
		ended.Kind, ended.Attempt = Ended, &a
		c.watch(ended)
	}
}

// event is an event of a rung, of no kind yet.
func (c *conductor) event(rung int, why search.Purpose) Event {
	r := c.doc.Rungs[rung]
	e := Event{Load: r.Load, Column: r.Column, Purpose: why}
	if c.doc.Plan.Crowd != nil {
		e.Streams = c.method.plan(c, rung).Streams()
	}
	return e
}

// attempt tries one rung.
func (c *conductor) attempt(ctx context.Context, rung int, why search.Purpose) (logbook.Attempt, error) {
	plan, event := c.method.plan(c, rung), c.event(rung, why)
	for _, l := range plan.Loads {
		err := c.Route.Prepare(ctx, l, func(done, total int) {
			e := event
			e.Kind, e.Load, e.Done, e.Total = Building, l, done, total
			c.watch(e)
		})
		if err != nil {
			return logbook.Attempt{}, err
		}
	}
	clock := c.Route.Clock()
	a := logbook.Attempt{Purpose: why, Started: clock.Now().UTC(), Windows: []tally.Window{}}
	if err := c.record.Update(); err != nil { // the rung may be a new one
		return a, err
	}
	if err := c.record.StartAttempt(rung, why, a.Started); err != nil {
		return a, err
	}
	c.takeSamples()
	total := plan.Hold + plan.Begin(plan.Streams()-1)
	result, err := c.Route.Play(ctx, plan, func(live route.Live) {
		e := event
		e.Kind, e.Live, e.Done, e.Total = Playing, live, int(live.Elapsed.Milliseconds()), int(total.Milliseconds())
		c.watch(e)
	})
	if err != nil {
		return a, err
	}
	if result.Failure != "" && c.Rest > 0 {
		// It may have given up at once; its readings tell why.
		if err := clock.Sleep(ctx, givesUp-clock.Now().Sub(a.Started)); err != nil {
			return a, err
		}
	}
	from, to := a.Started, clock.Now()
	if len(result.Streams) > 0 && result.Failure == "" {
		from, to = result.Began.Add(c.Settle), result.Began.Add(c.Hold)
	}
	// A reading tells of the interval before it: the first one that lies whole
	// in the window comes one interval after its start.
	a.Use = sense.Summarise(c.takeSamples(), from.Add(SampleEvery), to.Add(SampleEvery/2))
	c.judge(&a, result, plan)
	c.clock = max(c.clock, a.Use[sense.Clock].Mean)
	return a, c.record.EndAttempt(a)
}

// judge grades an attempt by its worst stream.
func (c *conductor) judge(a *logbook.Attempt, result route.Result, plan route.Plan) {
	pixels := 0.0
	for _, l := range plan.Loads {
		pixels += l.PixelRate()
	}
	if a.Decode = result.Decode; a.Decode == route.Unknown && result.Failure == "" {
		if hardware, known, _ := verdict.InferDecode(a.Use, c.idle, pixels); known && hardware {
			a.Decode = route.Hardware
		} else if known {
			a.Decode = route.Software
		}
	}
	streams := plan.StreamLoads()
	for i, t := range result.Streams {
		grade, reasons := c.Criteria.Judge(t)
		f := t.Steady()
		if i == 0 || grade.Worse(a.Verdict) || grade == a.Verdict && worse(t, f, a) {
			a.Verdict, a.Reasons, a.Frames, a.Windows, a.StartS, a.Buffer, a.Delivered = grade, reasons, f, t.Windows, t.StartDelayS, t.Buffer, t.Delivered
			if len(plan.Loads) > 1 && i < len(streams) {
				a.Worst = streams[i].String()
			}
		}
		if len(result.Streams) > 1 && i < mostStreams {
			a.Streams = append(a.Streams, f)
		}
	}
	if result.Failure != "" {
		a.Verdict, a.Reasons = verdict.Failed, []string{result.Failure}
	}
	if a.Verdict == verdict.Smooth {
		return
	}
	if a.Limiter, a.Evidence = verdict.FindLimiter(verdict.Window{Use: a.Use, Clock: c.clock}); result.Refused {
		a.Limiter, a.Evidence = verdict.Refused, "the device gave up while it was idle"
	}
}

// givesUp is for how long at least a server is read that gives up.
const givesUp = 2 * time.Second

// mostStreams bounds the streams of an attempt whose accounts are kept each.
const mostStreams = 100

// worse tells whether a stream of the same grade fared worse than the worst so
// far: by what it dropped, how long it stalled, and how fast its media came.
func worse(t tally.Tally, f tally.Frames, a *logbook.Attempt) bool {
	if f.Dropped != a.Frames.Dropped || t.Buffer == nil || a.Buffer == nil {
		return f.Dropped > a.Frames.Dropped
	}
	if t.Buffer.StallS != a.Buffer.StallS {
		return t.Buffer.StallS > a.Buffer.StallS
	}
	return t.Buffer.BuildRate < a.Buffer.BuildRate
}
