package picture

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// grey is the signal of 10 bits of grey light in cd/m2.
func grey(signal float64) int { return int(math.Round(64 + 876*signal)) }

func mapped(m *ToneMapper, y, cb, cr int) (luma, blue, red int) {
	src, dst := New(16, 16, 10, C420), New(16, 16, 8, C420)
	for y0 := range 16 {
		for x := range 16 {
			set(src, 0, x, y0, y)
			if x < 8 && y0 < 8 {
				set(src, 1, x, y0, cb)
				set(src, 2, x, y0, cr)
			}
		}
	}
	m.Map(dst, src)
	return at(dst, 0, 9, 9), at(dst, 1, 3, 3), at(dst, 2, 3, 3)
}

func TestGreyIsMappedAsBT2390Says(t *testing.T) {
	m := NewToneMapper(PQ, 1000)
	c := newCompression(1000)
	last := 0
	for light := 0.5; light <= 1000; light *= 1.3 {
		luma, blue, red := mapped(m, grey(pqSignal(light)), 512, 512)
		want := 16 + 219*math.Pow(c.of(light)/referenceWhite, 1/2.4)
		require.InDelta(t, want, luma, 1.1, "%g cd/m2", light)
		require.InDelta(t, 128, blue, 1)
		require.InDelta(t, 128, red, 1)
		require.GreaterOrEqual(t, luma, last)
		last = luma
	}
	// Dark light stays, the brightest becomes white, and what lies between
	// is neither cut off nor left.
	require.InDelta(t, 20, c.of(20), 0.01)
	require.InDelta(t, referenceWhite, c.of(1000), 0.1)
	require.Less(t, c.of(200), 180.0)
	require.Greater(t, c.of(400), 185.0)
	require.Less(t, c.of(400), c.of(800))
	luma, _, _ := mapped(m, 940, 512, 512)
	require.InDelta(t, 235, luma, 1)
	luma, _, _ = mapped(m, 64, 512, 512)
	require.Equal(t, 16, luma)
}

func TestHLGGreyIsMapped(t *testing.T) {
	m := NewToneMapper(HLG, 0)
	luma, blue, red := mapped(m, grey(0.75), 512, 512) // HLG's reference white: 203 cd/m2
	require.InDelta(t, 16+219*math.Pow(newCompression(1000).of(203)/referenceWhite, 1/2.4), luma, 1.5)
	require.InDelta(t, 128, blue, 1)
	require.InDelta(t, 128, red, 1)
	luma, _, _ = mapped(m, grey(1), 512, 512)
	require.InDelta(t, 235, luma, 1)
}

// Colours keep their hue, and what the table gives lies close to the formula
// between its knots, too.
func TestColoursAreMappedAsTheFormulaSays(t *testing.T) {
	m := NewToneMapper(PQ, 1000)
	c := newCompression(1000)
	sum := 0.0
	var offs []float64
	for y := 100; y < 700; y += 37 {
		for cb := 430; cb < 600; cb += 31 {
			for cr := 430; cr < 600; cr += 29 {
				v, u, w := float64(y-64)/876, float64(cb-512)/896, float64(cr-512)/896
				if r, g, b := v+1.4746*w, v-0.1646*u-0.5714*w, v+1.8814*u; min(r, g, b) < 0.1 || max(r, g, b) > 0.75 {
					continue // cut off somewhere
				}
				luma, blue, red := mapColour(PQ, c, v, u, w)
				if max(math.Abs(blue), math.Abs(red)) > 0.3 {
					continue
				}
				gotY, gotB, gotR := mapped(m, y, cb, cr)
				for _, off := range []float64{16 + 219*luma - float64(gotY), 128 + 224*blue - float64(gotB), 128 + 224*red - float64(gotR)} {
					offs = append(offs, math.Abs(off))
					sum += math.Abs(off)
				}
			}
		}
	}
	// Where BT.709 cuts colours off, there is a bend between two knots.
	slices.Sort(offs)
	require.Less(t, sum/float64(len(offs)), 1.5)
	require.Less(t, offs[len(offs)*95/100], 6.0)
}

func TestPQIsItsOwnInverse(t *testing.T) {
	for light := 0.01; light < 10000; light *= 2 {
		require.InEpsilon(t, light, pqLight(pqSignal(light)), 1e-6)
	}
	require.InDelta(t, 0.5807, pqSignal(203), 1e-3) // BT.2408, table 1
}

func TestFastMappingEqualsThePlainOne(t *testing.T) {
	m := NewToneMapper(PQ, 4000)
	random := rand.New(rand.NewPCG(5, 6))
	for _, size := range [][2]int{{64, 32}, {34, 18}, {35, 17}} {
		src, fast, plain := New(size[0], size[1], 10, C420), New(size[0], size[1], 8, C420), New(size[0], size[1], 8, C420)
		for i := range src.Planes {
			for k := range src.Planes[i].Wide {
				src.Planes[i].Wide[k] = uint16(random.IntN(1100))
			}
		}
		m.Map(fast, src)
		w, h := C420.PlaneSize(1, size[0], size[1])
		for y := range h {
			below := min(2*y+1, size[1]-1)
			b := blocks{cb: src.Planes[1].Wide[y*w:][:w], cr: src.Planes[2].Wide[y*w:][:w], toCb: plain.Planes[1].Pix[y*w:][:w], toCr: plain.Planes[2].Pix[y*w:][:w],
				luma:   [2][]uint16{src.Planes[0].Wide[2*y*size[0]:][:size[0]], src.Planes[0].Wide[below*size[0]:][:size[0]]},
				toLuma: [2][]byte{plain.Planes[0].Pix[2*y*size[0]:][:size[0]], plain.Planes[0].Pix[below*size[0]:][:size[0]]}}
			for x := range w {
				m.block(&b, x)
			}
		}
		require.Equal(t, plain.MD5(), fast.MD5())
	}
}

func BenchmarkToneMap720p(b *testing.B) {
	src, dst := drawn(Shape{1280, 720, 10, C420}, wave), New(1280, 720, 8, C420)
	m := NewToneMapper(PQ, 1000)
	b.ReportAllocs()
	for b.Loop() {
		m.Map(dst, src)
	}
}
