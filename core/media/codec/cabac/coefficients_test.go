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
		increments := new([16]uint8)
		for i := range increments {
			increments[i] = uint8(r.IntN(44))
		}
		for range 12 {
			var a, b [64]int32
			coded := r.IntN(86) - 1
			require.Equal(t, plain.coefficientsGo(coded, contexts, scan, a[:], scale, shift), fast.Coefficients(coded, contexts, scan, b[:], scale, shift), seed)
			require.Equal(t, a, b, seed)
			base, first, end := r.IntN(200), r.IntN(16)-1, r.IntN(3)
			require.Equal(t, plain.flagsGo(increments, base, first, end), fast.Flags(increments, base, first, end), seed)
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
