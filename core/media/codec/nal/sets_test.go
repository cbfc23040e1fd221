package nal

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A set that comes again as it was stays; one with other bytes, or of another parent,
// takes its place.
func TestRepeatedSetsStay(t *testing.T) {
	type set struct{ id int }
	var sets ParameterSets[set]
	require.Nil(t, sets.Get(0))
	require.Nil(t, sets.Get(-1))
	require.Nil(t, sets.Last())
	first, rbsp := &set{3}, []byte{1, 2}
	sets.Put(3, first, rbsp, nil)
	rbsp[0] = 9 // the caller's buffer is used again
	sets.Put(3, &set{3}, []byte{1, 2}, nil)
	require.Same(t, first, sets.Get(3))
	require.Same(t, first, sets.Last())
	other := &set{3}
	sets.Put(3, other, []byte{1, 2}, first)
	require.Same(t, other, sets.Get(3))
	sets.Put(3, first, []byte{1, 3}, first)
	require.Same(t, first, sets.Get(3))
	require.Nil(t, sets.Get(2))
}
