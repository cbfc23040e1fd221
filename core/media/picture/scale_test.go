package picture

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// drawn is a picture whose samples a formula gives, from 0 to 1, by their place
// in the picture from 0 to 1.
func drawn(s Shape, value func(plane int, x, y float64) float64) *Picture {
	p := New(s.Width, s.Height, s.Depth, s.Chroma)
	for i := range p.Planes {
		w, h := s.Chroma.PlaneSize(i, s.Width, s.Height)
		for y := range h {
			for x := range w {
				v := value(i, lumaX(s, i, x)/float64(s.Width), lumaY(s, i, y)/float64(s.Height))
				set(p, i, x, y, int(math.Round(v*float64(int(1)<<s.Depth-1))))
			}
		}
	}
	return p
}

// lumaX and lumaY are where a sample is, in luma samples from the edge.
func lumaX(s Shape, plane, x int) float64 {
	if plane > 0 && (s.Chroma == C420 || s.Chroma == C422) {
		return float64(2*x) + 0.5
	}
	return float64(x) + 0.5
}

func lumaY(s Shape, plane, y int) float64 {
	if plane > 0 && s.Chroma == C420 {
		return float64(2*y) + 1
	}
	return float64(y) + 0.5
}

func set(p *Picture, plane, x, y, v int) {
	if q := &p.Planes[plane]; q.Wide != nil {
		q.Wide[y*q.Stride+x] = uint16(v)
	} else {
		q.Pix[y*q.Stride+x] = byte(v)
	}
}

func at(p *Picture, plane, x, y int) int {
	if q := &p.Planes[plane]; q.Wide != nil {
		return int(q.Wide[y*q.Stride+x])
	}
	return int(p.Planes[plane].Pix[y*p.Planes[plane].Stride+x])
}

func wave(plane int, x, y float64) float64 {
	return 0.5 + 0.2*math.Sin(9*x+float64(plane)) + 0.2*math.Cos(7*y-2*x)
}

// Whatever the shapes are, the same content comes out as if it had been drawn
// at the new size.
func TestScaledPicturesShowTheSame(t *testing.T) {
	shapes := []Shape{{640, 360, 8, C420}, {426, 240, 8, C420}, {284, 160, 10, C420}, {960, 540, 10, C422}, {130, 98, 8, C444}, {1280, 720, 12, C420}}
	for _, from := range shapes {
		src := drawn(from, wave)
		for _, to := range shapes {
			dst := New(to.Width, to.Height, to.Depth, to.Chroma)
			NewScaler(from, to, AllRows).Scale(dst, src)
			want := drawn(to, wave)
			worst := 0.0
			for i := range dst.Planes {
				w, h := to.Chroma.PlaneSize(i, to.Width, to.Height)
				for y := 4; y < h-4; y++ { // at the edges the picture is taken to go on evenly
					for x := 4; x < w-4; x++ {
						worst = max(worst, math.Abs(float64(at(dst, i, x, y)-at(want, i, x, y)))/float64(int(1)<<to.Depth))
					}
				}
			}
			require.Less(t, worst, 0.009, "%v to %v", from, to)
		}
	}
}

// A field alone gives the picture of the field's moment, with nothing of the
// other field in it.
func TestFieldsAreScaledApart(t *testing.T) {
	from, to := Shape{320, 240, 8, C420}, Shape{320, 240, 8, C420}
	for rows, value := range map[Rows]int{TopField: 200, BottomField: 40} {
		src := New(320, 240, 8, C420)
		for i := range src.Planes {
			w, h := C420.PlaneSize(i, 320, 240)
			for y := range h {
				for x := range w {
					set(src, i, x, y, map[bool]int{true: 200, false: 40}[y%2 == 0])
				}
			}
		}
		dst := New(320, 240, 8, C420)
		NewScaler(from, to, rows).Scale(dst, src)
		for y := range 240 {
			require.Equal(t, value, at(dst, 0, 7, y))
		}
	}
	// And lies where the frame's rows do.
	src := drawn(from, func(_ int, _, y float64) float64 { return 0.1 + 0.8*y })
	for _, rows := range []Rows{TopField, BottomField} {
		dst := New(320, 240, 8, C420)
		NewScaler(from, to, rows).Scale(dst, src)
		for y := 8; y < 232; y++ {
			require.InDelta(t, at(src, 0, 5, y), at(dst, 0, 5, y), 1, "row %d", y)
		}
	}
}

func TestSameShapeIsCopied(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, s := range []Shape{{66, 50, 8, C420}, {64, 48, 10, C422}} {
		src := drawn(s, func(int, float64, float64) float64 { return random.Float64() })
		dst := New(s.Width, s.Height, s.Depth, s.Chroma)
		NewScaler(s, s, AllRows).Scale(dst, src)
		require.Equal(t, src.MD5(), dst.MD5())
	}
}

// The assembly and the plain loops give the same.
func TestFastLoopsEqualPlainOnes(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for _, depth := range []int{8, 10} {
		for range 50 {
			from := Shape{33 + random.IntN(300), 33 + random.IntN(200), depth, C420}
			to := Shape{33 + random.IntN(300), 33 + random.IntN(200), 8 + 2*random.IntN(2), C420}
			src := drawn(from, func(int, float64, float64) float64 { return math.Round(random.Float64()) })
			dst := New(to.Width, to.Height, to.Depth, to.Chroma)
			NewScaler(from, to, AllRows).Scale(dst, src)
			p := planeScaler{down: NewScaler(from, to, AllRows).planes[0].down, across: NewScaler(from, to, AllRows).planes[0].across}
			for range 40 {
				x, y := random.IntN(to.Width), random.IntN(to.Height)
				require.Equal(t, p.exactly(src, x, y, from, to), at(dst, 0, x, y), "%v to %v at %d,%d", from, to, x, y)
			}
		}
	}
}

// exactly computes one sample of luma one multiplication at a time.
func (p *planeScaler) exactly(src *Picture, x, y int, from, to Shape) int {
	total := int32(1) << (coefficientBits + middleBits - to.Depth - 1)
	for j := range p.across.taps {
		column := min(p.across.first[x]+j, from.Width-1)
		shift := from.Depth + coefficientBits - middleBits
		sum := int32(1) << (shift - 1)
		for k := range p.down.taps {
			sum += int32(p.down.coefficients[y*p.down.taps+k]) * int32(at(src, 0, column, min(p.down.first[y]+k, from.Height-1)))
		}
		total += sum >> shift * int32(p.across.coefficients[x*p.across.taps+j])
	}
	return int(max(0, min(total>>(coefficientBits+middleBits-to.Depth), 1<<to.Depth-1)))
}

func BenchmarkScale(b *testing.B) {
	for _, c := range []struct {
		name     string
		from, to Shape
	}{
		{"1080to720", Shape{1920, 1080, 8, C420}, Shape{1280, 720, 8, C420}},
		{"2160x10to720x10", Shape{3840, 2160, 10, C420}, Shape{1280, 720, 10, C420}},
		{"1080to160", Shape{1920, 1080, 8, C420}, Shape{284, 160, 8, C420}},
	} {
		b.Run(c.name, func(b *testing.B) {
			src, dst := drawn(c.from, wave), New(c.to.Width, c.to.Height, c.to.Depth, c.to.Chroma)
			s := NewScaler(c.from, c.to, AllRows)
			b.ReportAllocs()
			for b.Loop() {
				s.Scale(dst, src)
			}
		})
	}
}
