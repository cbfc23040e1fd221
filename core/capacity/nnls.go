package capacity

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// nnls returns the x >= 0 for which |Ax - b| is least (C. L. Lawson and R. J. Hanson, Solving Least
// Squares Problems, 1974, chapter 23). A has at least one row and column.
func nnls(a *mat.Dense, b *mat.VecDense) []float64 {
	_, n := a.Dims()
	x, passive := make([]float64, n), make([]bool, n)
	const tolerance = 1e-10
	for range 3 * n {
		var r, w mat.VecDense
		r.MulVec(a, mat.NewVecDense(n, x))
		r.SubVec(b, &r)
		w.MulVec(a.T(), &r) // the negative gradient
		best := -1
		for j := range n {
			if !passive[j] && w.AtVec(j) > tolerance && (best < 0 || w.AtVec(j) > w.AtVec(best)) {
				best = j
			}
		}
		if best < 0 {
			break
		}
		passive[best] = true
		for {
			s := solvePassive(a, b, passive)
			alpha := 1.0
			for j := range n {
				if passive[j] && s[j] <= tolerance && x[j]-s[j] > 0 {
					alpha = min(alpha, x[j]/(x[j]-s[j]))
				}
			}
			inside := true
			for j := range n {
				if passive[j] && s[j] <= tolerance {
					inside = false
				}
			}
			if inside {
				copy(x, s)
				break
			}
			left := false
			for j := range n {
				x[j] += alpha * (s[j] - x[j])
				if passive[j] && x[j] <= tolerance {
					x[j], passive[j], left = 0, false, true
				}
			}
			if !left {
				break
			}
		}
	}
	return x
}

// solvePassive solves the least squares of the passive columns alone; the others are 0. Columns
// that say the same are told apart by a tiny preference for small values.
func solvePassive(a *mat.Dense, b *mat.VecDense, passive []bool) []float64 {
	rows, n := a.Dims()
	var columns []int
	for j, p := range passive {
		if p {
			columns = append(columns, j)
		}
	}
	k := len(columns)
	const ridge = 1e-6
	m, y := mat.NewDense(rows+k, k, nil), mat.NewVecDense(rows+k, nil)
	for i := range rows {
		for c, j := range columns {
			m.Set(i, c, a.At(i, j))
		}
		y.SetVec(i, b.AtVec(i))
	}
	for c := range k {
		m.Set(rows+c, c, ridge)
	}
	out := make([]float64, n)
	var s mat.VecDense
	if err := s.SolveVec(m, y); err != nil {
		return out
	}
	for c, j := range columns {
		if v := s.AtVec(c); !math.IsNaN(v) {
			out[j] = v
		}
	}
	return out
}
