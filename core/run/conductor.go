package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// Run is a run in progress. Its kind reads it.
type Run struct {
	Config
	Doc    *logbook.Document
	Trials []search.Trial // the attempts so far, in order of time
	Idle   sense.Use      // of the baseline
	Clock  float64        // highest mean clock of a window so far, in percent

	kind    Kind
	record  *logbook.Recorder
	costs   map[string]prepared    // of preparing loads, where that takes time
	left    Estimate               // what is left to do
	ranks   map[sense.Identity]int // of the sources
	playing playing

	sampled time.Time   // of the last sample, by this computer's calendar
	asleep  atomic.Bool // no sample came for so long that this program must have been stopped

	mu      sync.Mutex
	cpu     float64         // newest reading
	drift   []verdict.Doubt // how the idle device differed after the run
	watched sync.Mutex
}

// Conduct makes or continues a run of a kind and returns its document, also if it ends early
// with an error.
func Conduct(ctx context.Context, book *logbook.Book, config Config, kind Kind, doc *logbook.Document) (_ *logbook.Document, err error) {
	c := &Run{Config: config, Doc: doc, kind: kind, ranks: map[sense.Identity]int{}}
	if err := c.reach(ctx); err != nil {
		return nil, err
	}
	sources := slices.Concat(c.Route.Sources(), c.Sensors, []sense.Source{&c.playing})
	for i, s := range sources {
		c.ranks[sense.Identify(s)] = i
	}
	c.record, err = book.Record(doc, c.abandoned)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, c.record.Close()) }()
	if c.Trials, err = book.Trials(doc.ID); err != nil {
		return nil, err
	}
	sampler := sense.Start(ctx, c.Route.Clock(), SampleEvery, sources, c.sample)
	defer sampler.Stop()
	c.cost(ctx)
	c.left = c.ahead()
	c.watch(Event{Kind: Planned, Titles: c.titles(), Run: doc.ID, Name: doc.Device.Name, Repeat: doc.Repeat, Width: kind.Width()})
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

// reach returns an error if the route knows that the device is out of reach.
func (c *Run) reach(ctx context.Context) error {
	if r, may := c.Route.(route.Reachable); may {
		return r.Reach(ctx)
	}
	return nil
}

// defaultAway is how long a lost device is waited for.
const defaultAway = time.Minute

