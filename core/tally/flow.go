package tally

import "time"

// flow measures the rate at which media arrive. Time counts only while something is being
// fetched. Media often come in bursts of one segment, and how many bursts fall into a window is
// chance; so the rate is measured from one arrival to another, not between the edges of the
// window.
type flow struct {
	open     time.Duration // time in which something was being fetched
	received time.Duration // media
	events   int           // arrivals

	from, to   point         // first and last arrival that are used
	first      time.Duration // when the first one was
	longest    time.Duration // between two arrivals
	burst      time.Duration // media received since the last pause
	mostBursts time.Duration // largest burst
}

// point is a place in the flow.
type point struct{ at, media time.Duration }

// add counts an arrival.
func (f *flow) add(media time.Duration) {
	f.received += media
	f.events++
	now := point{f.open, f.received}
	if f.events == 1 {
		f.from, f.to, f.first, f.burst = now, now, now.at, media
		return
	}
	gap := now.at - f.to.at
	// What came before the first pause is the end of a burst that began before the window: the
	// measurement starts after it.
	if gap > 2*f.longest && f.to.at-f.first < gap/2 {
		f.from = f.to
	}
	if 2*gap > f.longest {
		f.burst = 0
	}
	f.burst += media
	f.mostBursts = max(f.mostBursts, f.burst)
	f.longest = max(f.longest, gap)
	f.to = now
}

// take subtracts media that were counted but did not arrive.
func (f *flow) take(media time.Duration) {
	media = min(media, f.received)
	f.received -= media
	f.to.media = max(f.from.media, f.to.media-media)
}

// rate returns media seconds per second of fetching, and its uncertainty to both sides; false
// where too little was fetched to tell.
func (f *flow) rate() (rate, off float64, known bool) {
	if f.events < 2 || f.to.at <= f.from.at {
		return f.rough()
	}
	elapsed := f.to.at - f.from.at
	// Silence at the end counts only as far as it exceeds the longest pause before.
	elapsed += max(0, f.open-f.to.at-f.longest)
	rate = (f.to.media - f.from.media).Seconds() / elapsed.Seconds()
	// A burst more or less could have been in the window.
	off = min(rate, min(f.mostBursts, f.received).Seconds()/elapsed.Seconds()*float64(f.longest)/float64(elapsed))
	return rate, off, true
}

// rough returns the rate where there was at most one arrival. It is known to be low if it is low
// even with the longer of the pauses around that arrival.
func (f *flow) rough() (rate, off float64, known bool) {
	const silence = 2 * time.Second // without anything
	switch {
	case f.events == 0:
		return 0, 0, f.open >= silence
	case f.received < max(f.first, f.open-f.to.at):
		rate = f.received.Seconds() / f.open.Seconds()
		return rate, rate, true
	}
	return 0, 0, false
}
