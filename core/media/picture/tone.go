package picture

import "math"

// Light is how the sample values of high dynamic range video represent light.
type Light uint8

// The two of Rec. ITU-R BT.2100.
const (
	PQ  Light = iota // absolute
	HLG              // relative; taken to be shown on a display of 1000 cd/m2
)

// referenceWhite is the luminance of diffuse white in cd/m2 (Rec. ITU-R BT.2408). It becomes the
// white of standard dynamic range; brighter light is compressed.
const referenceWhite = 203

// The tables hold results for a grid of colours; between grid points they are interpolated
// linearly.
const (
	lumaBits, chromaBits     = 4, 5 // low bits of a 10-bit sample, interpolated between two knots
	lumaSteps, chromaSteps   = 1024 >> lumaBits, 1024 >> chromaBits
	lumaOne, chromaOne       = 1 << lumaBits, 1 << chromaBits
	fraction                 = 5 // fractional bits of the results
	mapShift                 = lumaBits + 2*chromaBits + fraction
	lumaHighest, mapRounding = 1023, 1 << (mapShift - 1)
)

// ToneMapper converts high dynamic range pictures (BT.2020 primaries and matrix, 10 bits, narrow
// range, 4:2:0) to standard dynamic range (Rec. ITU-R BT.709, narrow range). Light is compressed
// with the EETF of Rec. ITU-R BT.2390, section 5.4.1, applied to the largest of R, G and B,
// which preserves hues. Primaries are converted as in Rec. ITU-R BT.2087; colours outside BT.709
// are clipped. It is for one goroutine at a time.
type ToneMapper struct {
	planes  [3]toneTable
	weights [chromaOne * chromaOne][8]int16 // interpolation weights by position in a cell: four chroma corners for each of both lumas
}

// toneTable holds, for each cell of the grid by Cb, Cr and Y, the results at its corners: four
// pairs of chroma values for the lower luma, then for the upper one.
type toneTable [chromaSteps * chromaSteps * lumaSteps][8]int16

// NewToneMapper computes the tables for video whose brightest light is peak cd/m2; 0 means 1000.
func NewToneMapper(light Light, peak float64) *ToneMapper {
	m := &ToneMapper{}
	if peak <= 0 || light == HLG {
		peak = 1000
	}
	compress := newCompression(max(peak, referenceWhite+1))
	for u := range chromaOne {
		for v := range chromaOne {
			w := [4]int16{int16((chromaOne - u) * (chromaOne - v)), int16((chromaOne - u) * v), int16(u * (chromaOne - v)), int16(u * v)}
			copy(m.weights[u*chromaOne+v][:4], w[:])
			copy(m.weights[u*chromaOne+v][4:], w[:])
		}
	}
	for cb := range chromaSteps + 1 {
		for cr := range chromaSteps + 1 {
			for y := range lumaSteps + 1 {
				luma, blue, red := mapColour(light, compress, (float64(y*lumaOne)-64)/876,
					(float64(cb*chromaOne)-512)/896, (float64(cr*chromaOne)-512)/896)
				for i, v := range [3]float64{16 + 219*luma, 128 + 224*blue, 128 + 224*red} {
					m.planes[i].put(cb, cr, y, int16(math.Round(max(0, min(v, 255))*(1<<fraction))))
				}
			}
		}
	}
	return m
}

// put stores a knot in all cells of which it is a corner.
func (t *toneTable) put(cb, cr, y int, v int16) {
	for corner := range 8 {
		b, r, k := cb-corner>>1&1, cr-corner&1, y-corner>>2
		if min(b, r, k) >= 0 && b < chromaSteps && r < chromaSteps && k < lumaSteps {
			t[(b*chromaSteps+r)*lumaSteps+k][corner] = v
		}
	}
}

// mapColour maps one colour.
func mapColour(light Light, compress compression, y, cb, cr float64) (luma, blue, red float64) {
	rgb := [3]float64{y + 1.4746*cr, y - 0.16455312684366*cb - 0.57135312684366*cr, y + 1.8814*cb} // BT.2020, table 4
	for i := range rgb {
		rgb[i] = max(0, min(rgb[i], 1))
	}
	if light == PQ {
		for i := range rgb {
			rgb[i] = pqLight(rgb[i])
		}
	} else {
		rgb = hlgLight(rgb)
	}
	if most := max(rgb[0], rgb[1], rgb[2]); most > 0 {
		factor := compress.of(most) / most / referenceWhite
		for i := range rgb {
			rgb[i] *= factor
		}
	}
	rgb = [3]float64{ // BT.2020 to BT.709
		1.660491*rgb[0] - 0.587641*rgb[1] - 0.072850*rgb[2],
		-0.124550*rgb[0] + 1.132900*rgb[1] - 0.008349*rgb[2],
		-0.018151*rgb[0] - 0.100579*rgb[1] + 1.118730*rgb[2]}
	for i := range rgb {
		rgb[i] = math.Pow(max(0, min(rgb[i], 1)), 1/2.4) // the inverse of BT.1886
	}
	luma = 0.2126*rgb[0] + 0.7152*rgb[1] + 0.0722*rgb[2]
	return luma, (rgb[2] - luma) / 1.8556, (rgb[0] - luma) / 1.5748
}

