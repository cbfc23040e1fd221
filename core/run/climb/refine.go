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
			low, high := r.Limits(candidates)
			if high-low > 1 {
				return r.AddRung(refinedName(k.ladder.Columns[i].Name), candidates[(low+high)/2]), search.Explore, true
			}
			if low >= 0 {
				if at := r.RungWith(candidates[low]); tries(r, at) == 1 {
					return at, search.Confirm, true
				}
			}
		}
	}
	return 0, "", false
}

func tries(r *run.Run, rung int) (n int) {
	for _, t := range r.Trials {
		if t.Rung == rung {
			n++
		}
	}
	return n
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
		low, high := r.Limits(candidates)
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
