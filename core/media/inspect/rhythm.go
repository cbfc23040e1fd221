package inspect

import (
	"math"
	"slices"

	"vividstrain/core/media"
)

// reordered is how far packets may be from display order.
const reordered = 40

// rhythm measures the times and sizes of packets. Its memory does not grow with the length of
// the film.
type rhythm struct {
	bits    float64
	busiest float64 // bits a second
	window  []second
	sum     float64 // bits in window
	first   float64 // first presentation time, seconds
	last    float64
	length  float64 // of the last frame, 0 if unknown
	timed   int     // packets with times
	waiting []int64 // times that are not sorted yet
	newest  int64   // the last sorted time, in the track's units
	steps   [2]int64
	ordered int
	scale   float64
}

// second is a packet's time and bits, for finding the busiest second.
type second struct{ at, bits float64 }

func (t *rhythm) add(p *media.Packet, scale float64) {
	t.scale = scale
	now := second{float64(p.DTS) / scale, float64(len(p.Data)) * 8}
	t.bits += now.bits
	t.sum += now.bits
	t.window = append(t.window, now)
	for t.window[0].at <= now.at-1+1e-9 && len(t.window) > 1 {
		t.sum -= t.window[0].bits
		t.window = t.window[1:]
	}
	if t.timed > 0 && now.at-t.first > -1 {
		t.busiest = max(t.busiest, t.sum)
	}
	if p.PTS == media.NoTime || p.Hidden {
		return
	}
	if t.timed++; t.timed == 1 {
		t.first, t.last = math.Inf(1), math.Inf(-1)
		t.busiest = t.sum
	}
	at := float64(p.PTS) / scale
	t.first = min(t.first, at)
	if at >= t.last {
		t.last, t.length = at, float64(p.Duration)/scale
	}
	i, _ := slices.BinarySearch(t.waiting, p.PTS)
	t.waiting = slices.Insert(t.waiting, i, p.PTS)
	if len(t.waiting) > reordered {
		t.take()
	}
}

// take advances to the next time in display order.
func (t *rhythm) take() {
	now := t.waiting[0]
	t.waiting = append(t.waiting[:0], t.waiting[1:]...)
	if t.ordered > 0 {
		step := now - t.newest
		if t.ordered == 1 {
			t.steps = [2]int64{step, step}
		}
		t.steps = [2]int64{min(t.steps[0], step), max(t.steps[1], step)}
	}
	t.ordered++
	t.newest = now
}

func (t *rhythm) end() {
	for len(t.waiting) > 0 {
		t.take()
	}
	if len(t.window) > 0 && t.timed == 0 {
		t.busiest = t.sum
	}
}

// duration returns the time from the first frame to the end of the last one, in seconds.
func (t *rhythm) duration() float64 {
	length := t.length
	if length <= 0 {
		length = (t.last - t.first) / float64(t.timed-1)
	}
	return t.last - t.first + length
}

// constant reports whether all frames have the same duration, except for rounding.
func (t *rhythm) constant() bool {
	rounding := int64(1)
	if t.scale > 50000 { // 90 kHz and finer: rounding in whole units, and in milliseconds before
		rounding = int64(t.scale / 1000)
	}
	return t.steps[0] > 0 && t.steps[1]-t.steps[0] <= rounding
}
