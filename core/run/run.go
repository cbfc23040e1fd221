// Package run conducts a run: it puts the rungs that its kind chooses on a route, reads the
// sensors meanwhile, judges, and writes the logbook. Each kind of run has a folder below this
// one.
package run

import (
	"cmp"
	"context"
	"fmt"
	"slices"
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

// Config states how a run of any kind is made.
type Config struct {
	Route    route.Route
	Criteria verdict.Criteria
	Hold     time.Duration // per rung, settling included
	Settle   time.Duration
	Baseline time.Duration     // idle readings before the first rung
	Rest     time.Duration     // the longest wait between attempts until the device is quiet again
	Version  string            // of the program
	Name     string            // of the device; "": as the route has it
	Facts    map[string]string // about the device, stated by the user
	Sensors  []sense.Source    // meters besides those of the route
	// Pages are the addresses of the meters given to the run, for the record.
	Pages  []string
	Token  bool            // a token was sent to them
	Repeat *logbook.Repeat // one of several runs of the same; nil: a single one
	// Watch is called for events, from one goroutine at a time. May be nil.
	Watch func(Event)
	// Sampled is called for every sample, from one goroutine at a time. May be nil.
	Sampled func(sense.Sample)
}

// Kind is a kind of run: what it tries, and what it concludes, in a section of the document that
// is its own.
type Kind interface {
	// Next returns the rung to try next and why; false when the result is known. It may add
	// rungs to the document.
	Next(r *Run) (rung int, why search.Purpose, more bool)
	// Plan returns what is played on a rung.
	Plan(r *Run, rung int) route.Plan
	// Title returns the name of a rung for progress.
	Title(r *Run, rung int) string
	// Unit returns what one of its rungs is called.
	Unit() string
	// Width returns the length of the longest title that is expected.
	Width() int
	// Ahead returns the attempts that are expected to be made yet.
	Ahead(r *Run) []route.Plan
	// Conclude writes the conclusions of this kind into the document and returns its notes.
	Conclude(r *Run) (notes []string)
}

// Descriptor registers a kind of run.
type Descriptor struct {
	Word string // in documents
	// Restore returns the kind of an interrupted run from its document, and checks that it can
	// be resumed.
	Restore func(doc *logbook.Document, c Config) (Kind, error)
	// Conclude returns the kind of a run from its document alone, to judge it anew; nil: it cannot
	// be.
	Conclude func(doc *logbook.Document) Kind
}

// Event is an event of a run.
type Event struct {
	Kind    EventKind
	Titles  []string         // Planned
	Run     string           // Planned: its id
	Title   string           // title of the rung, or of the load whose clip is made
	Rung    int              // Building, Playing, Ended: index of the rung in the document
	Name    string           // Planned: of the device
	Repeat  *logbook.Repeat  // Planned: which of several runs it is; nil: a single one
	Width   int              // Planned: length of the longest title that is expected
	Done    int              // Building: frames done, Playing: milliseconds played
	Total   int              // total of Done
	Live    route.Live       // Playing
	CPUPct  float64          // Playing and Baseline: the newest reading, 0 if none yet
	Attempt *logbook.Attempt // Ended
	Text    string           // Warned; Resting: what the run waits for
	Plan    Estimate         // Planned: all there is to do; else what is left of it
}

// EventKind is the kind of an event.
type EventKind int

// The kinds of events.
const (
	Planned  EventKind = iota // it is known what is to be tried
	Baseline                  // the idle device is being read, before or after the rungs
	Resting                   // the device is not quiet yet, or is out of reach
	Warned                    // something makes the result doubtful
	Building                  // a clip is being made
	Playing
	Ended // an attempt
)

// Document returns the initial document of a run.
func (c Config) Document(kind string) *logbook.Document {
	started := c.Route.Clock().Now()
	device := c.Route.Device()
	id := logbook.NewID(started)
	if c.Repeat != nil {
		id = fmt.Sprintf("%s-%d", c.Repeat.Of, c.Repeat.Number)
	}
	return &logbook.Document{
		Schema: logbook.Schema, ID: id, Repeat: c.Repeat, Kind: kind, Started: started.UTC(),
		Tool:   logbook.Tool{Version: c.Version},
		Device: logbook.Device{Name: cmp.Or(c.Name, device.Name), Identity: device.Identity, Spec: device.Spec, Facts: c.Facts},
		Route:  logbook.Route{Kind: c.Route.Kind(), Options: c.Route.Options()},
		Rungs:  []logbook.Rung{}, Criteria: c.Criteria, Notes: []string{},
		Plan: logbook.Plan{HoldS: c.Hold.Seconds(), SettleS: c.Settle.Seconds(), BaselineS: c.Baseline.Seconds(), RestS: c.Rest.Seconds(),
			Columns: []load.Column{}, Sensors: c.Pages, SensorsToken: c.Token},
	}
}

// Resume continues an interrupted run of one of the kinds. Of the configuration it uses only the
// route, the meters, the version and Watch; the rest is in the document.
func Resume(ctx context.Context, book *logbook.Book, doc *logbook.Document, c Config, kinds []Descriptor) (*logbook.Document, error) {
	if doc.Complete {
		return nil, fmt.Errorf("run %s is complete; there is nothing to resume", doc.ID)
	}
	c.Criteria, c.Pages = doc.Criteria, doc.Plan.Sensors
	c.Hold, c.Settle, c.Baseline, c.Rest = Duration(doc.Plan.HoldS), Duration(doc.Plan.SettleS), Duration(doc.Plan.BaselineS), Duration(doc.Plan.RestS)
	i := slices.IndexFunc(kinds, func(d Descriptor) bool { return d.Word == doc.Kind })
	if i < 0 {
		return nil, fmt.Errorf("run %s is a %s, which cannot be resumed", doc.ID, doc.Kind)
	}
	if err := c.Check(); err != nil {
		return nil, err
	}
	kind, err := kinds[i].Restore(doc, c)
	if err != nil {
		return nil, err
	}
	doc.ResumedAt = append(doc.ResumedAt, c.Route.Clock().Now().UTC())
	return Conduct(ctx, book, c, kind, doc)
}

// Duration converts a time of the document.
func Duration(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// Check finds what could not work before anything is measured.
func (c Config) Check() error {
	switch {
	case c.Hold < time.Second || c.Hold > load.MaxHold:
		return fmt.Errorf("each rung must be held for 1s to %s, not %s", load.MaxHold, c.Hold)
	case c.Settle < 0 || c.Settle > c.Hold-500*time.Millisecond:
		return fmt.Errorf("settling must leave at least half a second of the %s for which a rung is held, not %s", c.Hold, c.Settle)
	case c.Baseline < 0 || c.Baseline > time.Hour:
		return fmt.Errorf("the baseline must be 0s to 1h, not %s", c.Baseline)
	}
	return nil
}
