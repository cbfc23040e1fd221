package h264

import mathbits "math/bits"

// binWriter is the arithmetic encoder (9.3.4). Bins are noted and encoded many
// at a time.
type binWriter struct {
	binKernels
	engine engine
	out    []byte
	state  *[512]uint8

	n     int             // bins that wait
	waits [binRoom]uint16 // as context<<1 | bin
}

// binKernels are the inner loops: encodeBins and noteFlags.
type binKernels struct {
	encode func(e *engine, bins []uint16, state *[512]uint8) (done int)
	note   func(waits []uint16, f *flags, has uint64, end int)
}

func goBins() binKernels { return binKernels{encodeBins, noteFlags} }

// engine is what the encoder goes on from. It does in whole bytes what the
// standard does bit by bit. The assembly knows where each stands.
type engine struct {
	low     uint64 // codILow with the bits above it that were not written yet
	rng     uint64 // codIRange
	pending int    // bits in low above the ten of codILow
}

// fullEngine is how many bits may be pending before they are to be written.
const fullEngine = 40

// binRoom is twice what a macroblock without its coefficients takes, or a block
// of 64 of them: makeRoom comes before each.
const binRoom = 8192

// Contexts of bins that have none.
const (
	bypassed   = 510
	terminated = 511
)

// start sets the engine to begin writing behind head (9.3.4.1). The first bit that
// the standard would write is left out there, too.
func (e *binWriter) start(state *[512]uint8, head []byte) {
	e.engine, e.binKernels, e.n = engine{rng: 510, pending: -1}, fastBins(), 0
	e.state, e.out = state, append(e.out[:0], head...)
}

// bin encodes a bin with a context.
func (e *binWriter) bin(ctx, v int) {
	e.waits[e.n&(binRoom-1)] = uint16(ctx<<1 | v)
	e.n++
}

// bypass encodes an equiprobable bin.
func (e *binWriter) bypass(v int) { e.bin(bypassed, v) }

// makeRoom makes room for half of what may wait.
func (e *binWriter) makeRoom() {
	if e.n > binRoom/2 {
		e.drain()
	}
}

// drain encodes the bins that wait.
func (e *binWriter) drain() {
	for bins := e.waits[:e.n]; len(bins) > 0; {
		bins = bins[e.encode(&e.engine, bins, e.state):]
		e.flush()
	}
	e.n = 0
}

// encodeBins encodes bins until the engine is full: with a context (9.3.4.2),
// equiprobable ones (9.3.4.4) and those that tell that the slice goes on
// (9.3.4.5). It tells how many.
func encodeBins(e *engine, bins []uint16, state *[512]uint8) (done int) {
	for i, b := range bins {
		bin := uint64(b & 1)
		switch ctx := b >> 1; {
		case ctx < bypassed:
			step := &binSteps[state[ctx]&127]
			bin ^= uint64(state[ctx] & 1) // whether it is the least probable symbol
			state[ctx] = step.next[bin]
			lps := uint64(step.lps[e.rng>>6&3])
			e.rng -= lps
			if bin != 0 {
				e.low += e.rng
				e.rng = lps
			}
		case ctx == bypassed:
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

// binSteps say how the engine and the state of a context go on, by that state:
// its number and the most probable symbol.
var binSteps = func() (t [128]struct {
	lps  [4]uint8 // the range of the least probable symbol
	next [2]uint8 // the state after the most and after the least probable symbol
	_    [2]uint8 // eight bytes for the assembly
}) {
	for s := range t {
		copy(t[s].lps[:], rangeLPS[s>>1<<2:])
		t[s].next = [2]uint8{nextState[s], nextState[s|128]}
	}
	return t
}()

// flush writes the whole bytes that are pending.
func (e *binWriter) flush() {
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

// put writes n bits, whole bytes, and adds the carry above them to what stands
// before.
func (e *binWriter) put(v uint64, n int) {
	if v>>n != 0 {
		i := len(e.out) - 1
		for e.out[i]++; e.out[i] == 0; e.out[i]++ {
			i--
		}
	}
	for n > 0 {
		n -= 8
		e.out = append(e.out, byte(v>>n))
	}
}

// terminate encodes end_of_slice_flag or the bin that tells of I_PCM
// (9.3.4.5).
func (e *binWriter) terminate(v int) {
	if v == 0 {
		e.makeRoom()
		e.bin(terminated, 0)
		return
	}
	e.drain()
	g := &e.engine
	g.rng -= 2
	g.low += g.rng
	g.low <<= 7
	g.pending += 7
	e.flush()
	// Three bits of codILow end the data, the last of them 1; behind the last
	// macroblock it is rbsp_stop_one_bit.
	n := (g.pending + 3 + 7) &^ 7
	e.put((g.low>>7|1)<<(n-3-g.pending), n)
}

// expGolomb writes a k-th order Exp-Golomb suffix in bypass bins (9.3.2.3).
func (e *binWriter) expGolomb(v int32, k int) {
	for ; v >= 1<<k; k++ {
		e.bypass(1)
		v -= 1 << k
	}
	e.bypass(0)
	for k--; k >= 0; k-- {
		e.bypass(int(v >> k & 1))
	}
}
