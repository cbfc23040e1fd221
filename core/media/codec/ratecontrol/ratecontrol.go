// Package ratecontrol chooses the quantisation parameters of a video's pictures so that it has
// the requested bitrate, for codecs whose quantiser step doubles every six QPs and is 1 at QP 4
// (Rec. ITU-T H.264, 8.5.9; H.265, 8.6.1). Pictures of a kind take cost / step bits; the costs
// are learned from earlier pictures. The remaining bits of a group of pictures are distributed
// so that the QP stays as constant as possible.
package ratecontrol

import "vividstrain/core/media"

// Kind is the kind of a picture.
type Kind uint8

// The kinds of pictures, which index Costs.
const (
	P Kind = iota
	B
	I
)

// MaxQP is the coarsest quantisation parameter.
const MaxQP = 51

// FineQP is the QP under which quantisers are so fine that most levels are noise, by the made-up scenes at 720p to 2160p.
const FineQP = 24

// Settings are the target of rate control.
type Settings struct {
	Bitrate float64 // bits per second; 0: a constant QP
	Rate    float64 // pictures per second; fields count as pictures
	QP      int     // QP of P pictures without a bitrate
	MinQP   int     // the finest QP: 0, or 6 less for each bit of depth above 8
}

// Control is the rate control of a video. Floating-point products are rounded separately, so
// that every processor makes the same choices.
type Control struct {
	Settings
	media.Costs

	// Carry is the number of bits that earlier groups left over, negative where they took more.
	Carry float64
	// GroupBits is the number of bits for the next group, instead of its share; 0: its share.
	GroupBits float64

	left   [3]int  // pictures of each kind to come in the group
	share  float64 // bits of the group at the bitrate
	budget float64 // bits that are left of the group's
	// The bits of the last second's pictures, and their sum.
	window    []float64
	oldest    int
	windowSum float64
	attempts  [4]attempt
}

// attempt is the size of a picture at a QP.
type attempt struct {
	qp   int
	bits float64
}

// relativeSteps are the quantiser steps of B and I pictures relative to P pictures. These gave
// the best PSNR at equal bits over the three scenes (BenchmarkQuality of h264).
var relativeSteps = [3]float64{P: 1, B: 1.35, I: 0.75}

// steps are the quantiser steps, indexed by QP + 12.
var steps = func() (q [64]float64) {
	for i := range q {
		q[i] = float64([6]float64{0.625, 0.6875, 0.8125, 0.875, 1, 1.125}[i%6] * float64(int(1)<<(i/6)) / 4)
	}
	return q
}()

// Step returns the quantiser step of a QP from -12 to 51.
func Step(qp int) float64 { return steps[qp+12] }

// Begin starts a video, or a group that is encoded separately. Earlier groups are assumed to
// have used exactly their share.
func (c *Control) Begin(s Settings) {
	*c = Control{Settings: s, window: make([]float64, max(1, int(s.Rate+0.5)))}
	for i := range c.window {
		c.window[i] = s.Bitrate / s.Rate
		c.windowSum += c.window[i]
	}
}

// guessCosts sets unknown costs, assuming that the group's bits lead to a QP that is common in
// films, 24, and that pictures of kinds P, I and B cost as 1 : 5 : 0.5.
func (c *Control) guessCosts(pictures [3]int) {
	weights := [3]float64{P: 1, I: 5, B: 0.5}
	sum, n := 0.0, 0
	for kind, count := range pictures {
		sum += float64(float64(count) * weights[kind] / relativeSteps[kind])
		n += count
	}
	for kind, weight := range weights {
		if c.Cost[kind] == 0 {
			c.Cost[kind] = float64(n) * c.Bitrate / c.Rate * Step(24) * weight / max(sum, 1)
		}
	}
}

// BeginGroup starts a group with the given number of pictures of each kind. What earlier groups
// left over or owe is compensated, by at most a tenth of the group's own share.
func (c *Control) BeginGroup(pictures [3]int) {
	c.guessCosts(pictures)
	c.left = pictures
	c.share = float64(float64(pictures[P]+pictures[B]+pictures[I]) * c.Bitrate / c.Rate)
	c.Carry += c.budget
	back := max(-0.1*c.share, min(c.Carry, 0.1*c.share))
	c.Carry -= back
	c.budget = c.share + back
	if c.GroupBits > 0 {
		c.budget, c.GroupBits = c.GroupBits, 0
	}
}

// Left returns the number of pictures of each kind still to come in the group.
func (c *Control) Left() [3]int { return c.left }

// targetStep returns the quantiser step of P pictures that spends the remaining bits.
func (c *Control) targetStep() float64 {
	sum := 0.0
	for kind, n := range c.left {
		sum += float64(float64(n) * c.Cost[kind] / relativeSteps[kind])
	}
	return sum / max(c.budget, c.Bitrate/c.Rate/4)
}