// Constants of Rec. ITU-R BT.2100, tables 4 and 5.
const (
	pqM1, pqM2          = 2610.0 / 16384, 2523.0 / 4096 * 128
	pqC1, pqC2, pqC3    = 3424.0 / 4096, 2413.0 / 4096 * 32, 2392.0 / 4096 * 32
	hlgA, hlgB, hlgC    = 0.17883277, 0.28466892, 0.55991073
	hlgPeak, hlgGamma   = 1000, 1.2
	lumaR, lumaG, lumaB = 0.2627, 0.6780, 0.0593
)

// pqLight returns the light in cd/m2 of a PQ signal.
func pqLight(signal float64) float64 {
	p := math.Pow(signal, 1/pqM2)
	return 10000 * math.Pow(max(0, p-pqC1)/(pqC2-pqC3*p), 1/pqM1)
}

// pqSignal is the inverse of pqLight.
func pqSignal(light float64) float64 {
	y := math.Pow(min(light, 10000)/10000, pqM1)
	return math.Pow((pqC1+pqC2*y)/(1+pqC3*y), pqM2)
}

// hlgLight returns the light in cd/m2 on a display of hlgPeak: the inverse OETF followed by the
// OOTF.
func hlgLight(rgb [3]float64) [3]float64 {
	for i, e := range rgb {
		if e <= 0.5 {
			rgb[i] = e * e / 3
		} else {
			rgb[i] = (math.Exp((e-hlgC)/hlgA) + hlgB) / 12
		}
	}
	luma := lumaR*rgb[0] + lumaG*rgb[1] + lumaB*rgb[2]
	gain := hlgPeak * math.Pow(luma, hlgGamma-1)
	for i := range rgb {
		rgb[i] *= gain
	}
	return rgb
}

// compression is the EETF of BT.2390 from sources of up to peak cd/m2 to displays of
// referenceWhite.
type compression struct{ peak, most, knee float64 } // PQ signals, most and knee relative to peak

func newCompression(peak float64) compression {
	c := compression{peak: pqSignal(peak)}
	c.most = pqSignal(referenceWhite) / c.peak
	c.knee = 1.5*c.most - 0.5
	return c
}

// of returns the compressed light, in cd/m2.
func (c compression) of(light float64) float64 {
	e := min(pqSignal(light)/c.peak, 1)
	if e < c.knee {
		return light
	}
	t := (e - c.knee) / (1 - c.knee)
	spline := (2*t*t*t-3*t*t+1)*c.knee + (t*t*t-2*t*t+t)*(1-c.knee) + (-2*t*t*t+3*t*t)*c.most
	return pqLight(spline * c.peak)
}

// Map converts src, of 10 bits, to dst, of 8; both are 4:2:0 and have one size.
func (m *ToneMapper) Map(dst, src *Picture) {
	w, h := C420.PlaneSize(1, src.Width, src.Height)
	for y := range h {
		row := func(plane, y int) []uint16 {
			return src.Planes[plane].Wide[min(y, src.Height-1)*src.Planes[plane].Stride:]
		}
		to := func(plane, y int) []byte {
			return dst.Planes[plane].Pix[min(y, src.Height-1)*dst.Planes[plane].Stride:]
		}
		b := blocks{luma: [2][]uint16{row(0, 2*y)[:src.Width], row(0, 2*y+1)[:src.Width]}, cb: row(1, y)[:w], cr: row(2, y)[:w],
			toLuma: [2][]byte{to(0, 2*y)[:src.Width], to(0, 2*y+1)[:src.Width]}, toCb: to(1, y)[:w], toCr: to(2, y)[:w]}
		for x := m.mapFast(&b, src.Width/2); x < w; x++ {
			m.block(&b, x)
		}
	}
}

// blocks are two rows of luma with their row of chroma, and where the results go.
type blocks struct {
	luma       [2][]uint16
	cb, cr     []uint16
	toLuma     [2][]byte
	toCb, toCr []byte
}

// block maps one chroma sample and its four luma samples.
func (m *ToneMapper) block(b *blocks, x int) {
	cb, cr := int(min(b.cb[x], 1023)), int(min(b.cr[x], 1023))
	cell := (cb>>chromaBits*chromaSteps + cr>>chromaBits) * lumaSteps
	w := &m.weights[cb&(chromaOne-1)<<chromaBits+cr&(chromaOne-1)]
	left, right := 2*x, min(2*x+1, len(b.luma[0])-1)
	sum := 0
	for i, row := range b.luma {
		for _, at := range [2]int{left, right} {
			y := int(min(row[at], lumaHighest))
			sum += y
			b.toLuma[i][at] = m.planes[0].look(cell, y, w)
		}
	}
	mean := (sum + 2) / 4
	b.toCb[x], b.toCr[x] = m.planes[1].look(cell, mean, w), m.planes[2].look(cell, mean, w)
}

// look interpolates the result for a luma in a cell of chroma, with weights for the cell's
// corners.
func (t *toneTable) look(cell, luma int, weights *[8]int16) byte {
	knots := &t[cell+luma>>lumaBits]
	lower, upper := 0, 0
	for i := range 4 {
		lower += int(knots[i]) * int(weights[i])
		upper += int(knots[i+4]) * int(weights[i])
	}
	f := luma & (lumaOne - 1)
	return byte((lower*(lumaOne-f) + upper*f + mapRounding) >> mapShift)
}
