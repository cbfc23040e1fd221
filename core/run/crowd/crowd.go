// Package crowd is the run that finds how many simultaneous streams play smoothly for every
// viewer.
package crowd

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Config states which loads to multiply, and how.
type Config struct {
	run.Config
	Mix         []load.Load
	Most        int           // times the mix
	Reserve     float64       // percentage of the limiter that a comfortable number leaves free
	Need        int           // needed multiple of the mix, 0: none stated
	NeedReserve bool          // the need is met only if the reserve is left
	Stagger     time.Duration // time between the starts of streams
	Spread      bool          // streams start at different positions in the film
}

// Descriptor registers the kind of run.
var Descriptor = run.Descriptor{Word: "crowd", Restore: restore}

// MostStreams is the largest number of streams of a crowd.
const MostStreams = 20000

// Check finds what could not work before anything is measured.
func (c Config) Check() error {
	for _, l := range c.Mix {
		if err := c.Route.Check(l); err != nil { // a mix is all or nothing
			return err
		}
	}
	n := streams(c.Mix)
	switch {
	case n == 0:
		return fmt.Errorf("there is nothing to multiply; give a load line")
	case c.Most < 1 || c.Most*n > MostStreams:
		return fmt.Errorf("at most %d streams are tried; %d times %d streams are more", MostStreams, c.Most, n)
	case c.Need < 0 || c.Need > c.Most:
		return fmt.Errorf("a need of %d cannot be found while at most %d are tried", c.Need, c.Most)
	case c.Need > c.most():
		return fmt.Errorf("a need of %d cannot be found while at most %d are tried: %s", c.Need, c.most(), c.Route.Traits().StreamsWhy)
	case !(c.Reserve >= 0 && c.Reserve < 100):
		return fmt.Errorf("the reserve is 0%% to 99%%, not %g%%", c.Reserve)
	case c.Stagger < 0 || c.Stagger > time.Minute:
		return fmt.Errorf("streams begin at most a minute apart, not %s", c.Stagger)
	}
	return c.Config.Check()
}

// most returns the largest multiple of the mix that is tried: what was asked for, or less where the
// route cannot have so many streams.
func (c Config) most() int {
	t := c.Route.Traits()
	if t.Streams == 0 {
		return c.Most
	}
	return max(1, min(c.Most, t.Streams/streams(c.Mix)))
}

func streams(mix []load.Load) (n int) {
	for _, l := range mix {
		n += l.Streams
	}
	return n
}

// Run finds the highest number of streams that play smoothly and returns the document, also if
// it ends early with an error.
func Run(ctx context.Context, book *logbook.Book, c Config) (*logbook.Document, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	doc := c.document()
	return run.Conduct(ctx, book, c.Config, &kind{search.Crowd{Most: doc.Plan.Crowd.Most}, doc.Plan.Crowd, c.Config}, doc)
}

// Plan returns what a run is expected to take, at most.
func Plan(ctx context.Context, c Config) (run.Estimate, error) {
	if err := c.Check(); err != nil {
		return run.Estimate{}, err
	}
	doc := c.document()
	return c.Config.Plan(ctx, &kind{search.Crowd{Most: doc.Plan.Crowd.Most}, doc.Plan.Crowd, c.Config}, doc), nil
}

// document returns the initial document of a run.
func (c Config) document() *logbook.Document {
	doc := c.Document(Descriptor.Word)
	p := &logbook.CrowdPlan{Mix: c.Mix, Most: c.most(), ReservePct: c.Reserve, Need: c.Need, NeedReserve: c.NeedReserve, StaggerS: c.Stagger.Seconds(), Spread: c.Spread}
	for _, l := range c.Mix {
		if l.File != "" {
			p.Files = make([]string, len(c.Mix))
		}
	}
	for i := range p.Files {
		p.Files[i] = c.Mix[i].File
	}
	doc.Plan.Crowd = p
	return doc
}

