// Package search chooses the next rung from the verdicts so far. Strategies are pure functions
// of the trials, so that an interrupted run continues by asking again.
package search

import "slices"

// Trial is one finished attempt at a rung.
type Trial struct {
	Rung   int // place in the ladder, counted through all columns
	Smooth bool
	Choppy bool // not smooth by far, though it was played
	// Void marks attempts that say nothing about the device and count for neither side.
	Void Void
}

// Void states whether an attempt counts and, if not, whether another may.
type Void int

// The kinds of void attempts.
const (
	Counts      Void = iota // it is not void
	Repeatable              // void, but another attempt may succeed; at most MaxVoid are made
	Interrupted             // void because the run was stopped; any number of others may follow
	Permanent               // void, as any other attempt would be: the rung has no clip, or is judged later
)

// MaxVoid is how many repeatable void attempts a rung gets.
const MaxVoid = 3

// Purpose is why a rung is tried.
type Purpose string

// The purposes.
const (
	Explore Purpose = "explore" // for the first time
	Confirm Purpose = "confirm" // a second attempt at the ceiling or the rung above it
	Decide  Purpose = "decide"  // a third attempt, because two disagree
)

// Climb goes up each column until two of its rungs were not smooth, then
// confirms the column's ceiling. Rungs at which no attempt counts are passed over, and so are
// those that ask for more of what was choppy.
type Climb struct {
	Columns []int // number of rungs in each column
	// More tells which rungs ask for the same as the rung below and more frames, bits or streams of
	// it, so that they are no better. Nil: none does.
	More []bool
	All  bool // try every rung, even after two that were not smooth
	Once bool // no second attempts: ceilings are not confirmed
}

// Next returns the rung to try next and why; false when the result is known.
func (c Climb) Next(trials []Trial) (rung int, why Purpose, more bool) {
	for _, column := range c.columns(trials) {
		if rung, more := c.explore(column); more {
			return rung, Explore, true
		}
		if c.Once {
			continue
		}
		if rung, why, more := column.again(column.top()); more {
			return rung, why, true
		}
	}
	return 0, "", false
}

// Ahead returns the rungs that are still tried if every one of them is smooth, in order and with
// second attempts: the most that there is to do.
func (c Climb) Ahead(trials []Trial) (rungs []int) {
	trials = slices.Clone(trials)
	for {
		rung, _, more := c.Next(trials)
		if !more {
			return rungs
		}
		rungs, trials = append(rungs, rung), append(trials, Trial{Rung: rung, Smooth: true})
	}
}

// Ceiling is the result of a column.
type Ceiling struct {
	Rung      int  // highest rung that is smooth, as are all triable rungs below it; -1: none
	Next      int  // the rung above, if it was tried and is not smooth; else -1
	Confirmed bool // by second attempts at Rung and Next, with no untried rung below
	Last      bool // no rung of the column above Rung is left to try
	// Untried are the rungs below the ceiling, or between it and Next, that had no attempt that
	// counts.
	Untried []int
}

// Ceilings returns the result of each column.
func (c Climb) Ceilings(trials []Trial) []Ceiling {
	ceilings := make([]Ceiling, len(c.Columns))
	for i, column := range c.columns(trials) {
		top, next := column.top()
		result := Ceiling{Rung: -1, Next: -1, Confirmed: column.settled(top) && column.settled(next), Last: next >= len(column.rungs)}
		if top >= 0 {
			result.Rung = column.first + top
		}
		if next < len(column.rungs) && len(column.rungs[next].smooth) > 0 {
			result.Next = column.first + next
		}
		for k := range min(next, len(column.rungs)) {
			if r := &column.rungs[k]; len(r.smooth) == 0 && r.lost() {
				result.Untried = append(result.Untried, column.first+k)
			}
		}
		result.Confirmed = result.Confirmed && len(result.Untried) == 0
		ceilings[i] = result
	}
	return ceilings
}

