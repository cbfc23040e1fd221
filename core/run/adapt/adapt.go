// Package adapt is the run that offers each column of a ladder as one film in several qualities,
// and finds which of them a device settles at.
package adapt

import (
	"context"
	"errors"
	"fmt"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/search"
)

// Descriptor registers the kind of run.
var Descriptor = run.Descriptor{Word: "adapt", Restore: restore}

// Config states what to offer.
type Config struct {
	run.Config
	Ladder *load.Ladder
}

// kind offers one column after the other.
type kind struct {
	columns []load.Column
	search  search.Climb
	hold    run.Config
}

func newKind(c Config) *kind {
	k := &kind{columns: c.Ladder.Columns, hold: c.Config, search: search.Climb{All: true}}
	for range c.Ladder.Columns {
		k.search.Columns = append(k.search.Columns, 1)
	}
	return k
}

// Run makes a run and returns its document, also if it ends early with an error.
func Run(ctx context.Context, book *logbook.Book, c Config) (*logbook.Document, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	return run.Conduct(ctx, book, c.Config, newKind(c), c.document())
}

// Plan returns what a run is expected to take.
func Plan(ctx context.Context, c Config) (run.Estimate, error) {
	if err := c.Check(); err != nil {
		return run.Estimate{}, err
	}
	return c.Config.Plan(ctx, newKind(c), c.document()), nil
}

func (c Config) document() *logbook.Document {
	doc := c.Document(Descriptor.Word)
	doc.Ladder, doc.Plan.Columns, doc.Plan.Adaptive = c.Ladder.Name, c.Ladder.Columns, true
	doc.PlanFiles()
	doc.FillRungs()
	return doc
}

func restore(doc *logbook.Document, base run.Config) (run.Kind, error) {
	c := Config{Config: base, Ladder: &load.Ladder{Name: doc.Ladder, Columns: doc.PlannedColumns()}}
	if err := c.Check(); err != nil {
		return nil, err
	}
	return newKind(c), nil
}

// Check finds what could not work before anything is measured.
func (c Config) Check() error {
	if err := c.Config.Check(); err != nil {
		return err
	}
	if !c.Route.Traits().Adaptive {
		return fmt.Errorf("--adaptive does nothing on the route %s: its device chooses no quality", c.Route.Kind())
	}
	for _, column := range c.Ladder.Columns {
		if len(column.Rungs) < 2 {
			return errors.New("--adaptive needs at least two qualities in a column")
		}
		for _, l := range column.Rungs {
			if err := c.Route.Check(l); err != nil {
				return err
			}
			if l.File != "" || l.Streams != 1 || l.Codec != column.Rungs[0].Codec {
				return fmt.Errorf("load line %q: qualities of one film are single streams of one codec, made here", l)
			}
		}
	}
	return nil
}

// Next chooses the next column.
func (k *kind) Next(r *run.Run) (int, search.Purpose, bool) {
	tried := map[int]int{}
	for _, t := range r.Trials {
		switch t.Void {
		case search.Repeatable:
			tried[t.Rung]++
		case search.Interrupted:
		default:
			tried[t.Rung] = search.MaxVoid
		}
	}
	for i := range k.columns {
		if tried[i] < search.MaxVoid {
			return i, search.Explore, true
		}
	}
	return 0, "", false
}

// Plan returns the qualities of a column.
func (k *kind) Plan(_ *run.Run, rung int) route.Plan {
	return route.Plan{Loads: k.columns[rung].Rungs, Hold: k.hold.Hold, Settle: k.hold.Settle, Adaptive: true}
}

// Title returns the name of the column.
func (k *kind) Title(_ *run.Run, rung int) string {
	return fmt.Sprintf("%s in %d qualities", k.columns[rung].Name, len(k.columns[rung].Rungs))
}

// Unit returns "column".
func (k *kind) Unit() string { return "column" }

// Width returns the length of the longest title.
func (k *kind) Width() (width int) {
	for i := range k.columns {
		width = max(width, len(k.Title(nil, i)))
	}
	return width
}

// Ahead returns the columns that were not tried yet.
func (k *kind) Ahead(r *run.Run) (plans []route.Plan) {
	for i := range k.columns {
		if i >= len(r.Trials) {
			plans = append(plans, k.Plan(r, i))
		}
	}
	return plans
}

// Conclude has nothing to add: each attempt says which quality the device settled at.
func (k *kind) Conclude(*run.Run) []string { return nil }