// kind varies the number of streams.
type kind struct {
	search search.Crowd
	wanted *logbook.CrowdPlan
	hold   run.Config
}

func restore(doc *logbook.Document, c run.Config) (run.Kind, error) {
	if doc.Plan.Crowd == nil {
		return nil, fmt.Errorf("run %s does not say what was multiplied", doc.ID)
	}
	return &kind{search.Crowd{Most: doc.Plan.Crowd.Most}, doc.Plan.Crowd, c}, nil
}

// counted returns the trials by their numbers.
func (k *kind) counted(on *run.Run) []search.Counted {
	list := make([]search.Counted, len(on.Trials))
	for i, t := range on.Trials {
		list[i] = search.Counted{Number: k.wanted.Numbers[t.Rung], Smooth: t.Smooth, Void: t.Void}
	}
	return list
}

// Next chooses the next number, which may become a new rung.
func (k *kind) Next(on *run.Run) (rung int, why search.Purpose, more bool) {
	number, why, more := k.search.Next(k.counted(on))
	if !more {
		return 0, "", false
	}
	rung = slices.Index(k.wanted.Numbers, number)
	if rung < 0 {
		rung = len(k.wanted.Numbers)
		k.wanted.Numbers = append(k.wanted.Numbers, number)
		on.Doc.Rungs = append(on.Doc.Rungs, k.wanted.Rung(rung))
	}
	return rung, why, true
}

// Plan returns the mix multiplied by a rung's number.
func (k *kind) Plan(_ *run.Run, rung int) route.Plan { return k.plan(k.wanted.Numbers[rung]) }

// plan plays the mix so many times.
func (k *kind) plan(number int) route.Plan {
	return route.Plan{Loads: k.wanted.Loads(number), Hold: k.hold.Hold, Settle: k.hold.Settle,
		Stagger: run.Duration(k.wanted.StaggerS), Spread: k.wanted.Spread}
}

// Title returns the number of streams.
func (k *kind) Title(on *run.Run, rung int) string {
	if n := k.Plan(on, rung).Streams(); n != 1 {
		return fmt.Sprintf("%d streams", n)
	}
	return "1 stream"
}

// Unit returns "number".
func (k *kind) Unit() string { return "number" }

// Width returns the length of the longest title that is usual.
func (k *kind) Width() int { return len("1000 streams") }

// Ahead returns the attempts that are made yet if the readings so far tell how many fit.
func (k *kind) Ahead(on *run.Run) (plans []route.Plan) {
	fits := k.search.Most
	if p := k.predict(on); p != nil {
		fits = p.Number
	}
	for _, number := range k.search.Ahead(k.counted(on), fits) {
		plans = append(plans, k.plan(number))
	}
	return plans
}

// rung returns the rung of a number, nil if it was not tried.
func (k *kind) rung(on *run.Run, number int) *logbook.Rung {
	if i := slices.Index(k.wanted.Numbers, number); i >= 0 && len(on.Doc.Rungs[i].Counted()) > 0 {
		return &on.Doc.Rungs[i]
	}
	return nil
}

