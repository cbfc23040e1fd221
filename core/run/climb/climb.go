// Package climb is the run that goes up a ladder and finds the highest rung that plays smoothly.
package climb

import (
	"context"
	"fmt"

	"vividstrain/core/capacity"
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/search"
	"vividstrain/core/verdict"
)

// Descriptor registers the kind of run.
var Descriptor = run.Descriptor{Word: "climb", Restore: restore, Conclude: func(doc *logbook.Document) run.Kind { return newKind(stored(doc, run.Config{})) }}

// Config states what to climb and how.
type Config struct {
	run.Config
	Ladder *load.Ladder
	All    bool // go on after two rungs that are not smooth
	Goals  bool // the columns are goals of the same sources
	Quick  bool // pass over rungs that should be smooth
	Once   bool // no second attempts
	// Refine closes in on the limit between the ceiling and the rung above it, up to this share of
	// the bitrate; 0: not.
	Refine float64
}

// kind climbs a ladder.
type kind struct {
	ladder *load.Ladder
	search search.Climb
	quick  bool
	refine float64
	hold   run.Config
}

func newKind(c Config) *kind {
	k := &kind{ladder: c.Ladder, search: search.Climb{All: c.All, Once: c.Once}, quick: c.Quick, refine: c.Refine, hold: c.Config}
	for _, column := range c.Ladder.Columns {
		k.search.Columns = append(k.search.Columns, len(column.Rungs))
		for i, l := range column.Rungs {
			k.search.More = append(k.search.More, i > 0 && l.MoreOf(column.Rungs[i-1]))
		}
	}
	return k
}

// Run makes a run and returns its document, also if it ends early with an error: what was
// measured is in it and in the book. If the device is out of reach before the first attempt, no
// run is made.
func Run(ctx context.Context, book *logbook.Book, c Config) (*logbook.Document, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	return run.Conduct(ctx, book, c.Config, newKind(c), c.document())
}

// document returns the initial document of a run.
func (c Config) document() *logbook.Document {
	doc := c.Document(Descriptor.Word)
	doc.Ladder, doc.Plan.Columns, doc.Plan.All, doc.Plan.Once = c.Ladder.Name, c.Ladder.Columns, c.All, c.Once
	doc.Plan.Quick, doc.Plan.RefinePct = c.Quick, 100*c.Refine
	if c.Goals {
		for _, column := range c.Ladder.Columns {
			doc.Plan.Goals = append(doc.Plan.Goals, column.Name)
		}
	}
	doc.PlanFiles()
	doc.FillRungs()
	return doc
}

func restore(doc *logbook.Document, base run.Config) (run.Kind, error) {
	c := stored(doc, base)
	if err := c.Check(); err != nil {
		return nil, err
	}
	return newKind(c), nil
}

// stored returns what a document says of its run.
func stored(doc *logbook.Document, base run.Config) Config {
	p := &doc.Plan
	return Config{Config: base, Ladder: &load.Ladder{Name: doc.Ladder, Columns: doc.PlannedColumns()}, All: p.All, Quick: p.Quick, Once: p.Once, Refine: p.RefinePct / 100}
}

