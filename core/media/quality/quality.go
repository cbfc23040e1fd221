// Package quality measures how much a picture differs from its original.
package quality

import (
	"math"

	"vividstrain/core/media/picture"
)

// PSNR returns the peak signal-to-noise ratio of luma in dB, of two pictures of the same size
// and bit depth. Equal pictures have more than 100 dB.
func PSNR(a, b *picture.Picture) float64 {
	sum := 0.0
	rows := lumaRows{a: a, b: b}
	for y := range a.Height {
		p, q := rows.at(y)
		for x := range p {
			d := p[x] - q[x]
			sum += d * d
		}
	}
	peak := peakOf(a)
	return 10 * math.Log10(peak*peak/max(sum/float64(a.Width*a.Height), 1e-9))
}

// SSIM returns the structural similarity of luma, 1 for equal pictures, as the mean over
// adjacent windows of 8x8 samples; the remainder at the right and at the bottom is ignored. The
// pictures have the same size and bit depth and contain at least one window. (Z. Wang, A. Bovik,
// H. Sheikh, E. Simoncelli: Image Quality Assessment: From Error Visibility to Structural
// Similarity, 2004)
func SSIM(a, b *picture.Picture) float64 {
	const size = 8
	peak := peakOf(a)
	c1, c2 := 0.01*peak*0.01*peak, 0.03*peak*0.03*peak
	total, windows := 0.0, 0
	rows := lumaRows{a: a, b: b}
	moments := make([][5]float64, a.Width/size) // sums of a, b, aa, bb, ab
	for y := range a.Height / size * size {
		p, q := rows.at(y)
		for i := range moments {
			m := &moments[i]
			for x := i * size; x < (i+1)*size; x++ {
				u, v := p[x], q[x]
				m[0], m[1], m[2], m[3], m[4] = m[0]+u, m[1]+v, m[2]+u*u, m[3]+v*v, m[4]+u*v
			}
		}
		if y%size != size-1 {
			continue
		}
		for i, m := range moments {
			const n = size * size
			ma, mb := m[0]/n, m[1]/n
			va, vb, cov := m[2]/n-ma*ma, m[3]/n-mb*mb, m[4]/n-ma*mb
			total += (2*ma*mb + c1) * (2*cov + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
			windows++
			moments[i] = [5]float64{}
		}
	}
	return total / float64(windows)
}

func peakOf(p *picture.Picture) float64 { return float64(int(1)<<p.Depth - 1) }

// lumaRows returns the rows of two pictures' luma as numbers.
type lumaRows struct {
	a, b  *picture.Picture
	bytes []byte
	p, q  []float64
}

func (r *lumaRows) at(y int) (p, q []float64) {
	r.p, r.q = r.row(r.a, y, r.p[:0]), r.row(r.b, y, r.q[:0])
	return r.p, r.q
}

func (r *lumaRows) row(from *picture.Picture, y int, to []float64) []float64 {
	r.bytes = from.AppendRow(r.bytes[:0], 0, y)
	if from.Depth == 8 {
		for _, v := range r.bytes {
			to = append(to, float64(v))
		}
		return to
	}
	for x := 0; x < len(r.bytes); x += 2 {
		to = append(to, float64(int(r.bytes[x])|int(r.bytes[x+1])<<8))
	}
	return to
}
