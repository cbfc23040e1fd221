package cabac

import mathbits "math/bits"

// Encoder is the arithmetic encoding engine (9.3.4). Bins are queued and encoded many at a time.
// Start must be called first.
type Encoder struct {
	encode func(e *engine, bins []uint16, state *[512]uint8) (done int) // encodeBins, or an assembly version of it
	engine engine
	Out    []byte // the output
	State  *[512]uint8

	// The queue of bins, as context<<1 | bin. Callers that need speed append to it directly,
	// after MakeRoom.
	Queued int
	Queue  [QueueSize]uint16
}

// engine is the state of the encoder. It writes whole bytes where the standard writes bits. The
// assembly relies on the offsets of its fields.
type engine struct {
	low     uint64 // codILow with the bits above it that were not written yet
	rng     uint64 // codIRange
	pending int    // bits in low above the ten of codILow
}

// fullEngine is the number of pending bits from which they must be written.
const fullEngine = 40

// QueueSize is the size of the queue: at least twice the bins of a macroblock or coding unit
// without its coefficients, or of a block of 64 coefficients. MakeRoom must be called before
// each of these.
const QueueSize = 8192

// Values that take the place of a context in the queue.
const (
	BypassContext = 510
	terminated    = 511
)

// Start initialises the engine to write after head (9.3.4.1), with contexts that it modifies. As
// in the standard's PutBit, the first bit is left out.
func (e *Encoder) Start(state *[512]uint8, head []byte) {
	e.engine, e.encode, e.Queued = engine{rng: 510, pending: -1}, fastEncodeBins(), 0
	e.State, e.Out = state, append(e.Out[:0], head...)
}

// Decision encodes a bin with a context.
func (e *Encoder) Decision(ctx, v int) {
	e.Queue[e.Queued&(QueueSize-1)] = uint16(ctx<<1 | v)
	e.Queued++
}

// Bypass encodes an equiprobable bin.
func (e *Encoder) Bypass(v int) { e.Decision(BypassContext, v) }

// MakeRoom makes sure that half of the queue is free.
func (e *Encoder) MakeRoom() {
	if e.Queued > QueueSize/2 {
		e.drain()
	}
}

// drain encodes the queued bins.
func (e *Encoder) drain() {
	for bins := e.Queue[:e.Queued]; len(bins) > 0; {
		bins = bins[e.encode(&e.engine, bins, e.State):]
		e.flush()
	}
	e.Queued = 0
}

// encodeBins encodes bins until the engine is full and returns how many: bins with a context
// (9.3.4.2), equiprobable ones (9.3.4.4), and those that say that the slice goes on (9.3.4.5).
func encodeBins(e *engine, bins []uint16, state *[512]uint8) (done int) {
	for i, b := range bins {
		bin := uint64(b & 1)
		switch ctx := b >> 1; {
		case ctx < BypassContext:
			step := &binSteps[state[ctx]&127]
			bin ^= uint64(state[ctx] & 1) // whether it is the least probable symbol
			state[ctx] = step.next[bin]
			lps := uint64(step.lps[e.rng>>6&3])
			e.rng -= lps
			if bin != 0 {
				e.low += e.rng
				e.rng = lps
			}
		case ctx == BypassContext:
			e.low = e.low<<1 + -bin&e.rng
			e.pending++
		default:
			e.rng -= 2
		}
		n := mathbits.LeadingZeros64(e.rng) - 55
		e.rng <<= n
		e.low <<= n
		if e.pending += n; e.pending >= fullEngine {
			return i + 1
		}
	}
	return len(bins)
}

// binSteps are the transitions of the engine and of a context, by the context's state: its
// number and the most probable symbol.
var binSteps = func() (t [128]struct {
	lps  [4]uint8 // the range of the least probable symbol
	next [2]uint8 // the state after the most and after the least probable symbol
	_    [2]uint8 // pads to eight bytes, for the assembly
}) {
	for s := range t {
		copy(t[s].lps[:], rangeLPS[s>>1<<2:])
		t[s].next = [2]uint8{nextState[s], nextState[s|128]}
	}
	return t
}()

// flush writes the whole bytes that are pending.
func (e *Encoder) flush() {
	g := &e.engine
	if g.pending < 8 {
		return
	}
	n := g.pending &^ 7
	g.pending -= n
	v := g.low >> (10 + g.pending)
	g.low &= 1<<(10+g.pending) - 1
	e.put(v, n)
}

// put writes n bits, a whole number of bytes, and adds the carry above them to the bytes before.
func (e *Encoder) put(v uint64, n int) {
	if v>>n != 0 {
		i := len(e.Out) - 1
		for e.Out[i]++; e.Out[i] == 0; e.Out[i]++ {
			i--
		}
	}
	for n > 0 {
		n -= 8
		e.Out = append(e.Out, byte(v>>n))
	}
}

// Terminate encodes end_of_slice_flag or the bin that announces I_PCM (9.3.4.5).
func (e *Encoder) Terminate(v int) {
	if v == 0 {
		e.MakeRoom()
		e.Decision(terminated, 0)
		return
	}
	e.drain()
	g := &e.engine
	g.rng -= 2
	g.low += g.rng
	g.low <<= 7
	g.pending += 7
	e.flush()
	// Three bits of codILow end the data, the last of them 1: after the last
	// macroblock it is rbsp_stop_one_bit.
	n := (g.pending + 3 + 7) &^ 7
	e.put((g.low>>7|1)<<(n-3-g.pending), n)
}

// ExpGolomb writes a k-th order Exp-Golomb suffix in bypass bins (9.3.2.3).
func (e *Encoder) ExpGolomb(v int32, k int) {
	for ; v >= 1<<k; k++ {
		e.Bypass(1)
		v -= 1 << k
	}
	e.Bypass(0)
	for k--; k >= 0; k-- {
		e.Bypass(int(v >> k & 1))
	}
}