// QP returns the QP for a picture. rejected is the number of attempts at it that Accept
// rejected.
func (c *Control) QP(kind Kind, rejected int) int {
	if c.Bitrate == 0 {
		qp := c.Settings.QP + [3]int{P: 0, B: 2, I: -3}[kind]
		return max(c.MinQP, min(qp, MaxQP))
	}
	if rejected > 0 {
		return c.retryQP(kind, rejected)
	}
	step := float64(c.targetStep() * relativeSteps[kind])
	qp := c.MinQP
	for qp < MaxQP && float64(Step(qp)*Step(qp+1)) < float64(step*step) {
		qp++
	}
	if !c.Known[kind] && c.Known[I] { // the guess is rough; by these bounds few first pictures are coded twice (BenchmarkClip)
		qp = max(c.KeyQP-4, min(qp, c.KeyQP+8))
	}
	if c.Reached && c.Known[kind] { // no jumps
		qp = max(c.LastQP-6, min(qp, c.LastQP+6))
	}
	if c.Reached && kind == P { // half of the way: where noise begins to be coded, a QP more or less changes bits by half
		qp -= (qp - c.LastQP) / 2
	}
	return max(c.MinQP, min(qp, MaxQP))
}

// maxBits returns the largest size of the picture: a second takes at most a quarter more than
// the bitrate.
func (c *Control) maxBits() float64 {
	return 1.22*c.Bitrate - (c.windowSum - c.window[c.oldest])
}

// finerAtOnce is by how much the QP of a picture that took too little is lowered at once: one that then takes far
// too much is slow to code, and of no use.
const finerAtOnce = 4

// retryQP returns a QP after n attempts that took too much or too little. Each QP is assumed to
// save 15 % of the bits, unless two attempts on both sides of the target give a better estimate.
func (c *Control) retryQP(kind Kind, n int) int {
	last := c.attempts[n-1]
	want := min(c.targetBits(kind), c.maxBits())
	factor := 1 / 0.85
	for _, other := range c.attempts[:n-1] {
		if (other.bits < want) != (last.bits < want) && other.qp != last.qp {
			factor = bitsPerQP(last, other)
		}
	}
	qp, got := last.qp, last.bits
	for got > want && qp < MaxQP {
		qp++
		got /= factor
	}
	for got < want*0.9 && qp > max(c.MinQP, last.qp-finerAtOnce) && last.bits < want {
		qp--
		got *= factor
	}
	return qp
}

// bitsPerQP returns the ratio of bits between successive QPs, from two attempts.
func bitsPerQP(a, b attempt) float64 {
	if a.qp > b.qp {
		a, b = b, a
	}
	low, high := 1.0, 8.0
	for range 20 { // the root by bisection: math.Pow differs between processors
		middle := (low + high) / 2
		product := 1.0
		for range b.qp - a.qp {
			product = float64(product * middle)
		}
		if float64(product*b.bits) < a.bits {
			low = middle
		} else {
			high = middle
		}
	}
	return high
}

// targetBits returns the picture's share of the remaining bits.
func (c *Control) targetBits(kind Kind) float64 {
	return c.Cost[kind] / float64(c.targetStep()*relativeSteps[kind])
}

// Accept reports whether a picture may have the given size at a QP, after the given number of
// rejected attempts; if so, it counts the picture. The fourth attempt is always accepted.
func (c *Control) Accept(kind Kind, qp, bits, rejected int) bool {
	if c.Bitrate == 0 {
		return true
	}
	got := float64(bits)
	cost := float64(got * Step(qp))
	if rejected < len(c.attempts)-1 {
		c.attempts[rejected] = attempt{qp, got}
		first := !c.Known[kind]
		if first { // the guess means nothing
			c.Cost[kind] = cost
		}
		want := c.targetBits(kind)
		tooMuch := got > c.maxBits() && qp < MaxQP || first && got > 1.5*want && qp < MaxQP
		tooLittle := first && got < want/3 && qp > c.MinQP
		if c.left[P]+c.left[B]+c.left[I] == 1 && rejected < 2 { // no later picture can compensate; a hundredth of the group may be missed
			miss := max(float64(0.25*want), float64(0.01*c.share))
			tooMuch, tooLittle = tooMuch || got > want+miss, tooLittle || got < want-miss
		}
		if (tooMuch || tooLittle) && c.retryQP(kind, rejected+1) != qp {
			return false
		}
	}
	c.learn(kind, qp, cost)
	c.left[kind]--
	c.budget -= got
	c.windowSum += got - c.window[c.oldest]
	c.window[c.oldest] = got
	c.oldest = (c.oldest + 1) % len(c.window)
	return true
}

// learn updates the cost of a kind of picture.
func (c *Control) learn(kind Kind, qp int, cost float64) {
	if c.Known[kind] {
		c.Cost[kind] = float64(0.5*c.Cost[kind]) + float64(0.5*cost)
	} else {
		c.Cost[kind] = cost
	}
	if kind == I && !c.Known[P] { // a better guess
		c.Cost[P], c.Cost[B] = cost/5, cost/10
	}
	c.Known[kind] = true
	if kind == I {
		c.KeyQP = qp
	}
	if kind == P || c.left[P] == 0 {
		c.LastQP, c.Reached = qp, true
	}
}
