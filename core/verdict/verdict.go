// Package verdict judges an attempt: how smoothly it played, and what ran out.
package verdict

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"

	"vividstrain/core/tally"
)

// Grade is a verdict in one word.
type Grade string

// The grades, from the best to the worst.
const (
	Smooth   Grade = "smooth"
	Marginal Grade = "marginal" // fine for a trailer, not for a film
	Choppy   Grade = "choppy"   // worse, but it kept going
	Failed   Grade = "failed"   // did not start, refused, stopped, died, hung or decoded wrongly

	// Void is no grade: the attempt says nothing about the device.
	Void Grade = "void"
)

var grades = []Grade{Smooth, Marginal, Choppy, Failed}

// Worse reports whether g is a worse grade than other; void is better than any.
func (g Grade) Worse(other Grade) bool {
	return slices.Index(grades, g) > slices.Index(grades, other)
}

// Limits are what a grade allows in the steady window.
type Limits struct {
	DroppedPct  float64 `json:"dropped_pct"`   // of the frames due, at most
	FreezeMS    float64 `json:"freeze_ms"`     // longest freeze, at most
	Speed       float64 `json:"speed"`         // at least
	Stalls      int     `json:"stalls"`        // at most
	StallS      float64 `json:"stall_s"`       // seconds stalled in all, at most
	BuildRate   float64 `json:"build_rate"`    // at least
	StartDelayS float64 `json:"start_delay_s"` // at most; a start later than marginal allows is failed
}

// Criteria are the limits of the two good grades.
type Criteria struct {
	Smooth   Limits `json:"smooth"`
	Marginal Limits `json:"marginal"`
}

// Default returns the criteria of docs/method.md.
func Default() Criteria {
	return Criteria{
		Smooth:   Limits{DroppedPct: 0.2, FreezeMS: 100, Speed: 0.995, BuildRate: 1.05, StartDelayS: 10},
		Marginal: Limits{DroppedPct: 2, FreezeMS: 500, Speed: 0.97, Stalls: 1, StallS: 1, BuildRate: 1, StartDelayS: 10},
	}
}

// Set changes one criterion by its name, like "smooth.dropped_pct".
func (c *Criteria) Set(name string, value float64) error {
	grade, limit, _ := strings.Cut(name, ".")
	var limits *Limits
	switch Grade(grade) {
	case Smooth:
		limits = &c.Smooth
	case Marginal:
		limits = &c.Marginal
	default:
		return fmt.Errorf("unknown criterion %q; criteria begin with \"smooth.\" or \"marginal.\"", name)
	}
	v, known := reflect.ValueOf(limits).Elem(), []string{}
	for i := range v.NumField() {
		field := v.Type().Field(i).Tag.Get("json")
		if field != limit {
			known = append(known, field)
			continue
		}
		if !(value >= 0) || math.IsInf(value, 1) {
			return fmt.Errorf("the criterion %s is a number from 0 on, not %g", name, value)
		}
		if v.Field(i).CanInt() && value != math.Trunc(value) {
			return fmt.Errorf("the criterion %s is a whole number, not %g", name, value)
		}
		if v.Field(i).CanInt() {
			v.Field(i).SetInt(int64(value))
		} else {
			v.Field(i).SetFloat(value)
		}
		return nil
	}
	return fmt.Errorf("unknown criterion %q; of %s there are %s", name, grade, strings.Join(known, ", "))
}

// Judge grades one stream by its steady window and, where media arrive ahead, by its buffer.
// What is not known is not judged, and the reasons say so. They are whole phrases, the worst
// first.
func (c Criteria) Judge(t tally.Tally) (Grade, []string) {
	if reason := c.failure(t); reason != "" {
		return Failed, []string{reason}
	}
	broken := c.Smooth.broken(t, 0)
	if len(broken) == 0 {
		return Smooth, evidence(t)
	}
	grade := Marginal
	if worse := c.Marginal.broken(t, 1); len(worse) > 0 {
		grade, broken = Choppy, worse
	}
	if t.Steady() == nil {
		broken = append(broken, notCounted)
	}
	return grade, broken
}

// notCounted states what a verdict was not based on.
const notCounted = "frames were not counted"

