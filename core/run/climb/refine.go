package climb

import (
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/run"
	"vividstrain/core/search"
)

// axis is one respect in which a load between the ceiling and the next rung can differ from the
// ceiling.
type axis struct {
	by string
	// between returns loads between two, from the easier to the harder, both left out.
	between func(from, to load.Load, within float64) []load.Load
}

// axes are the respects in the order in which they are refined.
var axes = []axis{{"bitrate", bitratesBetween}, {"rate", ratesBetween}, {"size", sizesBetween}}

// bitratesBetween returns bitrates in steps of the share within which the limit is wanted, at the
// ceiling's size and rate.
func bitratesBetween(from, to load.Load, within float64) (list []load.Load) {
	l := from
	for b := float64(from.Bitrate) * (1 + within); b < float64(to.Bitrate)/(1+within/2); b *= 1 + within {
		if l.Bitrate = media.RoundBitrate(b); l.Bitrate > from.Bitrate && l.Bitrate < to.Bitrate {
			list = append(list, l)
		}
	}
	return list
}

// usualRates are the frame rates that are tried, in frames a second.
var usualRates = []int{10, 12, 15, 20, 24, 25, 30, 40, 48, 50, 60, 72, 75, 90, 100, 120}

// ratesBetween returns the usual frame rates between those of two loads, at the ceiling's size and
// bitrate.
func ratesBetween(from, to load.Load, _ float64) (list []load.Load) {
	for _, hz := range usualRates {
		if l := from; float64(hz) > 1.01*from.Rate.Hz() && float64(hz) < 0.99*to.Rate.Hz() {
			l.Rate = media.Rate{Num: hz, Den: 1}
			list = append(list, l)
		}
	}
	return list
}

// usualHeights are the heights of pictures that are tried, at 16:9.
var usualHeights = []int{144, 160, 240, 288, 360, 432, 480, 540, 576, 648, 720, 810, 900, 1080, 1260, 1440, 1620, 1800, 2160}

// sizesBetween returns the usual sizes between those of two loads, at the ceiling's rate and
// bitrate.
func sizesBetween(from, to load.Load, _ float64) (list []load.Load) {
	for _, h := range usualHeights {
		if l := from; h > from.Height && h < to.Height {
			l.Width, l.Height = (h*16/9+1)&^1, h
			list = append(list, l)
		}
	}
	return list
}

// refinedName is the column of the rungs that refine the answer of another.
func refinedName(column string) string { return column + ", refined" }

// nextRefined returns the next rung between a ceiling and the rung above it: the middle of those
// that may still be the limit in one respect. The last one that was smooth is tried twice.
func (k *kind) nextRefined(r *run.Run) (rung int, why search.Purpose, more bool) {
	ceilings, _ := k.ceilings(r)
	for i, c := range ceilings {
		if c.Rung < 0 || c.Next < 0 {
			continue
		}
		for _, a := range axes {
			candidates := a.between(r.Doc.Rungs[c.Rung].Load, r.Doc.Rungs[c.Next].Load, k.refine)
			low, high := k.limits(r, candidates)
			if high-low > 1 {
				return k.refinedRung(r, i, candidates[(low+high)/2]), search.Explore, true
			}
			if low >= 0 {
				if at := rungWith(r.Doc, candidates[low]); tries(r, at) == 1 {
					return at, search.Confirm, true
				}
			}
		}
	}
	return 0, "", false
}

// limits returns the hardest of the candidates that was smooth, and the easiest above it that was
// not, or could not be tried; -1 and their number where there are none.
func (k *kind) limits(r *run.Run, candidates []load.Load) (low, high int) {
	low, high = -1, len(candidates)
	for i, l := range candidates {
		at := rungWith(r.Doc, l)
		if at < 0 {
			continue
		}
		var smooth []bool
		voids := 0
		for _, t := range r.Trials {
			switch {
			case t.Rung != at:
			case t.Void == search.Counts:
				smooth = append(smooth, t.Smooth)
			case t.Void == search.Permanent:
				voids = search.MaxVoid
			default:
				voids++
			}
		}
		switch {
		case len(smooth) == 0 && voids < search.MaxVoid:
		case len(smooth) > 0 && search.Majority(smooth):
			low = i
		default:
			high = min(high, i)
		}
	}
	return min(low, high-1), high
}

func tries(r *run.Run, rung int) (n int) {
	for _, t := range r.Trials {
		if t.Rung == rung {
			n++
		}
	}
	return n
}

// rungWith returns the rung with a load, or -1.
func rungWith(d *logbook.Document, l load.Load) int {
	for i := range d.Rungs {
		if d.Rungs[i].Load.String() == l.String() && d.Rungs[i].File == "" {
			return i
		}
	}
	return -1
}

// refinedRung returns the rung with a load that refines a column, which may become a new one.
func (k *kind) refinedRung(r *run.Run, column int, l load.Load) int {
	if at := rungWith(r.Doc, l); at >= 0 {
		return at
	}
	l.File = ""
	name := refinedName(k.ladder.Columns[column].Name)
	order := 1
	for i := range r.Doc.Rungs {
		if r.Doc.Rungs[i].Column == name {
			order++
		}
	}
	r.Doc.Rungs = append(r.Doc.Rungs, logbook.Rung{Load: l, Column: name, Order: order, Attempts: []logbook.Attempt{}})
	return len(r.Doc.Rungs) - 1
}

// refined returns how far the device goes beyond a column's ceiling in each respect.
func (k *kind) refined(r *run.Run, column int) (list []logbook.Refined) {
	if k.refine == 0 {
		return nil
	}
	ceilings, _ := k.ceilings(r)
	c := ceilings[column]
	if c.Rung < 0 || c.Next < 0 {
		return nil
	}
	ceiling, next := r.Doc.Rungs[c.Rung].Load, r.Doc.Rungs[c.Next].Load
	for _, a := range axes {
		candidates := a.between(ceiling, next, k.refine)
		low, high := k.limits(r, candidates)
		if len(candidates) == 0 || high-low > 1 { // not found yet
			continue
		}
		one := logbook.Refined{By: a.by, Load: ceiling}
		if low >= 0 {
			one.Load = candidates[low]
		}
		if high < len(candidates) {
			one.Next = &candidates[high]
		}
		list = append(list, one)
	}
	return list
}
