// Package search chooses the next rung from the verdicts so far. Strategies are
// pure functions of what has been tried, so an interrupted run goes on by
// asking again.
package search

// Trial is one finished attempt at a rung.
type Trial struct {
	Rung   int // place in the ladder, counted through all columns
	Smooth bool
}

// Purpose says why a rung is tried.
type Purpose string

// The purposes.
const (
	Explore Purpose = "explore" // for the first time
	Confirm Purpose = "confirm" // the ceiling, or the rung above it, once more
	Decide  Purpose = "decide"  // a third time, because two attempts disagree
)

// Climb goes up each column until two of its rungs were not smooth, then
// confirms the column's ceiling.
type Climb struct {
	Columns []int // number of rungs in each column
	All     bool  // try every rung, even behind two that were not smooth
}

// Next is the rung to try next and why; false when all is known.
func (c Climb) Next(trials []Trial) (rung int, why Purpose, more bool) {
	first := 0
	for _, n := range c.Columns {
		column := newColumn(first, n, trials)
		if rung, why, more := column.next(c.All); more {
			return rung, why, true
		}
		first += n
	}
	return 0, "", false
}

// Ceilings returns for each column the highest rung that is smooth with all
// rungs below it, or -1, and whether it is confirmed.
func (c Climb) Ceilings(trials []Trial) []Ceiling {
	ceilings := make([]Ceiling, len(c.Columns))
	first := 0
	for i, n := range c.Columns {
		column := newColumn(first, n, trials)
		top := column.top()
		ceilings[i] = Ceiling{Rung: -1, Next: -1, Confirmed: column.settled(top) && column.settled(top+1)}
		if top >= 0 {
			ceilings[i].Rung = first + top
		}
		if top+1 < n && len(column.tried[top+1]) > 0 {
			ceilings[i].Next = first + top + 1
		}
		first += n
	}
	return ceilings
}

// Ceiling is the result of one column.
type Ceiling struct {
	Rung      int  // -1: no rung is smooth
	Next      int  // the rung above, if it was tried and is not smooth; else -1
	Confirmed bool // by a second attempt at both
}

// OutOfOrder lists the rungs that are not smooth though a harder one of their
// column is.
func (c Climb) OutOfOrder(trials []Trial) (rungs []int) {
	first := 0
	for _, n := range c.Columns {
		column := newColumn(first, n, trials)
		highest := -1
		for i := range n {
			if len(column.tried[i]) > 0 && column.smooth(i) {
				highest = i
			}
		}
		for i := range max(highest, 0) {
			if len(column.tried[i]) > 0 && !column.smooth(i) {
				rungs = append(rungs, first+i)
			}
		}
		first += n
	}
	return rungs
}

// column is the trials of one column.
type column struct {
	first int
	tried [][]bool // for each rung whether each attempt was smooth
}

func newColumn(first, n int, trials []Trial) column {
	c := column{first: first, tried: make([][]bool, n)}
	for _, t := range trials {
		if i := t.Rung - first; i >= 0 && i < n {
			c.tried[i] = append(c.tried[i], t.Smooth)
		}
	}
	return c
}

// smooth tells what most attempts at rung i say.
func (c column) smooth(i int) bool { return Majority(c.tried[i]) }

// Majority tells whether most attempts at a rung were smooth. Of two that
// disagree, which a third has yet to decide, the first counts.
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

// top is the highest rung that is smooth with all below it, or -1.
func (c column) top() int {
	for i, tries := range c.tried {
		if len(tries) == 0 || !c.smooth(i) {
			return i - 1
		}
	}
	return len(c.tried) - 1
}

// settled tells whether rung i has been tried often enough to be sure. There is
// nothing to be sure of beyond the ends of the column.
func (c column) settled(i int) bool {
	if i < 0 || i >= len(c.tried) {
		return true
	}
	t := c.tried[i]
	return len(t) >= 3 || len(t) == 2 && t[0] == t[1]
}

func (c column) next(all bool) (rung int, why Purpose, more bool) {
	bad := 0
	for i, tries := range c.tried {
		if len(tries) == 0 {
			return c.first + i, Explore, true
		}
		if !c.smooth(i) {
			bad++
		}
		if bad == 2 && !all {
			break
		}
	}
	top := c.top()
	for _, i := range []int{top, top + 1} {
		if c.settled(i) {
			continue
		}
		switch len(c.tried[i]) {
		case 0: // it was beyond the end of the way up until the ceiling rose
			return c.first + i, Explore, true
		case 1:
			return c.first + i, Confirm, true
		}
		return c.first + i, Decide, true
	}
	return 0, "", false
}
