package capacity

import (
	"testing"

	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/mat"
)

// The least squares without negative numbers of examples that were solved by hand.
func TestNNLS(t *testing.T) {
	for _, c := range []struct {
		rows, columns int
		a, b, want    []float64
	}{
		{2, 2, []float64{1, 0, 0, 1}, []float64{3, 4}, []float64{3, 4}},
		{2, 2, []float64{1, 0, 0, 1}, []float64{3, -4}, []float64{3, 0}},
		{3, 2, []float64{1, 1, 1, 2, 1, 3}, []float64{1, 2, 3}, []float64{0, 1}},
		{3, 2, []float64{1, 1, 1, 2, 1, 3}, []float64{3, 2, 1}, []float64{2, 0}},
		{2, 2, []float64{1, 1, 1, 1}, []float64{2, 2}, []float64{1, 1}}, // which of two equal columns cannot be told
	} {
		got := nnls(mat.NewDense(c.rows, c.columns, c.a), mat.NewVecDense(c.rows, c.b))
		for i := range got {
			require.GreaterOrEqual(t, got[i], 0.0)
			if c.rows > 2 || c.a[1] == 0 {
				require.InDelta(t, c.want[i], got[i], 1e-3, c)
			}
		}
	}
	require.InDelta(t, 2, sum(nnls(mat.NewDense(2, 2, []float64{1, 1, 1, 1}), mat.NewVecDense(2, []float64{2, 2}))), 1e-3)
}

func sum(list []float64) (s float64) {
	for _, v := range list {
		s += v
	}
	return s
}
