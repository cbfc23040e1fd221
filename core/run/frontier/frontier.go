// Package frontier is the run that finds the highest smooth bitrate of each size and frame rate: the
// map of a device.
package frontier

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/search"
)

// Descriptor registers the kind of run.
var Descriptor = run.Descriptor{Word: "map", Restore: restore}

// Config states what to map: the sizes and frame rates of the loads, in the format of the first.
type Config struct {
	run.Config
	Ladder *load.Ladder
	Within float64 // how near the highest bitrate is closed in on, as a share of it
}

// field is one size and frame rate.
type field struct {
	name       string
	candidates []load.Load // by bitrate
}

// kind goes through the fields from the easiest to the hardest.
type kind struct {
	fields []field
	hold   run.Config
}

// Bits for each pixel of the lowest and the highest bitrate that are tried.
const (
	leastBits = 0.02
	mostBits  = 0.6
)

// maxBitrate is the highest bitrate that is tried, in bits a second.
const maxBitrate = 300e6

// fieldsOf returns the fields of a ladder, by pixels a second.
func fieldsOf(c Config) (list []field) {
	var base load.Load
	seen := map[string]bool{}
	var sizes, rates []load.Load
	for _, column := range c.Ladder.Columns {
		for _, l := range column.Rungs {
			if base.Codec == "" {
				base = l
			}
			if key := l.Size(); !seen[key] {
				seen[key], sizes = true, append(sizes, l)
			}
			if key := l.Rate.String() + " Hz"; !seen[key] {
				seen[key], rates = true, append(rates, l)
			}
		}
	}
	for _, s := range sizes {
		for _, r := range rates {
			l := base
			l.Width, l.Height, l.Rate, l.Streams, l.File, l.Goal = s.Width, s.Height, r.Rate, 1, "", nil
			f := field{name: l.SizeRate()}
			for b := leastBits * l.PixelRate(); b <= min(mostBits*l.PixelRate(), maxBitrate); b *= 1 + c.Within {
				l.Bitrate = media.RoundBitrate(b)
				f.candidates = append(f.candidates, l)
			}
			list = append(list, f)
		}
	}
	slices.SortStableFunc(list, func(a, b field) int {
		return int(math.Copysign(1, a.candidates[0].PixelRate()-b.candidates[0].PixelRate()))
	})
	return list
}

func newKind(c Config) *kind { return &kind{fieldsOf(c), c.Config} }

// Check finds what could not work before anything is measured.
func (c Config) Check() error {
	if err := c.Config.Check(); err != nil {
		return err
	}
	if !(c.Within >= 0.01 && c.Within <= 1) {
		return fmt.Errorf("the limit is closed in on within 1%% to 100%%, not %g%%", 100*c.Within)
	}
	for _, column := range c.Ladder.Columns {
		for _, l := range column.Rungs {
			if l.File != "" || l.Goal != nil {
				return errors.New("a map is of clips that are made here, as-is: give load lines or a ladder of them")
			}
		}
	}
	for _, f := range fieldsOf(c) {
		if err := c.Route.Check(f.candidates[0]); err != nil {
			return err
		}
	}
	return nil
}

// Run makes a run and returns its document, also if it ends early with an error.
func Run(ctx context.Context, book *logbook.Book, c Config) (*logbook.Document, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	return run.Conduct(ctx, book, c.Config, newKind(c), c.document())
}

// Plan returns what a run is expected to take, about.
func Plan(ctx context.Context, c Config) (run.Estimate, error) {
	if err := c.Check(); err != nil {
		return run.Estimate{}, err
	}
	return c.Config.Plan(ctx, newKind(c), c.document()), nil
}

func (c Config) document() *logbook.Document {
	doc := c.Document(Descriptor.Word)
	doc.Ladder, doc.Plan.Columns, doc.Plan.RefinePct = c.Ladder.Name, c.Ladder.Columns, 100*c.Within
	doc.Rungs = []logbook.Rung{}
	return doc
}

