// Package run conducts a run: it puts the rungs that a search chooses on a
// route, reads the sensors meanwhile, judges, and writes the logbook.
package run

import (
	"context"
	"fmt"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
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
	All      bool           // go on after two rungs that are not smooth
	Version  string         // of the program
	Sensors  []sense.Source // meters beside those of the route
	// Pages are the addresses of those meters that the run was given, for the record.
	Pages []string
	Token bool // a token was sent to them
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
	Text    string           // Warned, Resting: what is waited for
}

// EventKind tells events apart.
type EventKind int

// The kinds of events.
const (
	Planned  EventKind = iota // it is known what is to be climbed
	Baseline                  // idle readings are being taken, before or after the rungs
	Resting                   // the device is not quiet yet after the attempt before, or is out of reach
	Warned                    // something makes the result doubtful
	Building                  // a clip is being made
	Playing
	Ended // an attempt
)

// climbing goes up a ladder.
type climbing struct{ search.Climb }

func (m climbing) next(c *conductor) (int, search.Purpose, bool) { return m.Climb.Next(c.trials) }

func (climbing) plan(c *conductor, rung int) route.Plan {
	return route.Plan{Loads: []load.Load{c.doc.Rungs[rung].Load}, Hold: c.Hold, Settle: c.Settle}
}

// Climb makes a run and returns its document, also where it ends early with an
// error: what was measured is in it and in the book. A device that is out of reach
// before the first attempt makes no run.
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
		Plan: logbook.Plan{HoldS: c.Hold.Seconds(), SettleS: c.Settle.Seconds(), BaselineS: c.Baseline.Seconds(), RestS: c.Rest.Seconds(),
			All: c.All, Columns: []load.Column{}, Sensors: c.Pages, SensorsToken: c.Token},
	}
}

func (c Config) climbing() climbing {
	m := climbing{search.Climb{All: c.All}}
	for _, column := range c.Ladder.Columns {
		m.Columns = append(m.Columns, len(column.Rungs))
	}
	return m
}

// Resume goes on with a run that was interrupted, whatever its kind. Of the configuration only the
// route, the meters, the version and Watch are used; the rest is the run's own.
func Resume(ctx context.Context, book *logbook.Book, doc *logbook.Document, c Config) (*logbook.Document, error) {
	if doc.Complete {
		return nil, fmt.Errorf("run %s is complete; there is nothing to resume", doc.ID)
	}
	c.Criteria, c.All, c.Pages = doc.Criteria, doc.Plan.All, doc.Plan.Sensors
	c.Hold, c.Settle, c.Baseline, c.Rest = duration(doc.Plan.HoldS), duration(doc.Plan.SettleS), duration(doc.Plan.BaselineS), duration(doc.Plan.RestS)
	var m method
	switch {
	case doc.Kind == "climb":
		c.Ladder = &load.Ladder{Name: doc.Ladder, Columns: doc.PlannedColumns()}
		m = c.climbing()
	case doc.Plan.Crowd != nil:
		m = &crowding{search.Crowd{Most: doc.Plan.Crowd.Most}, doc.Plan.Crowd}
	default:
		return nil, fmt.Errorf("run %s is a %s, which cannot be resumed", doc.ID, doc.Kind)
	}
	if err := c.Check(); err != nil {
		return nil, err
	}
	doc.ResumedAt = append(doc.ResumedAt, c.Route.Clock().Now().UTC())
	return conduct(ctx, book, c, m, doc)
}

func duration(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// Check finds what could not work before anything is measured. Loads that cannot be
// put on the device are void when their turn comes; they are an error if no other is left.
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
	var refused error
	for _, column := range c.Ladder.Columns {
		for _, l := range column.Rungs {
			err := c.Route.Check(l)
			if err == nil {
				return nil
			}
			if refused == nil {
				refused = err
			}
		}
	}
	return refused
}
