package nal

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// Units hold no start codes, and what was put into them comes out again.
func TestEmulationPreventionRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		rbsp := make([]byte, r.IntN(60))
		for i := range rbsp {
			rbsp[i] = byte(r.IntN(5)) * byte(r.IntN(3)) // zeros above all
		}
		unit := AppendUnit(nil, []byte{0x65}, append(rbsp, 0x80))
		for _, code := range [][]byte{{0, 0, 0}, {0, 0, 1}, {0, 0, 2}} {
			require.NotContains(t, string(unit), string(code))
		}
		require.Equal(t, append(rbsp, 0x80), Unescape(nil, unit[1:]))
	}
	ends := AppendUnit(nil, []byte{0x65}, []byte{1, 0, 0})
	require.EqualValues(t, 3, ends[len(ends)-1], "a unit does not end with zeros")
}

// The places of emulation prevention bytes are those that removing them takes out.
func TestEscapes(t *testing.T) {
	payload := []byte{1, 0, 0, 3, 1, 0, 0, 3, 0, 0, 3, 2, 9, 0, 0, 3}
	var kept []byte
	places := Escapes(payload)
	for i, b := range payload {
		if !slices.Contains(places, i) {
			kept = append(kept, b)
		}
	}
	require.Equal(t, []int{3, 7, 10, 15}, places)
	require.Equal(t, Unescape(nil, payload), kept)
}

// The search finds what a plain one does, in data of few zeros and of many.
func TestZerosAreFound(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		data := make([]byte, random.IntN(60))
		values := 2 + random.IntN(6)
		for i := range data {
			data[i] = byte(random.IntN(values) % (1 + random.IntN(5)))
		}
		require.Equal(t, bytes.Index(data, []byte{0, 0, 3}), afterZeros(data, 3), data)
		require.Equal(t, bytes.Index(data, []byte{0, 0, 1}), afterZeros(data, 1), data)
	}
}
