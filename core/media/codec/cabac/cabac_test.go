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

// Several bypass bins at once are those one after another.
func TestBypassesAreBypass(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 9))
	data := make([]byte, 4000)
	for i := range data {
		data[i] = byte(r.Uint64())
	}
	data[0] = 0
	var one, several Decoder
	one.Start(data)
	several.Start(data)
	for range 800 {
		ctx := r.IntN(20)
		require.Equal(t, one.Decision(ctx), several.Decision(ctx))
		n, want := r.IntN(33), uint32(0)
		for range n {
			want = want<<1 | uint32(one.Bypass())
		}
		require.Equal(t, want, several.Bypasses(n), "%d bins", n)
	}
}

// Data that were cut to end after any bin decode to the same bins up to there, and then end.
func TestEndings(t *testing.T) {
	r := rand.New(rand.NewPCG(10, 11))
	for bins := range 200 {
		data := make([]byte, 400)
		for i := range data {
			data[i] = byte(r.Uint64())
		}
		data[0] &= 0x7F
		run := func(d *Decoder, data []byte) (list []int) {
			*d = Decoder{}
			d.Start(data)
			for i := range bins {
				if i%5 == 4 {
					list = append(list, d.Bypass())
				} else {
					list = append(list, d.Decision(i%7))
				}
			}
			return list
		}
		var d Decoder
		want := run(&d, data)
		cut := d.Ending(data)
		require.Equal(t, want, run(&d, cut))
		require.True(t, d.Terminate())
	}
}
