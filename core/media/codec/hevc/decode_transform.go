package hevc

import "slices"

// dct32 is the matrix of the 32-point transform (8.6.4.2); smaller ones are rows of it.
var dct32 = func() (m [32][32]int32) {
	// The first column of each basis function, in which all others repeat with signs: the odd
	// columns of table 8.6.4.2 by their frequency.
	c := [32]int32{64, 90, 90, 90, 89, 88, 87, 85, 83, 82, 80, 78, 75, 73, 70, 67, 64, 61, 57, 54, 50, 46, 43, 38, 36, 31, 25, 22, 18, 13, 9, 4}
	for k := range 32 {
		for n := range 32 {
			// cos((2n+1) k pi / 64), by symmetry from the first quarter.
			a := (2*n + 1) * k % 128
			sign := int32(1)
			if a > 64 {
				a = 128 - a
			}
			if a > 32 {
				a, sign = 64-a, -1
			}
			if a == 32 {
				m[k][n] = 0
				continue
			}
			m[k][n] = sign * c[a]
		}
	}
	return m
}()

// dst4 is the matrix of the 4-point sine transform of intra luma.
var dst4 = [4][4]int32{{29, 55, 74, 84}, {74, 74, 0, -74}, {84, -29, -74, 55}, {55, -84, 74, -29}}

// transform is a transform of n points: its matrix, whose rows are the basis functions, the transposed
// one, and both with their rows interleaved in pairs, in raster order. halves are the left halves of the
// even and of the odd rows of the matrix, whose right halves mirror them.
type transform struct {
	matrix, transposed     []int16
	pairs, transposedPairs []int16
	halves                 [2][]int16
}

func newTransform(n int, at func(k, i int) int32) transform {
	t := transform{matrix: make([]int16, n*n), transposed: make([]int16, n*n), pairs: make([]int16, n*n), transposedPairs: make([]int16, n*n)}
	for k := range n {
		for i := range n {
			t.matrix[k*n+i], t.transposed[i*n+k] = int16(at(k, i)), int16(at(k, i))
		}
	}
	for k := range n {
		t.halves[k&1] = append(t.halves[k&1], t.matrix[k*n:][:n/2]...)
	}
	interleave(t.pairs, t.matrix, n, n/2)
	interleave(t.transposedPairs, t.transposed, n, n/2)
	return t
}

// cosines are the transforms of 4 to 32 points, and sines the one of intra luma of 4x4.
var (
	cosines = func() (list [4]transform) {
		for i := range list {
			list[i] = newTransform(4<<i, func(k, n int) int32 { return dct32[k<<(3-i)][n] })
		}
		return list
	}()
	sines = newTransform(4, func(k, n int) int32 { return dst4[k][n] })
)

func transformOf(log2 int, sine bool) *transform {
	if sine {
		return &sines
	}
	return &cosines[log2-2]
}

// transformer is the memory of transforms.
type transformer struct {
	rows, half [32 * 32]int16
}

// inverse transforms the coefficients c of a block into differences, in place (8.6.4.2): columns, then
// rows. All coefficients beyond a row and a column are 0.
func (t *transformer) inverse(k *blockKernels, c []int16, log2, lastRow, lastColumn int, sine bool, depth int) {
	n, m := 1<<log2, transformOf(log2, sine)
	rowPairs, columns := lastRow>>1+1, n
	if n > 16 && lastColumn < 16 {
		columns = 16
	}
	k.interleave(t.rows[:], c, n, rowPairs)
	k.multiply(t.half[:n*n], m.transposed, t.rows[:], n, rowPairs, columns, 7)
	k.multiply(c, t.half[:n*n], m.pairs, n, lastColumn>>1+1, n, uint(20-depth))
}

// addResidual turns the coefficients of a block into differences and adds them to the prediction at
// (x, y) of plane c (8.6.2).
func (w *worker[T]) addResidual(x, y, log2, c int, rdpcm rdpcmMode, skip, sine bool) {
	n, depth := 1<<log2, w.depths[c]
	p, r := &w.planes[c], w.coeffs[:n*n]
	most := int32(1)<<depth - 1
	if !w.cuBypass && !skip {
		w.transforms.inverse(&w.k.blockKernels, r, log2, w.lastRow, w.lastColumn, sine, depth)
		w.k.add(p.pix[y*p.stride+x:], p.stride, r, n, most)
		return
	}
	if w.sps.ext.rotate && log2 == 2 && w.cuIntra {
		slices.Reverse(r)
	}
	list := w.unchanged[:n*n] // what is summed up may be more than 16 bits
	for i, v := range r {
		list[i] = int32(v)
		if !w.cuBypass {
			up, down := uint(5+log2), uint(20-depth)
			list[i] = (list[i]<<up + 1<<(down-1)) >> down
		}
	}
	sumUp(list, n, rdpcm)
	for i := range n {
		row := p.pix[(y+i)*p.stride+x:][:n]
		for k := range row {
			row[k] = T(max(0, min(int32(row[k])+list[i*n+k], most)))
		}
	}
}

// sumUp sums differences up along rows or columns (8.6.5, 8.6.6).
func sumUp(r []int32, n int, mode rdpcmMode) {
	switch mode {
	case rdpcmHorizontal:
		for i := range r {
			if i%n > 0 {
				r[i] += r[i-1]
			}
		}
	case rdpcmVertical:
		for i := n; i < len(r); i++ {
			r[i] += r[i-n]
		}
	}
}
