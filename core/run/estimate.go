package run

import (
	"context"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
)

// Estimate is what a run, or the rest of one, is expected to take.
type Estimate struct {
	Unit            string // what a rung is called
	Rungs, Attempts int
	Time            time.Duration // in all
	Making          time.Duration // part of it: making clips
	Bytes           int64         // of the clips that are made
	Virtual         bool          // the time is virtual: it passes in a moment
}

// starting is how long an attempt takes beyond its hold: preparing, starting, and reading back.
const starting = 700 * time.Millisecond

// Plan returns what a run of a kind is expected to take before it begins, at most.
func (c Config) Plan(ctx context.Context, kind Kind, doc *logbook.Document) Estimate {
	r := &Run{Config: c, Doc: doc, kind: kind}
	r.cost(ctx)
	return r.ahead()
}

// prepared is what preparing a load takes; nothing if it is done.
type prepared struct {
	takes time.Duration
	bytes int64
}

// cost asks the route what preparing each load takes.
func (c *Run) cost(ctx context.Context) {
	c.costs = map[string]prepared{}
	p, may := c.Route.(route.Preparing)
	if !may {
		return
	}
	for _, plan := range c.kind.Ahead(c) {
		for _, l := range plan.Loads {
			if _, known := c.costs[one(l)]; !known {
				takes, bytes := p.Cost(ctx, l)
				c.costs[one(l)] = prepared{takes, bytes}
			}
		}
	}
}

// one names what is prepared for a load.
func one(l load.Load) string { return l.Format.String() + l.File }

// ahead returns what is left to do.
func (c *Run) ahead() (e Estimate) {
	e.Unit, e.Virtual = c.kind.Unit(), c.Route.Traits().Virtual
	rungs, made := map[string]bool{}, map[string]bool{}
	for _, plan := range c.kind.Ahead(c) {
		e.Attempts++
		e.Time += plan.Hold + plan.Begin(plan.Streams()-1) + starting
		name := ""
		for _, l := range plan.Loads {
			name += l.String() + l.File + "\n"
			if cost := c.costs[one(l)]; !made[one(l)] {
				made[one(l)] = true
				e.Making, e.Bytes = e.Making+cost.takes, e.Bytes+cost.bytes
			}
		}
		if !rungs[name] {
			rungs[name] = true
			e.Rungs++
		}
	}
	e.Time += e.Making + c.Baseline // the last reading of the idle device
	if c.Doc.Attempts() == 0 {
		e.Time += c.Baseline
	}
	return e
}
