package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
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
	drift   []string       // how the idle device differs after the run
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

// conduct does the work of Climb, Crowd and Resume.
func conduct(ctx context.Context, book *logbook.Book, config Config, m method, doc *logbook.Document) (_ *logbook.Document, err error) {
	c := &conductor{Config: config, doc: doc, method: m}
	if err := c.reach(ctx); err != nil {
		return nil, err
	}
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

// reach tells whether the device can be reached, where the route knows.
func (c *conductor) reach(ctx context.Context) error {
	if r, may := c.Route.(route.Reachable); may {
		return r.Reach(ctx)
	}
	return nil
}

// maxAway is how long a device that was lost is waited for.
const maxAway = time.Minute

// await waits for a device that is out of reach; an error means that it did not
// come back.
func (c *conductor) await(ctx context.Context) error {
	const look = 2 * time.Second
	clock := c.Route.Clock()
	for waited := time.Duration(0); ; waited += look {
		err := c.reach(ctx)
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case waited >= maxAway:
			return fmt.Errorf("it was lost and did not come back within %s: %w; what was measured is kept, and --resume goes on", maxAway, err)
		}
		c.watch(Event{Kind: Resting, Done: int(waited.Milliseconds()), Total: int(maxAway.Milliseconds()), Text: "until it answers again"})
		if err := clock.Sleep(ctx, look); err != nil {
			return err
		}
	}
}

// abandoned is the attempt in which a run's program was killed. It is void, unless the
// last readings show that a lack of memory was the reason, or it happens for the second time on the rung.
func (c *conductor) abandoned(rung int, purpose search.Purpose, started time.Time, readings []logbook.Reading) logbook.Attempt {
	a := logbook.Attempt{Purpose: purpose, Started: started, Ended: started, Verdict: verdict.Void, Void: verdict.VoidKilled,
		Reasons: []string{"the program was killed in it"}, Windows: []tally.Window{}, Decode: route.Unknown, Use: sense.Use{}}
	fail := func(limiter verdict.Limiter, evidence string) logbook.Attempt {
		a.Verdict, a.Void, a.Limiter, a.Evidence = verdict.Failed, "", limiter, evidence
		return a
	}
	if len(readings) > 0 {
		const last = 3.0 // seconds
		end := readings[len(readings)-1].AtS
		a.Ended = c.doc.Started.Add(duration(end))
		readings = slices.DeleteFunc(readings, func(r logbook.Reading) bool { return r.AtS < end-last })
		a.Use = c.useOf(readings)
	}
	if evidence := verdict.MemoryWasLow(a.Use); evidence != "" {
		return fail(verdict.Memory, evidence+" when the program was killed")
	}
	if c.killedSince() {
		return fail(verdict.Memory, "the kernel has killed a program for want of memory since the run began")
	}
	for _, before := range c.doc.Rungs[rung].Attempts {
		if before.Void == verdict.VoidKilled {
			a.Reasons = []string{"the program was killed in it twice"}
			return fail(verdict.Unknown, "why it was killed is not known")
		}
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
	if len(c.samples) > maxSamples { // of a long hold: every second one of each source will do
		seen := map[string]int{}
		c.samples = slices.DeleteFunc(c.samples, func(s sense.Sample) bool {
			seen[s.Source]++
			return seen[s.Source]%2 == 0
		})
	}
	for _, r := range s.Readings {
		if r.Quantity == sense.CPU {
			c.cpu = r.Value
		}
	}
}

// maxSamples bounds the samples of one attempt that are held in memory: those of 12
// sources at 4 Hz for half an hour.
const maxSamples = 12 * 4 * 1800

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

// pause is how long to wait before an attempt is repeated that others made void.
const pause = 5 * time.Second

// work takes the baseline and tries rungs until the search knows enough.
func (c *conductor) work(ctx context.Context, sources []sense.Source) error {
	if err := c.before(ctx, sources); err != nil {
		return err
	}
	played := len(c.trials) > 0
	for {
		rung, why, more := c.method.next(c)
		if !more {
			return c.after(ctx)
		}
		if played {
			c.record.Enter(logbook.Resting)
			if err := c.rest(ctx); err != nil {
				return err
			}
		}
		a, err := c.attempt(ctx, rung, why)
		if a != nil {
			played = a.Void.Void() != search.Permanent
			if err := errors.Join(err, c.take(rung, why, *a)); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
		switch {
		case a.Void.Void() == search.Repeatable:
			err = c.Route.Clock().Sleep(ctx, pause)
		case a.Verdict == verdict.Failed:
			err = c.await(ctx)
		}
		if err != nil {
			return err
		}
	}
}

// take takes an attempt that has ended into the document.
func (c *conductor) take(rung int, why search.Purpose, a logbook.Attempt) error {
	c.trials = append(c.trials, search.Trial{Rung: rung, Smooth: a.Verdict == verdict.Smooth, Void: a.Void.Void()})
	c.doc.Rungs[rung].Attempts = append(c.doc.Rungs[rung].Attempts, a)
	c.conclude()
	if err := c.record.Update(); err != nil {
		return err
	}
	ended := c.event(rung, why)
	ended.Kind, ended.Attempt = Ended, &a
	c.watch(ended)
	return nil
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

// useOf sums up readings that were kept. Of two sources of a quantity the one that the
// run names first counts, as while it is measured.
func (c *conductor) useOf(list []logbook.Reading) sense.Use {
	ranks := map[string]int{}
	for i, s := range slices.Concat(c.Route.Sources(), c.Sensors) {
		ranks[s.Name()] = i
	}
	samples := make([]sense.Sample, len(list))
	end := c.doc.Started
	for i, r := range list {
		rank, known := ranks[r.Source]
		if !known {
			rank = len(ranks)
		}
		quantity, label, _ := strings.Cut(r.Quantity, ":")
		at := c.doc.Started.Add(duration(r.AtS))
		samples[i] = sense.Sample{At: at, Source: r.Source, Rank: rank, Readings: []sense.Reading{{Quantity: quantity, Label: label, Value: r.Value}}}
		if at.After(end) {
			end = at
		}
	}
	return sense.Summarise(samples, c.doc.Started, end.Add(time.Nanosecond))
}