// OutOfOrder lists the rungs that are not smooth though a harder one of their
// column is.
func (c Climb) OutOfOrder(trials []Trial) (rungs []int) {
	for _, column := range c.columns(trials) {
		highest := -1
		for i, r := range column.rungs {
			if len(r.smooth) > 0 && Majority(r.smooth) {
				highest = i
			}
		}
		for i := range max(highest, 0) {
			if r := &column.rungs[i]; len(r.smooth) > 0 && !Majority(r.smooth) {
				rungs = append(rungs, column.first+i)
			}
		}
	}
	return rungs
}

// tries summarises the attempts at one rung, or at one number of streams.
type tries struct {
	smooth    []bool // result of each attempt that counts
	choppy    int    // how many of them were choppy
	void      int    // repeatable void attempts
	permanent bool
}

func (t *tries) add(smooth bool, void Void) {
	switch void {
	case Counts:
		t.smooth = append(t.smooth, smooth)
	case Repeatable:
		t.void++
	case Permanent:
		t.permanent = true
	}
}

// lost reports whether no further attempt is worth making.
func (t *tries) lost() bool { return t.permanent || t.void >= MaxVoid }

// settled reports whether there were enough attempts to be sure.
func (t *tries) settled() bool {
	return len(t.smooth) >= 3 || len(t.smooth) == 2 && t.smooth[0] == t.smooth[1]
}

// again returns why another attempt should be made; false if none should.
func (t *tries) again() (why Purpose, more bool) {
	switch {
	case t.lost() || t.settled():
		return "", false
	case len(t.smooth) == 0:
		return Explore, true
	case len(t.smooth) == 1:
		return Confirm, true
	}
	return Decide, true
}

// Majority reports whether most attempts at a rung were smooth. Of two that disagree, the first
// counts until a third decides.
func Majority(attempts []bool) bool {
	votes := 0
	for i, smooth := range attempts {
		weight := 2
		if i == 0 {
			weight = 3
		}
		if !smooth {
			weight = -weight
		}
		votes += weight
	}
	return votes > 0
}

// column holds the trials of one column, whose first rung has number first.
type column struct {
	first int
	rungs []tries
}

func (c Climb) columns(trials []Trial) []column {
	columns := make([]column, len(c.Columns))
	first := 0
	for i, n := range c.Columns {
		columns[i] = column{first, make([]tries, n)}
		for _, t := range trials {
			if k := t.Rung - first; k >= 0 && k < n {
				columns[i].rungs[k].add(t.Smooth, t.Void)
				if t.Choppy && t.Void == Counts {
					columns[i].rungs[k].choppy++
				}
			}
		}
		first += n
	}
	return columns
}

// top returns the highest rung that is smooth, as are all triable rungs below it, or -1, and the
// next rung above it that can be or was tried.
func (c column) top() (top, next int) {
	top = -1
	for i := range c.rungs {
		switch r := &c.rungs[i]; {
		case len(r.smooth) == 0 && r.lost():
		case len(r.smooth) == 0 || !Majority(r.smooth):
			return top, i
		default:
			top = i
		}
	}
	return top, len(c.rungs)
}

// settled reports whether rung i has been tried often enough to be sure. Outside the column
// there is nothing to be sure of.
func (c column) settled(i int) bool { return i < 0 || i >= len(c.rungs) || c.rungs[i].settled() }

// explore returns the lowest rung of a column that was not tried and is worth it; false after two
// that are not smooth, unless all are wanted.
func (c Climb) explore(column column) (rung int, more bool) {
	bad, choppy := 0, false
	for i := range column.rungs {
		r, rung := &column.rungs[i], column.first+i
		tried := len(r.smooth) > 0
		hopeless := !tried && choppy && !c.All && rung < len(c.More) && c.More[rung]
		if !tried && !r.lost() && !hopeless {
			return rung, true
		}
		choppy = hopeless || tried && r.choppy == len(r.smooth)
		if hopeless || tried && !Majority(r.smooth) {
			bad++
		}
		if bad == 2 && !c.All {
			break
		}
	}
	return 0, false
}

// again returns the first of some places in the column that another attempt should be made at, and why. Places outside
// the column are passed over.
func (c column) again(places ...int) (rung int, why Purpose, more bool) {
	for _, i := range places {
		if i < 0 || i >= len(c.rungs) {
			continue
		}
		if why, more := c.rungs[i].again(); more {
			return c.first + i, why, true
		}
	}
	return 0, "", false
}