// Conclude finds the highest number, and what it leaves free.
func (k *kind) Conclude(on *run.Run) (notes []string) {
	trials := k.counted(on)
	good, bad := k.search.Bounds(trials)
	result := &logbook.Crowd{Highest: good, Confirmed: len(trials) > 0 && k.search.Confirmed(trials), Next: bad}
	for _, l := range k.wanted.Loads(good) {
		result.Streams += l.Streams
	}
	if r := k.rung(on, bad); r != nil {
		a := run.Worst(r.Counted())
		result.NextVerdict, result.NextReason, result.Limiter, result.Evidence = a.Verdict, a.Reasons[0], a.Limiter, a.Evidence
		for _, a := range r.Counted() { // an attempt that shows what ran out is preferred
			if result.Limiter == verdict.Unknown && a.Limiter != "" {
				result.Limiter, result.Evidence = a.Limiter, a.Evidence
			}
		}
	}
	if r := k.rung(on, good); r != nil {
		result.Headroom, result.HeadroomOf = run.Headroom(result.Limiter, r.Counted())
	}
	result.CostCPU, result.CostMemory = k.cost(on, coresOf, good), k.cost(on, memoryOf, good)
	result.Predicted = k.predict(on)
	if n, why := k.comfortable(on, result); why == "" {
		result.Comfortable = &n
	} else {
		result.ComfortableWhy = why
	}
	if k.wanted.Need > 0 {
		met := good >= k.wanted.Need
		result.Met = &met
		if n := result.Comfortable; !met || n != nil {
			reserve := met && *n >= k.wanted.Need
			result.WithReserve = &reserve
		}
	}
	if t := on.Route.Traits(); good == k.search.Most && t.Streams > 0 && (good+1)*streams(k.wanted.Mix) > t.Streams {
		notes = append(notes, "more were not tried: "+t.StreamsWhy)
	}
	on.Doc.Crowd = result
	on.Doc.Ceiling = k.ceiling(on, result)
	for _, t := range trials {
		if t.Number > bad && bad > 0 && t.Smooth {
			notes = append(notes, fmt.Sprintf("out of order: %d is worse than %d", bad, t.Number))
			break
		}
	}
	return notes
}

// ceiling returns the result in the form of a climb's.
func (k *kind) ceiling(on *run.Run, r *logbook.Crowd) *logbook.Ceiling {
	column := logbook.ColumnCeiling{Column: "crowd", Confirmed: r.Confirmed, LadderEnd: r.Next == 0 && r.Highest == k.search.Most, Headroom: r.Headroom, HeadroomOf: r.HeadroomOf, Limiter: r.Limiter, Evidence: r.Evidence}
	if rung := k.rung(on, r.Highest); rung != nil {
		column.Load = &rung.Load
	}
	if rung := k.rung(on, r.Next); rung != nil {
		column.Next = &logbook.Next{Load: rung.Load, Verdict: r.NextVerdict, Reason: r.NextReason}
	}
	return &logbook.Ceiling{Load: column.Load, Confirmed: column.Confirmed, LadderEnd: column.LadderEnd, Headroom: column.Headroom, HeadroomOf: column.HeadroomOf, Limiter: column.Limiter,
		Evidence: column.Evidence, Next: column.Next, Columns: []logbook.ColumnCeiling{column}}
}

// predict returns how many fit, judged by the lowest smooth number of at least two, or by one if
// there is no other.
func (k *kind) predict(on *run.Run) *logbook.Prediction {
	var best *logbook.Prediction
	for i, r := range on.Doc.Rungs {
		number := k.wanted.Numbers[i]
		attempts := r.Counted()
		if len(attempts) == 0 || attempts[0].Verdict != verdict.Smooth || best != nil && (best.From >= 2 || number < best.From) {
			continue
		}
		if carries, known := carried(attempts[0], number); known {
			limiter, _ := verdict.FindLimiter(verdict.Window{Use: attempts[0].Use, Clock: on.Clock})
			best = &logbook.Prediction{From: number, Number: int(carries / max(on.Criteria.Smooth.BuildRate, 1)), Limiter: limiter}
		} else if room, known := verdict.FindRoom(attempts[0].Use, on.Idle, number); known {
			best = &logbook.Prediction{From: number, Number: room.Streams, Limiter: room.Limiter}
		}
	}
	return best
}

// carried returns how many times the mix the device delivers in real time, by the rate at which
// media arrive: a server that runs ahead of its viewers is busy with few of them, too. It is not
// known where viewers waited only for room in their buffers.
func carried(a logbook.Attempt, number int) (times float64, known bool) {
	pace, known := a.Buffer.Pace()
	return float64(number) * pace, known
}

