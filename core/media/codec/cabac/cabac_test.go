package cabac

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// Bins come back in their contexts, whatever the carries.
func TestBinsRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for round := range 60 {
		var first Decoder
		for i := range first.State {
			first.State[i] = InitialState(r.IntN(80)-40, r.IntN(127), r.IntN(52))
		}
		type bin struct{ kind, ctx, v int }
		var list []bin
		state := first.State
		var e Encoder
		e.Start(&state, nil)
		if round%2 == 0 {
			e.encode = encodeBins
		}
		skew := r.IntN(100)
		for range 4000 {
			b := bin{r.IntN(10), r.IntN(BypassContext), min(r.IntN(100)/max(skew, 1), 1)}
			switch {
			case b.kind == 0:
				e.Terminate(0)
			case b.kind < 3:
				e.Bypass(b.v)
			case b.kind == 3:
				b.v = r.IntN(1 << r.IntN(16))
				b.ctx = r.IntN(4)
				e.ExpGolomb(int32(b.v), b.ctx)
			default:
				e.Decision(b.ctx, b.v)
			}
			list = append(list, b)
		}
		e.Terminate(1)
		d := first
		d.Start(e.Out)
		for i, b := range list {
			switch {
			case b.kind == 0:
				require.False(t, d.Terminate(), "round %d, bin %d", round, i)
			case b.kind < 3:
				require.Equal(t, b.v, d.Bypass(), "round %d, bin %d", round, i)
			case b.kind == 3:
				require.EqualValues(t, b.v, d.ExpGolomb(b.ctx), "round %d, bin %d", round, i)
			default:
				require.Equal(t, b.v, d.Decision(b.ctx), "round %d, bin %d", round, i)
			}
		}
		require.True(t, d.Terminate())
		require.Empty(t, d.Rest())
		require.NotZero(t, e.Out[len(e.Out)-1], "the stop bit is in the last byte")
	}
}
