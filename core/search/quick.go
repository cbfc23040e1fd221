package search

// Quick finds the ceilings of columns whose rungs are in order with few attempts: it tries the
// easiest rung, then what was predicted and its neighbours, and bisects where the prediction is
// poor. What lies between is not tried.
type Quick struct{ Columns []int }

// maxGuesses is how many rungs of a column are chosen by the prediction before it is bisected.
const maxGuesses = 4

// Next returns the rung to try next and why; false when the result is known. predicted returns the
// expected ceiling of a column as a place in it, or -1 where there is no prediction yet.
func (q Quick) Next(trials []Trial, predicted func(column int) int) (rung int, why Purpose, more bool) {
	for i, column := range (Climb{Columns: q.Columns}).columns(trials) {
		if rung, why, more := column.nextQuick(func() int { return predicted(i) }); more {
			return rung, why, true
		}
	}
	return 0, "", false
}

// bracket returns the highest smooth rung that was tried with none below it that was not, and the
// lowest that was not smooth above; -1 and the number of rungs where there are none. tried is how
// many rungs were tried.
func (c column) bracket() (low, high, tried int) {
	low, high = -1, len(c.rungs)
	for i := range c.rungs {
		r := &c.rungs[i]
		switch {
		case len(r.smooth) == 0:
			continue
		case Majority(r.smooth):
			if i < high {
				low = i
			}
		case i < high:
			high = i
		}
		tried++
	}
	return low, high, tried
}

// nextQuick chooses the next rung of a column.
func (c column) nextQuick(predicted func() int) (rung int, why Purpose, more bool) {
	low, high, tried := c.bracket()
	var open []int // untried rungs that are still worth trying, between the ends
	for i := low + 1; i < high; i++ {
		if r := &c.rungs[i]; len(r.smooth) == 0 && !r.lost() {
			open = append(open, i)
		}
	}
	if len(open) > 0 {
		next := open[len(open)/2]
		if tried == 0 {
			next = open[0] // what is easy tells what the rest costs
		} else if at := predicted(); at >= 0 && tried <= maxGuesses {
			next = nearest(open, at, low)
		}
		return c.first + next, Explore, true
	}
	return c.again(low, high)
}

// nearest returns the open rung that is nearest to the expected ceiling; the one above it if the
// expected one was smooth.
func nearest(open []int, at, low int) int {
	if low >= at {
		return open[0]
	}
	best := open[0]
	for _, i := range open {
		if abs(i-at) < abs(best-at) {
			best = i
		}
	}
	return best
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// Ahead returns at most so many rungs as are tried yet if the prediction is poor: a bisection of each
// column.
func (q Quick) Ahead(trials []Trial) (rungs []int) {
	list := append([]Trial(nil), trials...)
	for {
		rung, _, more := q.Next(list, func(int) int { return -1 })
		if !more {
			return rungs
		}
		rungs, list = append(rungs, rung), append(list, Trial{Rung: rung, Smooth: true})
	}
}

// Ceilings returns the result of each column, and the rungs below each ceiling that were passed
// over.
func (q Quick) Ceilings(trials []Trial) (ceilings []Ceiling, skipped [][]int) {
	c := Climb{Columns: q.Columns}
	columns := c.columns(trials)
	filled := append([]Trial(nil), trials...)
	skipped = make([][]int, len(columns))
	for i, column := range columns {
		low, _, _ := column.bracket()
		for k := range max(low, 0) {
			if r := &column.rungs[k]; len(r.smooth) == 0 && !r.lost() {
				skipped[i] = append(skipped[i], column.first+k)
				filled = append(filled, Trial{Rung: column.first + k, Smooth: true})
			}
		}
	}
	return c.Ceilings(filled), skipped
}