// coresOf returns the mean use of the cores in percent of one core, by the player where that is
// known, else by the whole device.
func coresOf(use sense.Use) (pct float64, known bool) {
	if group, known := use[sense.GroupCPU]; known {
		return group.Mean, true
	}
	cpu, known := use[sense.CPU]
	return cpu.Mean * float64(use.Cores()), known && use.Cores() > 0
}

// memoryOf returns the mean memory in use.
func memoryOf(use sense.Use) (bytes float64, known bool) {
	s, known := use.Memory()
	return s.Mean, known
}

// cost returns what one more mix takes in real time: the slope of a line through the means of
// the smooth attempts and of the idle device; nil where not known.
func (k *kind) cost(on *run.Run, of func(sense.Use) (float64, bool), most int) *float64 {
	_, slope, known := k.line(on, most, of)
	if !known {
		return nil
	}
	return &slope
}

// line fits a straight line through a value at the numbers up to most. A device that
// works ahead of its viewers does the work of more of them: at a build rate of 2, of
// twice as many.
func (k *kind) line(on *run.Run, most int, value func(sense.Use) (float64, bool)) (at0, slope float64, known bool) {
	var n, x, y, xx, xy float64
	add := func(number float64, use sense.Use) {
		if v, known := value(use); known {
			n, x, y, xx, xy = n+1, x+number, y+v, xx+number*number, xy+number*v
		}
	}
	add(0, on.Idle)
	for i, r := range on.Doc.Rungs {
		for _, a := range r.Counted() {
			number := k.wanted.Numbers[i]
			if number > most || a.Verdict != verdict.Smooth {
				continue
			}
			if times, known := carried(a, number); known {
				add(max(times, float64(number)), a.Use)
			} else {
				add(float64(number), a.Use)
			}
		}
	}
	spread := n*xx - x*x
	if n < 2 || spread <= 0 {
		return 0, 0, false
	}
	slope = (n*xy - x*y) / spread
	return (y - slope*x) / n, slope, true
}

// comfortable returns the highest number that leaves the reserve free of the limiter; where
// nothing ran out, of what would. why says why it is not known. It may be higher than what was
// tried if the limit was not reached.
func (k *kind) comfortable(on *run.Run, r *logbook.Crowd) (number int, why string) {
	top := r.Highest
	if r.Next == 0 {
		top = math.MaxInt32
	}
	if rung := k.rung(on, r.Highest); rung != nil && r.Limiter != verdict.Memory {
		sum, n := 0.0, 0.0
		for _, a := range rung.Counted() {
			if times, known := carried(a, r.Highest); known {
				sum, n = sum+times, n+1
			}
		}
		if n > 0 {
			return min(top, int(sum/n*(1-k.wanted.ReservePct/100))), ""
		}
	}
	limiter := r.Limiter
	if limiter == "" || limiter == verdict.Unknown || limiter == verdict.Refused {
		if r.Predicted == nil {
			return 0, "no reading of the device grows with the number"
		}
		limiter = r.Predicted.Limiter
	}
	used := func(use sense.Use) (float64, bool) {
		free, known := verdict.Headroom(limiter, use)
		return 100 - free, known && free > 2 // when used up, it no longer grows with the number
	}
	at0, slope, known := k.line(on, r.Highest, used)
	if !known || slope <= 0 {
		return 0, fmt.Sprintf("the readings of the %s do not grow with the number", limiter)
	}
	fits := min(int(math.Floor((100-k.wanted.ReservePct-at0)/slope)), top)
	for i, rung := range on.Doc.Rungs { // measured values take precedence over the line
		for _, a := range rung.Counted() {
			if v, known := used(a.Use); known && v > 100-k.wanted.ReservePct && fits >= k.wanted.Numbers[i] {
				fits = k.wanted.Numbers[i] - 1
			}
		}
	}
	return max(0, fits), ""
}