// failure returns why a stream did not play at all, "" if it did.
func (c Criteria) failure(t tally.Tally) string {
	f, b := t.Steady(), t.Buffer
	switch {
	case t.StartDelayS != nil && *t.StartDelayS > c.Marginal.StartDelayS:
		return fmt.Sprintf("it did not start within %g s", c.Marginal.StartDelayS)
	case f == nil && t.Speed != nil && *t.Speed <= 0:
		return "it did not move"
	case f == nil:
		return ""
	case f.Wrong > 0:
		return fmt.Sprintf("%d of %d frames showed a wrong picture", f.Wrong, f.Due)
	case f.Due == 0 && b != nil && b.StallS > 0:
		return "it stalled all through the steady window"
	case f.Due == 0:
		return "no frame was due in the steady window"
	case f.Shown == 0:
		return fmt.Sprintf("none of the %d frames due was shown", f.Due)
	}
	return ""
}

// evidence returns what a smooth verdict was based on.
func evidence(t tally.Tally) (reasons []string) {
	if f := t.Steady(); f != nil {
		reasons = append(reasons, fmt.Sprintf("%d of %d frames dropped", f.Dropped, f.Due)+told(f))
	} else if t.Speed != nil {
		reasons = append(reasons, fmt.Sprintf("played at %.3g of normal speed", *t.Speed), notCounted)
	} else {
		reasons = append(reasons, "it played to its end", notCounted)
	}
	if t.Buffer != nil {
		reasons = append(reasons, fmt.Sprintf("no stall, at least %.1f s buffered", t.Buffer.MinLeadS))
	}
	return reasons
}

// told says what the player itself counts, where that differs from what was counted.
func told(f *tally.Frames) (text string) {
	if f.Unread > 0 {
		text = fmt.Sprintf("; up to %d more while nobody looked", f.Unread)
	}
	if f.Told == nil || f.Told.Dropped == f.Dropped {
		return text
	}
	return text + fmt.Sprintf("; the player itself counts %d", f.Told.Dropped)
}

// alwaysAllowed is how many frames may be dropped whatever the limit: a single one says little
// about the device.
const alwaysAllowed = 1

// broken returns the limits that an account exceeds. favour, 0 to 1, is how much of its
// uncertainty is added to a build rate: what might do for a trailer is not called choppy.
func (l Limits) broken(t tally.Tally, favour float64) (reasons []string) {
	add := func(broken bool, format string, args ...any) {
		if broken {
			reasons = append(reasons, fmt.Sprintf(format, args...))
		}
	}
	speed := t.Speed
	if f := t.Steady(); f != nil {
		add(f.Dropped > alwaysAllowed && f.DroppedPct() > l.DroppedPct, "%d of %d frames dropped (%.2g %%, allowed %g %%)", f.Dropped, f.Due, f.DroppedPct(), l.DroppedPct)
		if n := len(reasons); n > 0 {
			reasons[n-1] += told(f)
		}
		speed = &f.Speed
	}
	if speed != nil {
		add(*speed < l.Speed, "played at %.3g of normal speed (allowed %g)", *speed, l.Speed)
	}
	if f := t.Steady(); f != nil {
		add(f.Freezes > 0 && f.LongestFreezeMS > l.FreezeMS, "a freeze of %.0f ms (allowed %g ms)", f.LongestFreezeMS, l.FreezeMS)
		add(f.Damaged > 0, "%d of %d frames could not be decoded completely", f.Damaged, f.Due)
	}
	if b := t.Buffer; b != nil {
		add(b.Stalls > l.Stalls || b.StallS > l.StallS, "%s of %s in all (allowed %d of %g s)", stalls(b.Stalls), Brief(b.StallS), l.Stalls, l.StallS)
		if rate := b.BuildRate; rate != nil {
			add(*rate+favour*b.BuildRateError < l.BuildRate, "media arrived at %s of real time (allowed %g)", Uncertain(*rate, b.BuildRateError), l.BuildRate)
		}
	}
	if start := t.StartDelayS; start != nil {
		add(*start > l.StartDelayS, "it started after %.1f s (allowed %g s)", *start, l.StartDelayS)
	}
	return reasons
}

func stalls(n int) string {
	if n == 1 {
		return "1 stall"
	}
	return fmt.Sprintf("%d stalls", n)
}

// Brief formats a time in seconds with one decimal, one under a tenth in milliseconds.
func Brief(seconds float64) string {
	switch {
	case seconds < 0.001:
		return "under 1 ms"
	case seconds < 0.1:
		return fmt.Sprintf("%.0f ms", 1000*seconds)
	}
	return fmt.Sprintf("%.1f s", seconds)
}

// Uncertain formats a value with two decimals and, unless negligible, its uncertainty.
func Uncertain(value, off float64) string {
	if off < 0.005 {
		return fmt.Sprintf("%.2f", value)
	}
	return fmt.Sprintf("%.2f±%.2f", value, off)
}
