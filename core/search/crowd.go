package search

import "slices"

// Crowd searches the highest number of streams that is smooth: it doubles the number until it is
// not smooth, narrows the interval, and confirms the result.
type Crowd struct {
	Most int // the highest number to try
}

// Counted is one finished attempt with a number of streams.
type Counted struct {
	Number int
	Smooth bool
	Void   Void
}

// coarse is the reciprocal of the precision of the search: it stops when the bounds differ by at
// most this share of a number.
const coarse = 20 // one twentieth

// maxLost is how many numbers may have only void attempts before the search gives up.
const maxLost = 3

// Next returns the number to try next and why; false when the result is known, or when attempts
// at several numbers were repeatedly void.
func (c Crowd) Next(trials []Counted) (number int, why Purpose, more bool) {
	numbers := byNumber(trials)
	lost := 0
	for _, t := range numbers {
		if t.permanent {
			return 0, "", false
		}
		if len(t.smooth) == 0 && t.lost() {
			lost++
		}
	}
	good, bad := c.Bounds(trials)
	next := 0
	switch {
	case bad == 0 && good < c.Most:
		next = min(max(1, 2*good), c.Most)
	case bad-good > 1+good/coarse:
		next = (good + bad) / 2
	}
	if next > 0 {
		for end := max(bad, c.Most+1); next < end && lost < maxLost; next++ {
			if t := numbers[next]; t == nil || !t.lost() {
				return next, Explore, true
			}
		}
		return 0, "", false
	}
	for _, n := range []int{good, bad} {
		if t := numbers[n]; t != nil {
			if why, more := t.again(); more {
				return n, why, true
			}
		}
	}
	return 0, "", false
}

// Ahead returns the numbers that are still tried if those up to fits are smooth and no others.
func (c Crowd) Ahead(trials []Counted, fits int) (numbers []int) {
	trials = slices.Clone(trials)
	for {
		number, _, more := c.Next(trials)
		if !more {
			return numbers
		}
		numbers, trials = append(numbers, number), append(trials, Counted{Number: number, Smooth: number <= fits})
	}
}

// Bounds returns the highest number that is smooth, as are all tried numbers below it, and the
// lowest number above it that is not; each is 0 where there is none.
func (c Crowd) Bounds(trials []Counted) (good, bad int) {
	numbers := byNumber(trials)
	for n, t := range numbers {
		if len(t.smooth) > 0 && !Majority(t.smooth) && (bad == 0 || n < bad) {
			bad = n
		}
	}
	for n, t := range numbers {
		if len(t.smooth) > 0 && n > good && (bad == 0 || n < bad) {
			good = n
		}
	}
	return good, bad
}

// Confirmed reports whether both bounds were tried often enough to be sure.
func (c Crowd) Confirmed(trials []Counted) bool {
	numbers := byNumber(trials)
	good, bad := c.Bounds(trials)
	for _, n := range []int{good, bad} {
		if t := numbers[n]; n > 0 && !t.settled() {
			return false
		}
	}
	_, _, more := c.Next(trials)
	return !more && good+bad > 0 && (bad > 0 && bad-good <= 1+good/coarse || bad == 0 && good == c.Most)
}

// byNumber groups the trials by number of streams.
func byNumber(trials []Counted) map[int]*tries {
	numbers := map[int]*tries{}
	for _, t := range trials {
		if numbers[t.Number] == nil {
			numbers[t.Number] = &tries{}
		}
		numbers[t.Number].add(t.Smooth, t.Void)
	}
	return numbers
}
