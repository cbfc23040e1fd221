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
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// conclude writes the conclusions from the trials so far into the document.
func (c *Run) conclude() {
	notes := c.kind.Conclude(c)
	c.Doc.Doubts = slices.Concat(c.warned(), c.drift, c.voids(), c.disturbed(), c.pace(), c.disagreements())
	c.Doc.Notes = c.Doc.Notes[:0]
	for _, d := range c.Doc.Doubts {
		c.Doc.Notes = append(c.Doc.Notes, d.What)
	}
	c.Doc.Notes = append(c.Doc.Notes, slices.Concat(c.clips(), c.longer(), c.eye(), c.later(), notes)...)
}

// warned returns the doubts that the idle device gave, with their remedies also in a run that
// is resumed.
func (c *Run) warned() (list []verdict.Doubt) {
	for i, w := range c.Doc.Conditions.Warnings {
		d := verdict.Doubt{What: w}
		if i < len(c.Doc.Conditions.Remedies) {
			d.Remedy = c.Doc.Conditions.Remedies[i]
		}
		list = append(list, d)
	}
	return list
}

// eye returns a note on what it took to watch the screen.
func (c *Run) eye() []string {
	var most tally.Watching
	for _, rung := range c.Doc.Rungs {
		for _, a := range rung.Counted() {
			if w := a.Watching; w != nil {
				most.CPUPct, most.WidestMS, most.Looks = max(most.CPUPct, w.CPUPct), max(most.WidestMS, w.WidestMS), most.Looks+w.Looks
				most.Torn += w.Torn
			}
		}
	}
	if most.Looks == 0 {
		return nil
	}
	list := []string{fmt.Sprintf("the screen was looked at %d times, at most %.0f ms apart, which took at most %.1f %% of a core", most.Looks, most.WidestMS, most.CPUPct)}
	if most.Torn > 0 {
		list = append(list, fmt.Sprintf("%d pictures on it were torn: their upper and their lower part were of two frames", most.Torn))
	}
	return list
}

// later returns notes on the recording that shows what was shown.
func (c *Run) later() (list []string) {
	if c.Doc.Recording != "" {
		list = append(list, "frames were counted in the recording "+c.Doc.Recording)
	}
	if c.Doc.Waiting() > 0 {
		list = append(list, fmt.Sprintf("a recording of the screen judges what was played: vividstrain recount RECORDING --into %s", c.Doc.ID))
	}
	return list
}

// voids returns doubts about rungs with void attempts.
func (c *Run) voids() (list []verdict.Doubt) {
	for _, rung := range c.Doc.Rungs {
		for i := len(rung.Attempts) - 1; i >= 0; i-- {
			a := rung.Attempts[i]
			if a.Void == "" || a.Void == verdict.VoidStopped || a.Void == verdict.VoidKilled || a.Void == verdict.VoidLater {
				continue
			}
			n := 0
			for _, other := range rung.Attempts {
				if other.Void.Void() == search.Repeatable {
					n++
				}
			}
			d := verdict.Doubt{What: fmt.Sprintf("%s was not tried: %s", rung.Load, a.Reasons[0])}
			if a.Void.Void() == search.Repeatable {
				d = verdict.Doubt{What: fmt.Sprintf("an attempt at %s was void: %s", rung.Load, a.Reasons[0]), Remedy: "close other programs, and climb again"}
				if n > 1 {
					d.What = fmt.Sprintf("%d attempts at %s were void, the last one because %s", n, rung.Load, a.Reasons[0])
				}
			}
			list = append(list, d)
			break
		}
	}
	return list
}

// noticed is the share of all cores, in percent, from which other programs are reported in an
// attempt that counts.
const noticed = 10

// disturbed returns a doubt about the attempt in which other programs took most.
func (c *Run) disturbed() []verdict.Doubt {
	most, of, by := 0.0, load.Load{}, ""
	for _, rung := range c.Doc.Rungs {
		for _, a := range rung.Counted() {
			if others := a.Use[sense.OthersCPU].Mean; others > max(most, noticed) {
				most, of = others, rung.Load
				by, _, _ = a.Use.Highest(sense.OtherCPU)
			}
		}
	}
	if most == 0 {
		return nil
	}
	text := fmt.Sprintf("other programs took %.0f %% of the cores in an attempt at %s", most, of)
	if by != "" {
		text += fmt.Sprintf(", %q most", by)
	}
	return []verdict.Doubt{{What: text, Remedy: "close them, and climb again"}}
}

// clips returns sentences about clips whose bitrate is not as ordered.
func (c *Run) clips() (list []string) {
	for _, rung := range c.Doc.Rungs {
		for _, a := range rung.Attempts {
			if a.ClipBPS > 0 {
				list = append(list, fmt.Sprintf("the clip of %s has %s", rung.Load, media.BitrateText(float64(a.ClipBPS))))
				break
			}
		}
	}
	return list
}

// longer returns sentences about rungs that were held for longer than planned.
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

// disagreements returns doubts about sensors that read the same quantity differently, once each,
// with the first load.
func (c *Run) disagreements() (list []verdict.Doubt) {
	seen := map[string]bool{}
	for _, rung := range c.Doc.Rungs {
		for _, a := range rung.Attempts {
			for _, text := range a.Use.Disagreements() {
				quantity, _, _ := strings.Cut(text, " ")
				if !seen[quantity] {
					seen[quantity] = true
					list = append(list, verdict.Doubt{What: fmt.Sprintf("sensors disagree at %s: %s", rung.Load, text), Remedy: "check the meter and its unit"})
				}
			}
		}
	}
	return list
}

// steadyPace is the ratio between the processor time of two attempts at a rung from which the
// computer itself is said to have changed speed.
const steadyPace = 1.2

// pace returns a doubt about the rung whose attempts differed most in processor time per
// frame. Where frames are decoded here, the same frames take the same work, so that the
// computer's speed must have changed; servers may have done work already.
func (c *Run) pace() []verdict.Doubt {
	if c.Route == nil || !c.Route.Traits().SameWork { // there is none where a run is judged anew
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
				// Dropped frames may or may not have been decoded: only what is certain is used.
				if v := s / float64(slow.Frames.Due) / (q / float64(quick.Frames.Shown)); v > most {
					most, of = v, rung.Load
				}
			}
		}
	}
	if most == steadyPace {
		return nil
	}
	return []verdict.Doubt{{What: fmt.Sprintf("one attempt at %s took %.1f times as much CPU per frame as another: this computer's own speed changed (heat, a power mode, others on the same machine), so the ceiling may be higher", of, most),
		Remedy: "climb again, or use --repeat 5"}}
}

// Worst returns the attempt with the worst verdict, the first of several. There must be at least
// one.
func Worst(attempts []logbook.Attempt) logbook.Attempt {
	w := attempts[0]
	for _, a := range attempts[1:] {
		if a.Verdict.Worse(w.Verdict) {
			w = a
		}
	}
	return w
}

// unlimited is the free share, in percent, from which something is not in use at the ceiling and
// so does not limit it.
const unlimited = 95

// Headroom returns the mean free share, in percent, in the smooth attempts at the ceiling: of
// the limiter of the next rung, or of what has the least left where that is not in use or not
// known. It is nil where nothing is known.
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
	// A device that works ahead of its viewers is busy even with one.
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