func restore(doc *logbook.Document, base run.Config) (run.Kind, error) {
	c := Config{Config: base, Ladder: &load.Ladder{Name: doc.Ladder, Columns: doc.Plan.Columns}, Within: doc.Plan.RefinePct / 100}
	if err := c.Check(); err != nil {
		return nil, err
	}
	return newKind(c), nil
}

// Next chooses the middle of the bitrates that may still be the limit of a field, after the lowest and
// the highest. A field that is harder than one where nothing was smooth is passed over.
func (k *kind) Next(r *run.Run) (int, search.Purpose, bool) {
	for i := range k.fields {
		f := &k.fields[i]
		if k.hopeless(r, i) {
			continue
		}
		low, high := r.Limits(f.candidates)
		if high-low <= 1 {
			continue
		}
		next := (low + high) / 2
		switch {
		case low < 0:
			next = 0
		case low == 0 && high == len(f.candidates):
			next = high - 1 // many devices play whatever bitrate a size they take has
		}
		return r.AddRung(f.name, f.candidates[next]), search.Explore, true
	}
	return 0, "", false
}

// hopeless reports whether a field has at least the size and the rate of one where nothing was
// smooth.
func (k *kind) hopeless(r *run.Run, i int) bool {
	l := k.fields[i].candidates[0]
	for j := range i {
		if _, high := r.Limits(k.fields[j].candidates); high != 0 {
			continue
		}
		if o := k.fields[j].candidates[0]; l.Width >= o.Width && l.Height >= o.Height && l.Rate.Hz() >= o.Rate.Hz() {
			return true
		}
	}
	return false
}

// Plan returns the load of a rung.
func (k *kind) Plan(r *run.Run, rung int) route.Plan {
	return route.Plan{Loads: []load.Load{r.Doc.Rungs[rung].Load}, Hold: k.hold.Hold, Settle: k.hold.Settle}
}

// Title returns the load line.
func (k *kind) Title(r *run.Run, rung int) string { return r.Doc.Rungs[rung].Load.Title() }

// Unit returns "load".
func (k *kind) Unit() string { return "load" }

// Width returns the length of the longest title.
func (k *kind) Width() (width int) {
	for _, f := range k.fields {
		for _, l := range f.candidates {
			width = max(width, len(l.Title()))
		}
	}
	return width
}

// Ahead returns as many attempts as a bisection of each field that is not found yet takes.
func (k *kind) Ahead(r *run.Run) (plans []route.Plan) {
	for i := range k.fields {
		f := &k.fields[i]
		low, high := r.Limits(f.candidates)
		for n := high - low; n > 1 && !k.hopeless(r, i); n = (n + 1) / 2 {
			plans = append(plans, route.Plan{Loads: []load.Load{f.candidates[len(f.candidates)/2]}, Hold: k.hold.Hold, Settle: k.hold.Settle})
		}
	}
	return plans
}

// Conclude finds the highest smooth bitrate of each field.
func (k *kind) Conclude(r *run.Run) (notes []string) {
	r.Doc.Map = nil
	for i := range k.fields {
		f := &k.fields[i]
		low, high := r.Limits(f.candidates)
		one := logbook.MapField{Size: f.candidates[0].Size(), Rate: f.candidates[0].Rate.String(), Skipped: k.hopeless(r, i)}
		if low >= 0 {
			one.Load = &f.candidates[low]
		}
		if high < len(f.candidates) {
			one.Next = &f.candidates[high]
			if rung := r.RungWith(*one.Next); rung >= 0 && len(r.Doc.Rungs[rung].Counted()) > 0 {
				a := run.Worst(r.Doc.Rungs[rung].Counted())
				one.Limiter, one.Evidence = a.Limiter, a.Evidence
			}
		}
		one.Found = high-low <= 1
		r.Doc.Map = append(r.Doc.Map, one)
	}
	return nil
}
