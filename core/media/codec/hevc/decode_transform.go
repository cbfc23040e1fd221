package hevc

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

// inverse transforms the coefficients of a block into differences, in place (8.6.4.2): columns, then
// rows.
func inverse(c []int32, log2 int, sine bool, depth int) {
	n := 1 << log2
	var in, out [32]int32
	step := 32 >> log2
	// The second half of a basis function is the mirror of the first, with the other sign where its
	// number is odd.
	one := func(shift uint, limit int) {
		var sums [2][16]int32
		for k, v := range in[:limit] {
			if v == 0 || sine {
				continue
			}
			sum, basis := sums[k&1][:n/2], dct32[k*step][:n/2]
			for i, b := range basis {
				sum[i] += b * v
			}
		}
		round := int32(1) << (shift - 1)
		for i := range n / 2 {
			even, odd := sums[0][i]+round, sums[1][i]
			out[i] = max(-32768, min((even+odd)>>shift, 32767))
			out[n-1-i] = max(-32768, min((even-odd)>>shift, 32767))
		}
		for i := 0; sine && i < n; i++ {
			sum := round
			for k := range limit {
				sum += dst4[k][i] * in[k]
			}
			out[i] = max(-32768, min(sum>>shift, 32767))
		}
	}
	// Beyond the last row or column with a coefficient everything is 0.
	lastRow, lastColumn := 0, 0
	for y := range n {
		for x := range n {
			if c[y<<log2+x] != 0 {
				lastRow, lastColumn = y, max(lastColumn, x)
			}
		}
	}
	for x := range lastColumn + 1 {
		for y := range lastRow + 1 {
			in[y] = c[y<<log2+x]
		}
		one(7, lastRow+1)
		for y := range n {
			c[y<<log2+x] = out[y]
		}
	}
	for y := range n {
		row := c[y<<log2:][:n]
		copy(in[:], row[:lastColumn+1])
		one(uint(20-depth), lastColumn+1)
		copy(row, out[:n])
	}
}

// addResidual turns the coefficients of a block into differences and adds them to the prediction at
// (x, y) of plane c (8.6.2).
func (w *worker[T]) addResidual(x, y, log2, c int, rdpcm rdpcmMode, skip, sine bool) {
	n, depth := 1<<log2, w.depths[c]
	r := w.coeffs[:n*n]
	if (w.cuBypass || skip) && w.sps.ext.rotate && log2 == 2 && w.cuIntra {
		for i := range 8 {
			r[i], r[15-i] = r[15-i], r[i]
		}
	}
	switch {
	case w.cuBypass:
		sumUp(r, n, rdpcm)
	case skip:
		up, down := uint(5+log2), uint(20-depth)
		for i := range r {
			r[i] = (r[i]<<up + 1<<(down-1)) >> down
		}
		sumUp(r, n, rdpcm)
	default:
		inverse(r, log2, sine, depth)
	}
	p := &w.planes[c]
	most := int32(1)<<depth - 1
	for i := range n {
		row := p.pix[(y+i)*p.stride+x:][:n]
		for k := range row {
			row[k] = T(max(0, min(int32(row[k])+r[i*n+k], most)))
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
