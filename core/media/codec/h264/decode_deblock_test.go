package h264

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/framepool"
)

// What counts as quiet on both sides of an edge is just what no filter changes.
func TestQuietEdgesHaveNoFilter(t *testing.T) {
	e := edges[uint8]{r: &recon[uint8]{maxSample: [3]int32{255, 255, 255}}}
	for offset := int8(-12); offset <= 12; offset += 2 {
		e.h = &sliceHeader{alphaOff: offset}
		for p := range int8(52) {
			for q := range int8(52) {
				quiet := e.h.isQuiet(&mbInfo{qp: p}) && e.h.isQuiet(&mbInfo{qp: q})
				if alpha := e.filter(0, p, q).alpha; quiet {
					require.Zero(t, alpha, "%d and %d with %d", p, q, offset)
				} else if p == q {
					require.NotZero(t, alpha, "%d with %d", p, offset)
				}
			}
		}
	}
}

// A macroblock is passed over only if the ones to its left and above are quiet as well.
func TestQuietMacroblocks(t *testing.T) {
	const fine, coarse = 10, 30
	h := &sliceHeader{structure: framepool.WholeFrame}
	for loud, want := range map[int]bool{0: true, 1: false, 2: false, 3: false, 4: true} {
		d := sliceDecoder{width: 2, mbs: make([]mbInfo, 5)}
		for i := range d.mbs {
			d.mbs[i].qp = fine
		}
		d.mbs[loud].qp = coarse
		require.Equal(t, want, d.isQuiet(h, 1, 1), loud)
		d.mbs[loud].qp, d.mbs[loud].qpc[1] = fine, coarse // chroma alone
		require.Equal(t, want, d.isQuiet(h, 1, 1), loud)
	}
	require.False(t, (&sliceDecoder{width: 2, mbs: make([]mbInfo, 4)}).isQuiet(&sliceHeader{structure: framepool.WholeFrame, mbaff: true}, 1, 1))
}
