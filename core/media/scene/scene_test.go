package scene

import (
	"bytes"
	"image"
	"image/jpeg"
	"image/png"
	"math"
	"math/bits"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

var fps25 = media.Rate{Num: 25, Den: 1}

func drawn(w, h int, rate media.Rate, frame int) *picture.Picture {
	return drawnOf("harbour", w, h, rate, frame)
}

func drawnOf(name string, w, h int, rate media.Rate, frame int) *picture.Picture {
	s, err := New(Order{Scene: name, Format: media.Format{Width: w, Height: h, Rate: rate, Depth: 8}})
	if err != nil {
		panic(err)
	}
	p := picture.New(w, h, 8, picture.C420)
	s.NewDrawer().Draw(p, frame)
	return p
}

func asImage(p *picture.Picture) *image.YCbCr {
	return &image.YCbCr{Y: p.Planes[0].Pix, Cb: p.Planes[1].Pix, Cr: p.Planes[2].Pix,
		YStride: p.Planes[0].Stride, CStride: p.Planes[1].Stride, Rect: image.Rect(0, 0, p.Width, p.Height),
		SubsampleRatio: image.YCbCrSubsampleRatio420}
}

func TestStripsSurviveTheWorstCompression(t *testing.T) {
	for _, size := range [][2]int{{144, 80}, {284, 160}, {426, 240}, {1920, 1080}} {
		for _, frame := range []int{0, 1, 255, 4096, 123456, frameMask} {
			p := drawn(size[0], size[1], fps25, frame)
			n, ok := ReadNumber(p)
			require.True(t, ok, "%v", size)
			require.Equal(t, frame, n)
			if size[0] < 426 {
				continue // cells narrower than a block
			}
			var b bytes.Buffer
			require.NoError(t, jpeg.Encode(&b, asImage(p), &jpeg.Options{Quality: 1}))
			m, err := jpeg.Decode(&b)
			require.NoError(t, err)
			y := m.(*image.YCbCr)
			p.Planes[0] = picture.Plane{Pix: y.Y, Stride: y.YStride}
			n, ok = ReadNumber(p)
			require.True(t, ok, "%v frame %d", size, frame)
			require.Equal(t, frame, n)
		}
	}
}

// A frame's strip and the next one's differ in one cell of the number, so that what a camera sees of both
// is one of them.
func TestStripsBetweenTwoFrames(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 1000 {
		m := Mark{Frame: r.IntN(frameMask), Clip: r.IntN(1 << clipBits)}
		next := m
		next.Frame++
		a, b := stripCells(m), stripCells(next)
		require.Equal(t, 1, bits.OnesCount64((a^b)&dataMask))
		got, ok := strip.Decode(a&b, a^b)
		if bits.OnesCount64((a^b)&^dataMask) > checkBits-leastChecks {
			require.False(t, ok, "the check says too little")
			continue
		}
		require.True(t, ok)
		require.Contains(t, []Mark{m, next}, got)
		_, ok = strip.Decode(a^1<<(dataAt+r.IntN(20+clipBits)), 0)
		require.False(t, ok, "a wrong cell")
	}
}

// Strips of both kinds are told apart.
func TestOlderStrips(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	fill := func(p *picture.Picture, h int, s *Strip, cells uint64) {
		for y := range p.Height {
			if y >= h && y < p.Height-h {
				continue
			}
			for x := range p.Width {
				v := byte(16)
				if cells>>(s.Cells-1-x*s.Cells/p.Width)&1 != 0 {
					v = 235
				}
				p.Planes[0].Pix[y*p.Planes[0].Stride+x] = v
			}
		}
	}
	for range 300 {
		p := drawn(640, 360, fps25, 1)
		frame := r.IntN(1 << 24)
		sum := 0
		for rest := frame; rest > 0; rest >>= 4 {
			sum ^= rest & 15
		}
		fill(p, olderStrip.Height(360), &olderStrip, 1<<31|1|uint64(frame)<<6|uint64(sum)<<2)
		m, ok := Read(p)
		require.True(t, ok)
		require.Equal(t, Mark{Frame: frame}, m)
		now := Mark{Frame: r.IntN(frameMask), Clip: 1 + r.IntN(1<<16-1)}
		fill(p, strip.Height(360), &strip, stripCells(now))
		m, ok = Read(p)
		require.True(t, ok)
		require.Equal(t, now, m)
		_, ok = olderStrip.read(p, 2)
		require.False(t, ok)
	}
}

// Marks take less than 3 % of pictures from 480 rows on.
func TestMarksAreSmall(t *testing.T) {
	for _, size := range [][2]int{{640, 480}, {854, 480}, {480, 854}, {1024, 576}, {1280, 720}, {1920, 800}, {1920, 1080}, {3840, 2160}, {7680, 4320}} {
		h := strip.Height(size[1])
		side := signSide(size[0], size[1])
		share := float64(2*h*size[0]+4*side*side) / float64(size[0]*size[1])
		require.Less(t, share, 0.03, "%v", size)
	}
}

func TestDamagedStripIsNotRead(t *testing.T) {
	p := drawn(426, 240, fps25, 77)
	for y := range 240 {
		for x := 100; x < 140; x++ {
			p.Planes[0].Pix[y*p.Planes[0].Stride+x] = byte(x * 97)
		}
	}
	n, ok := ReadNumber(p)
	require.False(t, ok && n != 77)
	_, ok = ReadNumber(picture.New(16, 16, 8, picture.C420))
	require.False(t, ok)
}

// Shrunk to the same small size, the pictures of all sizes look alike; the next
// second does not.
func TestSameContentAtEverySize(t *testing.T) {
	small := func(p *picture.Picture) []float64 {
		const w, h = 32, 18
		out := make([]float64, w*h)
		for i := range out {
			x0, y0, n := i%w*p.Width/w, i/w*p.Height/h, 0
			for y := y0; y < y0+p.Height/h; y++ {
				for x := x0; x < x0+p.Width/w; x++ {
					out[i] += float64(p.Planes[0].Pix[y*p.Planes[0].Stride+x])
					n++
				}
			}
			out[i] /= float64(n)
		}
		return out
	}
	distance := func(a, b []float64) (sum float64) {
		for i := range a {
			sum += math.Abs(a[i]-b[i]) / float64(len(a))
		}
		return sum
	}
	reference := small(drawn(1280, 720, fps25, 50))
	require.Less(t, distance(reference, small(drawn(640, 360, fps25, 50))), 3.0)
	require.Less(t, distance(reference, small(drawn(3840, 2160, fps25, 50))), 3.0)
	// Only the frame number and its strips differ at another rate.
	require.Less(t, distance(reference, small(drawn(1280, 720, media.Rate{Num: 50, Den: 1}, 100))), 9.0)
	require.Greater(t, distance(reference, small(drawn(1280, 720, fps25, 65))), 9.0)
}

func TestEachFrameIsNew(t *testing.T) {
	seen := map[string]int{}
	for frame := range 60 {
		sum := drawn(320, 180, fps25, frame).MD5()
		require.NotContains(t, seen, sum)
		seen[sum] = frame
	}
	require.Equal(t, drawn(320, 180, fps25, 7).MD5(), drawn(320, 180, fps25, 7).MD5())
}

// Every scene moves, has its strips in every kind of picture, and differs by
// seed and from shot to shot.
func TestScenesInEveryFormat(t *testing.T) {
	for _, name := range Names() {
		for _, f := range []media.Format{
			{Depth: 8, Chroma: picture.C422}, {Depth: 10}, {Depth: 10, Chroma: picture.C422, Transfer: media.PQ},
			{Depth: 10, Transfer: media.HLG}, {Depth: 8, Interlaced: true}, {Depth: 10, Interlaced: true, Chroma: picture.C422},
		} {
			f.Width, f.Height, f.Rate = 320, 180, fps25
			var sums []string
			for _, o := range []Order{{}, {Seed: 9}, {Noise: 40}} {
				o.Scene, o.Format = name, f
				s, err := New(o)
				require.NoError(t, err)
				d, p := s.NewDrawer(), picture.New(f.Width, f.Height, f.Depth, f.Chroma)
				for _, frame := range []int{5, 6, 5 + shot*25} {
					d.Draw(p, frame)
					n, ok := ReadNumber(p)
					require.True(t, ok, "%s %+v", name, f)
					require.Equal(t, frame, n)
					require.NotContains(t, sums, p.MD5())
					sums = append(sums, p.MD5())
				}
			}
		}
	}
	_, err := New(Order{Scene: "desert", Format: media.Format{Width: 320, Height: 180, Rate: fps25}})
	require.ErrorContains(t, err, "harbour, rain, kelp")
}

// The two fields of an interlaced frame are of different times; those of a
// progressive one are not.
func TestFieldsAreOfTheirOwnTime(t *testing.T) {
	combing := func(interlaced bool) (sum float64) {
		f := media.Format{Width: 640, Height: 360, Rate: fps25, Depth: 8, Interlaced: interlaced}
		s, err := New(Order{Format: f})
		require.NoError(t, err)
		p := picture.New(f.Width, f.Height, 8, picture.C420)
		s.NewDrawer().Draw(p, 20)
		for y := 200; y < 240; y += 2 { // where the ferry is
			for x := range 640 {
				at := func(y int) float64 { return float64(p.Planes[0].Pix[y*p.Planes[0].Stride+x]) }
				sum += math.Abs(at(y)-at(y+1)) - math.Abs(at(y)-at(y+2))
			}
		}
		return sum / (20 * 640)
	}
	require.Greater(t, combing(true), combing(false)+0.3)
}

// Lamps are brighter than white where the format has room for it, and greys take
// steps of 10 bits.
func TestHighlightsAndGradients(t *testing.T) {
	look := func(depth int, transfer media.Transfer) (most int, values map[uint16]bool) {
		f := media.Format{Width: 640, Height: 360, Rate: fps25, Depth: depth, Transfer: transfer}
		s, err := New(Order{Scene: "rain", Format: f})
		require.NoError(t, err)
		p := picture.New(f.Width, f.Height, depth, picture.C420)
		s.NewDrawer().Draw(p, 30)
		values = map[uint16]bool{}
		for y := 40; y < 320; y++ {
			for x := range 640 {
				v := p.Planes[0].Wide[y*p.Planes[0].Stride+x]
				values[v] = true
				most = max(most, int(v))
			}
		}
		return most, values
	}
	sdr, values := look(10, media.SDR)
	require.Equal(t, 940, sdr)
	require.Greater(t, len(values), 300)
	bright, _ := look(10, media.PQ)
	white := int(codesFor(media.PQ, 10)[white])
	require.InDelta(t, 64+876*0.58, white, 4, "203 cd/m2 are 58 % PQ (Rec. ITU-R BT.2408)")
	require.Greater(t, bright, white+100)
	require.InDelta(t, 64+876*0.75, codesFor(media.HLG, 10)[3760], 4, "203 cd/m2 are 75 % HLG")
}

// The vector instructions do what the plain loops do.
func TestRowsInVectors(t *testing.T) {
	for n := range 70 {
		line, profile, a, b := make([]int16, n), make([]int16, n), make([]int8, n), make([]int8, n)
		want, bytesOut, plain := make([]int16, n), make([]byte, n), make([]byte, n)
		for i := range n {
			profile[i], a[i], b[i] = int16(hash(uint32(i))>>20)-500*int16(i&1), int8(hash(uint32(i+100))), int8(hash(uint32(i+200)))
			want[i] = 300 + profile[i] + (int16(a[i])*7-int16(b[i])*11)>>3
			plain[i] = byte(max(16, min((want[i]+int16(a[i])*5>>3+8)>>4, 235)))
		}
		mix(line, 300, profile, a, 7, b, -11)
		require.Equal(t, want, line)
		store(bytesOut, line, a, 5, 16, 235)
		require.Equal(t, plain, bytesOut)
		wide, shifted := make([]uint16, n), make([]uint16, n)
		for i, v := range want {
			shifted[i] = uint16(max(1, min(v>>2, 1023)))
		}
		storeShifted(wide, line, 2)
		require.Equal(t, shifted, wide)
		for i, v := range a {
			if i%3 > 0 {
				a[i] = noHouse
			} else if v != noHouse {
				want[i] = 2000 + int16(v)*13
			}
		}
		overlay(line, a)
		require.Equal(t, want, line)
		for i := range want {
			want[i] += int16(2600 - 17.3*math.Abs(float64(100+i)+0.5-130.7))
		}
		beam(line, 100, 130.7, 17.3)
		require.Equal(t, want, line)
	}
}

func BenchmarkDraw(b *testing.B) {
	for _, name := range Names() {
		for _, size := range [][2]int{{1920, 1080}, {3840, 2160}} {
			f := media.Format{Width: size[0], Height: size[1], Rate: fps25, Depth: 8}
			b.Run(name+" "+f.Size(), func(b *testing.B) {
				s, err := New(Order{Scene: name, Format: f, Noise: 3})
				require.NoError(b, err)
				d, p := s.NewDrawer(), picture.New(size[0], size[1], 8, picture.C420)
				b.ReportAllocs()
				for i := 0; b.Loop(); i++ {
					d.Draw(p, i)
				}
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "frames/s")
			})
		}
	}
}

// TestMain lets a developer look at frames: SCENE_PNG=/tmp/ go test.
func TestMain(m *testing.M) {
	if dir := os.Getenv("SCENE_PNG"); dir != "" {
		for _, name := range Names() {
			f, err := os.Create(dir + name + ".png")
			if err == nil {
				err = png.Encode(f, asImage(drawnOf(name, 1280, 720, fps25, 33)))
			}
			if err != nil {
				panic(err)
			}
		}
	}
	os.Exit(m.Run())
}

func BenchmarkStage(b *testing.B) {
	for b.Loop() {
		_, err := New(Order{Format: media.Format{Width: 3840, Height: 2160, Rate: fps25, Depth: 8}})
		require.NoError(b, err)
	}
}