// Check finds what could not work before anything is measured. Loads that the route cannot
// request are void when their turn comes; they are an error if no other load is left.
func (c Config) Check() error {
	if err := c.Config.Check(); err != nil {
		return err
	}
	if c.Refine != 0 && !(c.Refine >= 0.01 && c.Refine <= 1) {
		return fmt.Errorf("the limit is closed in on within 1%% to 100%%, not %g%%", 100*c.Refine)
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

// Next chooses the next rung. One that refines the answer is added to the document.
func (k *kind) Next(r *run.Run) (rung int, why search.Purpose, more bool) {
	if k.quick {
		rung, why, more = search.Quick{Columns: k.search.Columns}.Next(r.Trials, func(column int) int { return k.predict(r, column) })
	} else {
		rung, why, more = k.search.Next(r.Trials)
	}
	if more || k.refine == 0 {
		return rung, why, more
	}
	return k.nextRefined(r)
}

// predict returns the hardest rung of a column that should fit by what the attempts so far cost, or
// -1 where they do not tell.
func (k *kind) predict(r *run.Run, column int) int {
	m, err := capacity.Fit([]*logbook.Document{r.Doc})
	if err != nil {
		return -1
	}
	best := -1
	for i, l := range k.ladder.Columns[column].Rungs {
		if a, err := m.Fits([]load.Load{l}, 0, capacity.Scale{}); err == nil && a.Times >= 1 {
			best = i
		} else if err != nil {
			return -1
		}
	}
	return best
}

// Plan returns the load of a rung.
func (k *kind) Plan(r *run.Run, rung int) route.Plan {
	return route.Plan{Loads: []load.Load{r.Doc.Rungs[rung].Load}, Hold: k.hold.Hold, Settle: k.hold.Settle}
}

// Title returns the load line, or the name of the file that is played.
func (k *kind) Title(r *run.Run, rung int) string { return r.Doc.Rungs[rung].Load.Title() }

// Unit returns "rung".
func (k *kind) Unit() string { return "rung" }

// Width returns the length of the longest title.
func (k *kind) Width() (width int) {
	for _, column := range k.ladder.Columns {
		for _, l := range column.Rungs {
			width = max(width, len(l.Title()))
		}
	}
	return width
}

// Ahead returns the attempts that are made yet if all of them are smooth.
func (k *kind) Ahead(r *run.Run) (plans []route.Plan) {
	ahead := k.search.Ahead(r.Trials)
	if k.quick {
		ahead = search.Quick{Columns: k.search.Columns}.Ahead(r.Trials)
	}
	for _, rung := range ahead {
		plans = append(plans, k.Plan(r, rung))
	}
	return plans
}

// Plan returns what a run is expected to take, at most.
func Plan(ctx context.Context, c Config) (run.Estimate, error) {
	if err := c.Check(); err != nil {
		return run.Estimate{}, err
	}
	return c.Config.Plan(ctx, newKind(c), c.document()), nil
}

// Conclude finds the ceilings.
func (k *kind) Conclude(r *run.Run) (notes []string) {
	result := &logbook.Ceiling{}
	var best *logbook.ColumnCeiling
	ceilings, skipped := k.ceilings(r)
	for i, ceiling := range ceilings {
		column := columnOf(r, ceiling)
		column.Column = k.ladder.Columns[i].Name
		column.Skipped, column.Refined = loadsOf(r.Doc, skipped[i]), k.refined(r, i)
		result.Columns = append(result.Columns, column)
		if best == nil || harder(column.Load, best.Load) {
			best = &column
		}
	}
	if best != nil {
		result.Load, result.Confirmed, result.Headroom, result.HeadroomOf = best.Load, best.Confirmed, best.Headroom, best.HeadroomOf
		result.Limiter, result.Evidence, result.Next, result.Room = best.Limiter, best.Evidence, best.Next, best.Room
		result.LadderEnd, result.Untried = best.LadderEnd, best.Untried
	}
	r.Doc.Ceiling = result
	for _, rung := range k.search.OutOfOrder(r.Trials) {
		notes = append(notes, fmt.Sprintf("out of order: %s is worse than a harder rung of its column", r.Doc.Rungs[rung].Load))
	}
	return notes
}

// ceilings returns the result of each column, and the rungs that were passed over.
func (k *kind) ceilings(r *run.Run) (ceilings []search.Ceiling, skipped [][]int) {
	if k.quick {
		return search.Quick{Columns: k.search.Columns}.Ceilings(r.Trials)
	}
	ceilings = k.search.Ceilings(r.Trials)
	return ceilings, make([][]int, len(ceilings))
}

// columnOf returns the result of a column.
func columnOf(r *run.Run, ceiling search.Ceiling) logbook.ColumnCeiling {
	column := logbook.ColumnCeiling{Confirmed: ceiling.Confirmed, LadderEnd: ceiling.Last, Untried: loadsOf(r.Doc, ceiling.Untried)}
	var top *logbook.Rung
	if ceiling.Rung >= 0 {
		top = &r.Doc.Rungs[ceiling.Rung]
		column.Load = &top.Load
		column.Room = room(r, *top)
	}
	if ceiling.Next >= 0 {
		rung := r.Doc.Rungs[ceiling.Next]
		a := run.Worst(rung.Counted())
		column.Next = &logbook.Next{Load: rung.Load, Verdict: a.Verdict, Reason: a.Reasons[0]}
		column.Limiter, column.Evidence = a.Limiter, a.Evidence
		if top != nil && decodeOf(*top) == route.Hardware && a.Decode == route.Software {
			column.Evidence = fmt.Sprintf("from %s on the decoder block is not used; %s", rung.Load, a.Evidence)
		}
	}
	if top != nil {
		column.Headroom, column.HeadroomOf = run.Headroom(column.Limiter, top.Counted())
	}
	return column
}

// decodeOf returns how a rung was decoded.
func decodeOf(rung logbook.Rung) string {
	for _, a := range rung.Counted() {
		return a.Decode
	}
	return route.Unknown
}

// room returns how many streams of a rung's load fit, by the readings of its first smooth
// attempt.
func room(r *run.Run, rung logbook.Rung) *verdict.Room {
	for _, a := range rung.Counted() {
		if a.Verdict != verdict.Smooth {
			continue
		}
		if room, known := verdict.FindRoom(a.Use, r.Idle, rung.Load.Streams); known {
			return &room
		}
	}
	return nil
}

// harder reports whether a asks for more than b: first in pixels, then in bits per second. A
// missing load is the easiest.
func harder(a, b *load.Load) bool {
	if a == nil || b == nil {
		return a != nil
	}
	if a.PixelRate() != b.PixelRate() {
		return a.PixelRate() > b.PixelRate()
	}
	return a.Bitrate*int64(a.Streams) > b.Bitrate*int64(b.Streams)
}

// loadsOf returns the loads of rungs.
func loadsOf(doc *logbook.Document, rungs []int) (list []load.Load) {
	for _, r := range rungs {
		list = append(list, doc.Rungs[r].Load)
	}
	return list
}
