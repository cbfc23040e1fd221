package bits

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// What the writer writes the reader reads.
func TestBitsRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	type field struct {
		kind, n int
		v       int64
	}
	for range 50 {
		var fields []field
		w := &Writer{}
		for range 200 {
			f := field{r.IntN(4), 1 + r.IntN(32), 0}
			switch f.kind {
			case 0:
				f.v = int64(r.Uint32()) & (1<<f.n - 1)
				w.U(f.n, uint32(f.v))
			case 1:
				f.v = int64(r.Uint32() >> (1 + r.IntN(31)))
				w.UE(int(f.v))
			case 2:
				f.v = int64(int32(r.Uint32())>>(1+r.IntN(31))) / 2
				w.SE(int(f.v))
			default:
				f.v = int64(r.IntN(2))
				w.Flag(f.v == 1)
			}
			fields = append(fields, f)
		}
		end := w.Pos()
		in := NewReader(w.Bytes())
		for i, f := range fields {
			var got int64
			switch f.kind {
			case 0:
				got = int64(in.U(f.n))
			case 1:
				got = int64(in.UE())
			case 2:
				got = int64(in.SE())
			default:
				got = int64(in.U(1))
			}
			require.Equal(t, f.v, got, "field %d: %+v", i, f)
		}
		require.Equal(t, end, in.Pos())
	}
}
