package cabac

import (
	"math/bits"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// The routines of this processor leave the same results, contexts and place in the data as those in Go, on
// any data, up to their end and after it.
func TestCoefficientsAreTheSameInGo(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for seed := range 2000 {
		data := make([]byte, r.IntN(60))
		for i := range data {
			data[i] = uint8(r.Uint32()) | uint8(oneIn(r, 3)*255) // long levels too
		}
		fast, plain := decoders(r, data)
		size := []int{4, 8, 15, 16, 64}[r.IntN(5)]
		scan, scale := make([]uint8, size), make([]int32, 64)
		for i, p := range r.Perm(size - 1) {
			scan[i], scale[i] = uint8(p), int32(r.IntN(1<<20))
		}
		scan[size-1] = uint8(size - 1)
		sig, last := make([]int, size), make([]int, size)
		for i := range sig {
			sig[i], last[i] = 105+r.IntN(40), 166+r.IntN(40)
		}
		contexts, shift := NewContexts(sig, last, 227, 3+r.IntN(2)), uint(r.IntN(8))
		for range 12 {
			var a, b [64]int32
			coded := r.IntN(86) - 1
			require.Equal(t, plain.coefficientsGo(coded, contexts, scan, a[:], scale, shift), fast.Coefficients(coded, contexts, scan, b[:], scale, shift), seed)
			require.Equal(t, a, b, seed)
			require.Equal(t, plain, fast, seed)
		}
	}
}

// So does the routine for a set of blocks.
func TestBlocksAreTheSameInGo(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	places := new([32]uint8)
	for k := range places {
		places[k] = uint8(k>>2*numbersRow + k&3 + numbersRow + 1)
	}
	parsed := 0
	for seed := range 2000 {
		data := make([]byte, r.IntN(200))
		for i := range data {
			data[i] = uint8(r.Uint32())
		}
		fast, plain := decoders(r, data)
		size := 15 + r.IntN(2)
		scan, scale := make([]uint8, size), make([]int32, 16)
		sig, last := make([]int, size), make([]int, size)
		for i, p := range r.Perm(size) {
			scan[i], scale[i], sig[i], last[i] = uint8(p), int32(r.IntN(1<<20)), 105+r.IntN(40), 166+r.IntN(40)
		}
		contexts, shift, set := NewContexts(sig, last, 227, 4), uint(r.IntN(8)), uint64(r.Uint32()&r.Uint32())
		var a, b [512]int32
		var numbers [2][9*numbersRow + 8]uint8
		for i := range numbersRow {
			numbers[0][i+1], numbers[0][i*numbersRow] = uint8(r.IntN(3)), uint8(r.IntN(3))
		}
		numbers[1] = numbers[0]
		coded, more := plain.blocksGo(set, 93, contexts, numbers[0][:], places, scan, a[:], scale, shift)
		fastCoded, fastMore := fast.Blocks(set, 93, contexts, numbers[1][:], places, scan, b[:], scale, shift)
		require.Equal(t, [2]uint64{coded, more}, [2]uint64{fastCoded, fastMore}, seed)
		require.Equal(t, a, b, seed)
		require.Equal(t, numbers[0], numbers[1], seed)
		require.Equal(t, plain, fast, seed)
		parsed += bits.OnesCount64(more)
	}
	require.Greater(t, parsed, 2000)
}

// decoders returns two decoders of the same data, with the same contexts.
func decoders(r *rand.Rand, data []byte) (a, b Decoder) {
	for i := range a.State {
		a.State[i] = uint8(r.IntN(126))
	}
	b.State = a.State
	a.Start(data)
	b.Start(data)
	return a, b
}

func oneIn(r *rand.Rand, n int) int {
	if r.IntN(n) == 0 {
		return 1
	}
	return 0
}

// So does the routine for a block of H.265, with short and with long levels.
func TestResidualIsTheSameInGo(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var found, failed, hidden int
	for seed := range 4000 {
		data := make([]byte, r.IntN(400))
		for i := range data {
			data[i] = uint8(r.Uint32()) | uint8(oneIn(r, 3)*255)
		}
		fast, plain := decoders(r, data)
		log2 := 2 + r.IntN(4)
		side := 1 << log2 / 4
		var subs, inner []uint8
		for _, p := range r.Perm(side*side - 1) {
			subs = append(subs, uint8((p+1)%side|(p+1)/side<<4))
		}
		for _, p := range r.Perm(16) {
			inner = append(inner, uint8(p&3|p>>2<<4))
		}
		contexts := &ScanContexts{LastX: 43, LastY: 61, LastShift: uint8(r.IntN(4)), Coded: 79, Greater1: 127, Greater2: 151}
		for i := range contexts.Sig {
			for k := range contexts.Sig[i] {
				contexts.Sig[i][k] = uint8(83 + r.IntN(44))
			}
		}
		scan := NewScan(log2, append([]uint8{0}, subs...), inner, contexts, r.IntN(2) == 0, r.IntN(2) == 0)
		a := Residual{Scan: scan, Out: make([]int16, 1<<(2*log2)), Factor: 1, Hidden: r.IntN(2) == 0}
		if r.IntN(4) > 0 {
			a.Factor, a.Shift = 16*(40+r.Int64N(33))<<r.IntN(9), uint(r.IntN(12))
		}
		b := a
		b.Out = make([]int16, len(a.Out))
		plain.residualGo(&a)
		fast.Residual(&b)
		require.Equal(t, a, b, seed)
		require.Equal(t, plain, fast, seed)
		found += bits.OnesCount64(a.Coded)
		if a.Failed {
			failed++
		}
		if a.Hidden {
			hidden++
		}
	}
	require.Greater(t, min(found, 50*failed, hidden), 1000)
}
