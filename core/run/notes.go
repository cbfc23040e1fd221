package run

import (
	"fmt"
	"slices"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// conclude writes into the document what the trials so far say.
func (c *Run) conclude() {
	notes := c.kind.Conclude(c)
	c.Doc.Notes = append(c.Doc.Notes[:0], slices.Concat(c.Doc.Conditions.Warnings, c.drift, c.voids(), c.pace(), c.disagreements(), notes)...)
}

// voids says of each rung with void attempts why they were, and of clips whose bitrate
// is not what was ordered what it is.
func (c *Run) voids() (list []string) {
	for _, rung := range c.Doc.Rungs {
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
func (c *Run) longer() (list []string) {
	loads := map[float64][]string{}
	var holds []float64
	for _, rung := range c.Doc.Rungs {
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
		if len(which) == len(c.Doc.Rungs) {
			which = []string{"all rungs"}
		}
		list = append(list, fmt.Sprintf("held for %.0f s instead of %.0f s, since segments are long: %s", hold, c.Doc.Plan.HoldS, strings.Join(which, ", ")))
	}
	return list
}

// disagreements are what sensors of the same quantity said differently, once
// each, with the load it was first seen at.
func (c *Run) disagreements() (list []string) {
	seen := map[string]bool{}
	for _, rung := range c.Doc.Rungs {
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
func (c *Run) pace() []string {
	if !c.Route.Traits().SameWork {
		return nil
	}
	most, of := steadyPace, load.Load{}
	for _, rung := range c.Doc.Rungs {
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

// Worst is the attempt with the worst verdict, the first of several. There is
// at least one.
func Worst(attempts []logbook.Attempt) logbook.Attempt {
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

// Headroom is what was left on average in the smooth attempts at the ceiling, in
// percent, of the limiter of the next rung, or of what had the least left where that
// was not in use at the ceiling or is not known. It is nil where nothing is known.
func Headroom(l verdict.Limiter, attempts []logbook.Attempt) (*float64, verdict.Limiter) {
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
