package run

import (
	"fmt"
	"slices"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// conclude writes into the document what the trials so far say.
func (c *conductor) conclude() {
	notes := c.method.conclude(c)
	c.doc.Notes = append(c.doc.Notes[:0], slices.Concat(c.doc.Conditions.Warnings, c.drift, c.pace(), c.disagreements(), notes)...)
}

func (m climbing) conclude(c *conductor) (notes []string) {
	ceilings := m.Ceilings(c.trials)
	result := &logbook.Ceiling{}
	var best *logbook.ColumnCeiling
	for i, ceiling := range ceilings {
		column := logbook.ColumnCeiling{Column: c.Ladder.Columns[i].Name, Confirmed: ceiling.Confirmed}
		if ceiling.Next >= 0 {
			rung := c.doc.Rungs[ceiling.Next]
			a := worst(rung.Attempts)
			column.Next = &logbook.Next{Load: rung.Load, Verdict: a.Verdict}
			column.Limiter, column.Evidence = a.Limiter, a.Evidence
		}
		if ceiling.Rung >= 0 {
			rung := c.doc.Rungs[ceiling.Rung]
			column.Load = &rung.Load
			column.Headroom = headroom(column.Limiter, rung.Attempts)
			column.Room = c.room(rung)
		}
		result.Columns = append(result.Columns, column)
		if best == nil || harder(column.Load, best.Load) {
			best = &column
		}
	}
	if best != nil {
		result.Load, result.Confirmed, result.Headroom = best.Load, best.Confirmed, best.Headroom
		result.Limiter, result.Evidence, result.Next, result.Room = best.Limiter, best.Evidence, best.Next, best.Room
	}
	c.doc.Ceiling = result
	for _, rung := range m.OutOfOrder(c.trials) {
		notes = append(notes, fmt.Sprintf("out of order: %s is worse than a harder rung of its column", c.doc.Rungs[rung].Load))
	}
	return notes
}

// room is how many streams of a rung's load the device has room for, by the
// readings of its first smooth attempt.
func (c *conductor) room(rung logbook.Rung) *verdict.Room {
	for _, a := range rung.Attempts {
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

// pace tells of the rung of which the attempts differed most in what a frame took of the
// cores. Where they are decoded here, the same frames take the same work, so that it is the
// computer's speed that changed; servers may have work done already.
func (c *conductor) pace() []string {
	if c.doc.Route.Kind != "engine" {
		return nil
	}
	most, of := steadyPace, load.Load{}
	for _, rung := range c.doc.Rungs {
		for _, slow := range rung.Attempts {
			for _, quick := range rung.Attempts {
				s, q := slow.Use[sense.GroupCPU].Mean, quick.Use[sense.GroupCPU].Mean
				if s == 0 || q == 0 || slow.Frames.Due == 0 || quick.Frames.Shown == 0 {
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

// headroom is what a limiter left free on average in the smooth attempts at the
// ceiling, in percent; nil where that is not known.
func headroom(l verdict.Limiter, attempts []logbook.Attempt) *float64 {
	sum, n := 0.0, 0
	for _, a := range attempts {
		if free, known := verdict.Headroom(l, a.Use); known && a.Verdict == verdict.Smooth {
			sum, n = sum+free, n+1
		}
	}
	if n == 0 {
		return nil
	}
	mean := sum / float64(n)
	return &mean
}
