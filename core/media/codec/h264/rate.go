package h264

// rateControl chooses the quantisers so that the bitrate comes out. Pictures of
// a kind cost bits = cost / qstep; how much is known from those before. What is
// left of the group's bits (from one IDR picture to the next) is dealt out so
// that the quantiser stays as even as it can.
//
// All products are rounded on their own, so that every processor chooses the
// same.
type rateControl struct {
	bitrate float64 // 0: constant quantiser
	hz      float64 // pictures a second, fields counted as such
	fixed   int     // the quantiser of P pictures without a bitrate
	least   int     // QPY

	Costs
	left   [3]int  // pictures of each kind to come in the group
	budget float64 // bits that are left of the group's
	carry  float64 // bits that groups before left over, negative where they took more
	// ordered is what the next group is to take in bits instead of its share; 0: its share.
	ordered float64
	window  []float64
	at      int // of the next entry in window
	inside  float64
	tried   [4]try
}

// Costs is what was learned of the pictures of a video.
type Costs struct {
	cost    [3]float64 // bits * qstep of a picture of each kind
	known   [3]bool
	keyQP   int // of the last key picture
	lastQP  int
	reached bool // lastQP was chosen for a picture
}

// try is what a picture took at a quantiser.
type try struct {
	qp   int
	bits float64
}

// relative are the quantiser steps of B and I pictures to those of P pictures.
var relative = [3]float64{sliceP: 1, sliceB: 1.35, sliceI: 0.75}

// qsteps are quantiser steps by QPY + 12 (8.5.9: they double every six).
var qsteps = func() (q [64]float64) {
	for i := range q {
		q[i] = float64([6]float64{0.625, 0.6875, 0.8125, 0.875, 1, 1.125}[i%6] * float64(int(1)<<(i/6)) / 4)
	}
	return q
}()

func (r *rateControl) begin(set *Settings) {
	f := &set.Format
	fields := 1.0
	if f.Interlaced {
		fields = 2
	}
	*r = rateControl{bitrate: float64(f.Bitrate), hz: f.Rate.Hz() * fields, fixed: set.QP, least: -6 * (f.Depth - 8)}
	r.window = make([]float64, max(1, int(r.hz+0.5)))
	for i := range r.window { // what came before is taken to have been even
		r.window[i] = r.bitrate / r.hz
		r.inside += r.window[i]
	}
}

// guess fills in what is not known: as if the group's bits led to the quantiser
// that films often have, 24, and pictures of the three kinds cost as 1 : 5 : 0.5.
func (r *rateControl) guess(pictures [3]int) {
	weights := [3]float64{sliceP: 1, sliceI: 5, sliceB: 0.5}
	sum, n := 0.0, 0
	for kind, count := range pictures {
		sum += float64(float64(count) * weights[kind] / relative[kind])
		n += count
	}
	for kind, weight := range weights {
		if r.cost[kind] == 0 {
			r.cost[kind] = float64(n) * r.bitrate / r.hz * qsteps[24+12] * weight / max(sum, 1)
		}
	}
}

// group begins a group of so many pictures of each kind. What the groups before
// left over or owe is made good, a tenth of the group's own share at most.
func (r *rateControl) group(pictures [3]int) {
	r.guess(pictures)
	r.left = pictures
	share := float64(float64(pictures[0]+pictures[1]+pictures[2]) * r.bitrate / r.hz)
	r.carry += r.budget
	back := max(-0.1*share, min(r.carry, 0.1*share))
	r.carry -= back
	r.budget = share + back
	if r.ordered > 0 {
		r.budget, r.ordered = r.ordered, 0
	}
}

// aim is the qstep of P pictures that spends what is left.
func (r *rateControl) aim() float64 {
	sum := 0.0
	for kind, n := range r.left {
		sum += float64(float64(n) * r.cost[kind] / relative[kind])
	}
	return sum / max(r.budget, r.bitrate/r.hz/4)
}

