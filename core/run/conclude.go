package run

import (
	"fmt"
	"slices"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// conclude writes into the document what the trials so far say.
func (c *conductor) conclude() {
	notes := c.method.conclude(c)
	c.doc.Notes = append(c.doc.Notes[:0], slices.Concat(c.doc.Conditions.Warnings, c.drift, c.voids(), c.pace(), c.disagreements(), notes)...)
}

func (m climbing) conclude(c *conductor) (notes []string) {
	result := &logbook.Ceiling{}
	var best *logbook.ColumnCeiling
	for i, ceiling := range m.Ceilings(c.trials) {
		column := c.column(ceiling)
		column.Column = c.Ladder.Columns[i].Name
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
	c.doc.Ceiling = result
	for _, rung := range m.OutOfOrder(c.trials) {
		notes = append(notes, fmt.Sprintf("out of order: %s is worse than a harder rung of its column", c.doc.Rungs[rung].Load))
	}
	return notes
}

// column is what the trials of a column say.
func (c *conductor) column(ceiling search.Ceiling) logbook.ColumnCeiling {
	column := logbook.ColumnCeiling{Confirmed: ceiling.Confirmed, LadderEnd: ceiling.Last, Untried: loadsOf(c.doc, ceiling.Untried)}
	var top *logbook.Rung
	if ceiling.Rung >= 0 {
		top = &c.doc.Rungs[ceiling.Rung]
		column.Load = &top.Load
		column.Room = c.room(*top)
	}
	if ceiling.Next >= 0 {
		rung := c.doc.Rungs[ceiling.Next]
		a := worst(rung.Counted())
		column.Next = &logbook.Next{Load: rung.Load, Verdict: a.Verdict, Reason: a.Reasons[0]}
		column.Limiter, column.Evidence = a.Limiter, a.Evidence
		if top != nil && decodeOf(*top) == route.Hardware && a.Decode == route.Software {
			column.Evidence = fmt.Sprintf("from %s on the decoder block is not used; %s", rung.Load, a.Evidence)
		}
	}
	if top != nil {
		column.Headroom, column.HeadroomOf = headroom(column.Limiter, top.Counted())
	}
	return column
}

// decodeOf is how a rung was decoded.
func decodeOf(r logbook.Rung) string {
	for _, a := range r.Counted() {
		return a.Decode
	}
	return route.Unknown
}

// voids says of each rung with void attempts why they were, and of clips whose bitrate
// is not what was ordered what it is.
func (c *conductor) voids() (list []string) {
	for _, rung := range c.doc.Rungs {
		for i := len(rung.Attempts) - 1; i >= 0; i-- {
			a := rung.Attempts[i]
			if a.Void == "" || a.Void == verdict.VoidStopped || a.Void == verdict.VoidKilled {
				continue
			}
			n := 0
			for _, other := range rung.Attempts {
				if other.Void.Void() == search.Repeatable {
					n++
				}
			}
			text := fmt.Sprintf("%s was not tried: %s", rung.Load, a.Reasons[0])
			if a.Void.Void() == search.Repeatable {
				text = fmt.Sprintf("an attempt at %s was void: %s", rung.Load, a.Reasons[0])
				if n > 1 {
					text = fmt.Sprintf("%d attempts at %s were void, the last one because %s", n, rung.Load, a.Reasons[0])
				}
			}
			list = append(list, text)
			break
		}
		for _, a := range rung.Attempts {
			if a.ClipBPS > 0 {
				list = append(list, fmt.Sprintf("the clip of %s has %sb/s", rung.Load, media.ShortBitrate(float64(a.ClipBPS))))
				break
			}
		}
	}
	return append(list, c.longer()...)
}

// longer says which rungs were held for longer than planned.
func (c *conductor) longer() (list []string) {
	loads := map[float64][]string{}
	var holds []float64
	for _, rung := range c.doc.Rungs {
		for _, a := range rung.Attempts {
			if a.HoldS > 0 {
				if loads[a.HoldS] == nil {
					holds = append(holds, a.HoldS)
				}
				loads[a.HoldS] = append(loads[a.HoldS], rung.Load.String())
				break
			}
		}
	}
	for _, hold := range holds {
		which := loads[hold]
		if len(which) == len(c.doc.Rungs) {
			which = []string{"all rungs"}
		}
		list = append(list, fmt.Sprintf("held for %.0f s instead of %.0f s, since segments are long: %s", hold, c.doc.Plan.HoldS, strings.Join(which, ", ")))
	}
	return list
}

// room is how many streams of a rung's load the device has room for, by the
// readings of its first smooth attempt.
func (c *conductor) room(rung logbook.Rung) *verdict.Room {
	for _, a := range rung.Counted() {
		if a.Verdict != verdict.Smooth {
			continue
		}
		if room, known := verdict.FindRoom(a.Use, c.idle, rung.Load.Streams); known {
			return &room
		}
	}
	return nil
}

// disagreements are what sensors of the same quantity said differently, once
// each, with the load it was first seen at.
func (c *conductor) disagreements() (list []string) {
	seen := map[string]bool{}
	for _, rung := range c.doc.Rungs {
		for _, a := range rung.Attempts {
			for _, text := range a.Use.Disagreements() {
				quantity, _, _ := strings.Cut(text, " ")
				if !seen[quantity] {
					seen[quantity] = true
					list = append(list, fmt.Sprintf("sensors disagree at %s: %s", rung.Load, text))
				}
			}
		}
	}
	return list
}

// steadyPace is how much more one attempt at a rung may take of the cores than another
// before the computer itself is said to have changed.
const steadyPace = 1.2

// pace tells of the rung whose attempts differed most in what a frame took of the
// cores. Where they are decoded here, the same frames take the same work, so that it is the
// computer's speed that changed; servers may have work done already.
func (c *conductor) pace() []string {
	if !c.Route.Traits().SameWork {
		return nil
	}
	most, of := steadyPace, load.Load{}
	for _, rung := range c.doc.Rungs {
		for _, slow := range rung.Counted() {
			for _, quick := range rung.Counted() {
				s, q := slow.Use[sense.GroupCPU].Mean, quick.Use[sense.GroupCPU].Mean
				if s == 0 || q == 0 || slow.FramesDue() == 0 || quick.FramesDue() == 0 || quick.Frames.Shown == 0 {
					continue
				}
				// Frames that were dropped may have been decoded or not: what is sure is counted.
				if v := s / float64(slow.Frames.Due) / (q / float64(quick.Frames.Shown)); v > most {
					most, of = v, rung.Load
				}
			}
		}
	}
	if most == steadyPace {
		return nil
	}
	return []string{fmt.Sprintf("the same frames of %s took %.1f times as much of the cores in one attempt as in another: this computer's own speed changed (heat, a power mode, others on the same machine), so that the ceiling may be higher", of, most)}
}

// harder tells whether a asks for more than b: first in pixels a second, then
// in bits a second. A missing load is the easiest.
func harder(a, b *load.Load) bool {
	if a == nil || b == nil {
		return a != nil
	}
	if a.PixelRate() != b.PixelRate() {
		return a.PixelRate() > b.PixelRate()
	}
	return a.Bitrate*int64(a.Streams) > b.Bitrate*int64(b.Streams)
}

// worst is the attempt with the worst verdict, the first of several. There is
// at least one.
func worst(attempts []logbook.Attempt) logbook.Attempt {
	w := attempts[0]
	for _, a := range attempts[1:] {
		if a.Verdict.Worse(w.Verdict) {
			w = a
		}
	}
	return w
}

// unlimited is a share that is left, in percent, from which on something does not limit
// at the ceiling: what limits the next rung is not in use there.
const unlimited = 95

// headroom is what was left on average in the smooth attempts at the ceiling, in
// percent, of the limiter of the next rung, or of what had the least left where that
// was not in use at the ceiling or is not known. It is nil where nothing is known.
func headroom(l verdict.Limiter, attempts []logbook.Attempt) (*float64, verdict.Limiter) {
	mean := func(free func(logbook.Attempt) (float64, bool)) *float64 {
		sum, n := 0.0, 0.0
		for _, a := range attempts {
			if v, known := free(a); known && a.Verdict == verdict.Smooth {
				sum, n = sum+v, n+1
			}
		}
		if n == 0 {
			return nil
		}
		sum /= n
		return &sum
	}
	// A device that works ahead of its viewers is busy with one of them, too.
	ahead := func(a logbook.Attempt, free float64) float64 {
		if pace, known := a.Buffer.Pace(); known && pace > 1 {
			return max(free, 100*(1-1/pace))
		}
		return free
	}
	if left := mean(func(a logbook.Attempt) (float64, bool) {
		free, known := verdict.Headroom(l, a.Use)
		return ahead(a, free), known
	}); left != nil && *left < unlimited {
		return left, l
	}
	var of verdict.Limiter
	left := mean(func(a logbook.Attempt) (free float64, known bool) {
		var tightest verdict.Limiter
		if tightest, free, known = verdict.Tightest(a.Use); known && of == "" {
			of = tightest
		}
		return ahead(a, free), known && tightest == of
	})
	return left, of
}