// await waits for a device that is out of reach; an error means that it did not come back.
func (c *Run) await(ctx context.Context) error {
	const look = 2 * time.Second
	clock, maxAway := c.Route.Clock(), cmp.Or(c.Route.Traits().Away, defaultAway)
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

// abandoned returns the result of an attempt in which this program was killed. It is void,
// unless the last readings show that a lack of memory was the reason, or it is the second time
// on the rung.
func (c *Run) abandoned(rung int, purpose search.Purpose, started time.Time, readings []logbook.Reading) logbook.Attempt {
	a := logbook.Attempt{Purpose: purpose, Started: started, Ended: started, Verdict: verdict.Void, Void: verdict.VoidKilled,
		Reasons: []string{"the program was killed during it"}, Windows: []tally.Window{}, Decode: route.Unknown, Use: sense.Use{}}
	fail := func(limiter verdict.Limiter, evidence string) logbook.Attempt {
		a.Verdict, a.Void, a.Limiter, a.Evidence = verdict.Failed, "", limiter, evidence
		return a
	}
	if len(readings) > 0 {
		const last = 3.0 // seconds
		end := readings[len(readings)-1].AtS
		a.Ended = c.Doc.Started.Add(Duration(end))
		readings = slices.DeleteFunc(readings, func(r logbook.Reading) bool { return r.AtS < end-last })
		a.Use = c.useOf(readings)
	}
	if evidence := verdict.MemoryWasLow(a.Use); evidence != "" {
		return fail(verdict.Memory, evidence+" when the program was killed")
	}
	if c.killedSince() {
		return fail(verdict.Memory, "the kernel has killed a program because memory ran out since the run began")
	}
	for _, before := range c.Doc.Rungs[rung].Attempts {
		if before.Void == verdict.VoidKilled {
			a.Reasons = []string{"the program was killed during it twice"}
			return fail(verdict.Unknown, "why it was killed is not known")
		}
	}
	return a
}

// killedSince reports whether the kernel has killed a program for lack of memory since the run
// began.
func (c *Run) killedSince() bool {
	before, err := strconv.Atoi(c.Doc.Conditions.Facts[sense.MemoryKills])
	now, err2 := strconv.Atoi(sense.States(c.Route.Sources())[sense.MemoryKills])
	return err == nil && err2 == nil && now > before
}

// sample handles a sample. It is kept in the logbook only, and read back from there.
func (c *Run) sample(s sense.Sample) {
	const still = 5 * time.Second // far longer than any load delays a sample
	now := time.Now().Round(0)
	if !c.sampled.IsZero() && now.Sub(c.sampled) > still && !c.Route.Traits().Virtual {
		c.asleep.Store(true)
	}
	c.sampled = now
	c.record.Sample(s)
	if c.Sampled != nil {
		c.Sampled(s)
	}
	for _, r := range s.Readings {
		if r.Quantity == sense.CPU {
			c.mu.Lock()
			c.cpu = r.Value
			c.mu.Unlock()
		}
	}
}

// use returns the summary of the readings from one time up to, not including, another.
func (c *Run) use(from, to time.Time) (sense.Use, error) {
	var sum sense.Summary
	err := c.record.ReadBack(from, to, func(s *sense.Sample) {
		s.Rank = c.rank(s.Source)
		sum.Add(s)
	})
	return sum.Use(), err
}

// rank returns the position of a source among those of the run: of two that read the same
// quantity, the first one counts.
func (c *Run) rank(source sense.Identity) int {
	if rank, known := c.ranks[source]; known {
		return rank
	}
	for id, rank := range c.ranks { // documents from before sources had kinds
		if source.Kind == "" && id.Name == source.Name {
			return rank
		}
	}
	return len(c.ranks)
}

func (c *Run) watch(e Event) {
	if c.Watch == nil {
		return
	}
	c.mu.Lock()
	e.CPUPct, e.Plan = c.cpu, c.left
	c.mu.Unlock()
	c.watched.Lock()
	defer c.watched.Unlock()
	c.Watch(e)
}

// pause is how long to wait before repeating an attempt that other programs made void, but no longer than
// an attempt takes.
const pause = 5 * time.Second

// work reads the idle device and tries rungs until the result is known.
func (c *Run) work(ctx context.Context, sources []sense.Source) error {
	if err := c.before(ctx, sources); err != nil {
		return err
	}
	played := len(c.Trials) > 0
	for {
		rung, why, more := c.kind.Next(c)
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
		case a.Void == verdict.VoidAway:
			if err = c.Route.Clock().Sleep(ctx, time.Second); err == nil {
				err = c.await(ctx)
			}
		case a.Void.Void() == search.Repeatable:
			err = c.Route.Clock().Sleep(ctx, min(pause, c.Hold))
		case a.Verdict == verdict.Failed:
			err = c.await(ctx)
		}
		if err != nil {
			return err
		}
	}
}

// take adds a finished attempt to the document.
func (c *Run) take(rung int, why search.Purpose, a logbook.Attempt) error {
	c.Trials = append(c.Trials, a.Verdict.Trial(rung, a.Void))
	c.Doc.Rungs[rung].Attempts = append(c.Doc.Rungs[rung].Attempts, a)
	c.conclude()
	if err := c.record.Update(); err != nil {
		return err
	}
	left := c.ahead()
	c.mu.Lock()
	c.left = left
	c.mu.Unlock()
	ended := c.event(rung)
	ended.Kind, ended.Attempt = Ended, &a
	c.watch(ended)
	return nil
}

// event returns an event of a rung, without a kind.
func (c *Run) event(rung int) Event { return Event{Rung: rung, Title: c.kind.Title(c, rung)} }

// titles returns the titles of the rungs that there are.
func (c *Run) titles() (list []string) {
	for i := range c.Doc.Rungs {
		list = append(list, c.kind.Title(c, i))
	}
	return list
}

// useOf summarises readings of a document.
func (c *Run) useOf(list []logbook.Reading) sense.Use {
	var sum sense.Summary
	for _, r := range list {
		source := sense.Identity{Kind: r.Kind, Name: r.Source}
		sum.Add(&sense.Sample{Source: source, Rank: c.rank(source), Readings: []sense.Reading{{Quantity: r.Quantity, Value: r.Value}}})
	}
	return sum.Use()
}