// choose gives QPY of a picture, of which n tries were not accepted.
func (r *rateControl) choose(h *sliceHeader, n int) int {
	if r.bitrate == 0 {
		qp := r.fixed + [3]int{sliceP: 0, sliceB: 2, sliceI: -3}[h.kind]
		return max(r.least, min(qp, 51))
	}
	if n > 0 {
		return r.again(h, n)
	}
	step := float64(r.aim() * relative[h.kind])
	qp := r.least
	for qp < 51 && float64(qsteps[qp+12]*qsteps[qp+13]) < float64(step*step) {
		qp++
	}
	if !r.known[h.kind] && r.known[sliceI] { // the guess is rough
		qp = max(r.keyQP-2, min(qp, r.keyQP+8))
	}
	if r.reached && r.known[h.kind] { // no jumps
		qp = max(r.lastQP-6, min(qp, r.lastQP+6))
	}
	return max(r.least, min(qp, 51))
}

// most is how many bits the picture may take: a second takes no more than a
// quarter over the bitrate.
func (r *rateControl) most() float64 {
	return 1.22*r.bitrate - (r.inside - r.window[r.at])
}

// again chooses a quantiser after n tries that took too much or too little: each
// step of it is taken to save 15 % of the bits, but between two tries on both
// sides of what is wanted what they took is known.
func (r *rateControl) again(h *sliceHeader, n int) int {
	t := r.tried[n-1]
	want := min(r.wanted(h.kind), r.most())
	step := 1 / 0.85
	for _, other := range r.tried[:n-1] {
		if (other.bits < want) != (t.bits < want) && other.qp != t.qp {
			step = slope(t, other)
		}
	}
	qp, got := t.qp, t.bits
	for got > want && qp < 51 {
		qp++
		got /= step
	}
	for got < want*0.9 && qp > r.least && t.bits < want {
		qp--
		got *= step
	}
	return qp
}

// slope is the factor in bits from one quantiser to the next between two tries.
func slope(a, b try) float64 {
	if a.qp > b.qp {
		a, b = b, a
	}
	low, high := 1.0, 8.0
	for range 20 { // the root, by halving: math.Pow differs between processors
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

// wanted is the picture's share of what is left.
func (r *rateControl) wanted(kind sliceType) float64 {
	return r.cost[kind] / float64(r.aim()*relative[kind])
}

// accept tells whether so many bits are fine, and if so counts them.
func (r *rateControl) accept(h *sliceHeader, qp, bits, n int) bool {
	if r.bitrate == 0 {
		return true
	}
	got := float64(bits)
	cost := float64(got * qsteps[qp+12])
	if n < len(r.tried)-1 {
		r.tried[n] = try{qp, got}
		first := !r.known[h.kind]
		if first { // the guess is worth nothing
			r.cost[h.kind] = cost
		}
		want := r.wanted(h.kind)
		tooMuch := got > r.most() && qp < 51 || first && got > 1.5*want && qp < 51
		tooLittle := first && got < 0.5*want && qp > r.least
		if r.left[0]+r.left[1]+r.left[2] == 1 && n < 2 { // nothing comes to make it good
			tooMuch, tooLittle = tooMuch || got > 1.25*want, tooLittle || got < 0.75*want
		}
		if (tooMuch || tooLittle) && r.again(h, n+1) != qp {
			return false
		}
	}
	if r.known[h.kind] {
		r.cost[h.kind] = float64(0.5*r.cost[h.kind]) + float64(0.5*cost)
	} else {
		r.cost[h.kind] = cost
	}
	if h.kind == sliceI && !r.known[sliceP] { // a better guess
		r.cost[sliceP], r.cost[sliceB] = cost/5, cost/10
	}
	r.known[h.kind] = true
	r.left[h.kind]--
	r.budget -= got
	r.inside += got - r.window[r.at]
	r.window[r.at] = got
	r.at = (r.at + 1) % len(r.window)
	if h.kind == sliceI {
		r.keyQP = qp
	}
	if h.kind == sliceP || r.left[sliceP] == 0 {
		r.lastQP, r.reached = qp, true
	}
	return true
}
