package search

// Crowd looks for the highest number of streams that is smooth: it doubles the
// number until it is not, closes in, and then confirms what it found.
type Crowd struct {
	Most int // the highest number to try
}

// Counted is one finished attempt with a number of streams.
type Counted struct {
	Number int
	Smooth bool
}

// coarse is the share of a number within which it is not looked any closer.
const coarse = 20 // one twentieth

// Next is the number to try next and why; false when all is known.
func (c Crowd) Next(trials []Counted) (number int, why Purpose, more bool) {
	good, bad := c.Bounds(trials)
	switch {
	case bad == 0 && good < c.Most:
		return min(max(1, 2*good), c.Most), Explore, true
	case bad-good > 1+good/coarse:
		return (good + bad) / 2, Explore, true
	}
	for _, n := range []int{good, bad} {
		tried := attempts(trials, n)
		if n == 0 || len(tried) >= 3 || len(tried) == 2 && tried[0] == tried[1] {
			continue
		}
		if len(tried) == 1 {
			return n, Confirm, true
		}
		return n, Decide, true
	}
	return 0, "", false
}

// Bounds are the highest number that is smooth with all tried below it, and the
// lowest above it that is not; each is 0 where there is none.
func (c Crowd) Bounds(trials []Counted) (good, bad int) {
	for _, t := range trials {
		if (bad == 0 || t.Number < bad) && !Majority(attempts(trials, t.Number)) {
			bad = t.Number
		}
	}
	for _, t := range trials {
		if t.Number > good && (bad == 0 || t.Number < bad) {
			good = t.Number
		}
	}
	return good, bad
}

// Confirmed tells whether the bounds were tried often enough to be sure.
func (c Crowd) Confirmed(trials []Counted) bool {
	_, _, more := c.Next(trials)
	return !more
}

// attempts lists whether each attempt with a number was smooth.
func attempts(trials []Counted, number int) (list []bool) {
	for _, t := range trials {
		if t.Number == number {
			list = append(list, t.Smooth)
		}
	}
	return list
}
