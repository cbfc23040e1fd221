package h264

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/quality/browser"
	"vividstrain/core/media/scene"
)

// film draws frame n of something that moves: waves that travel, a disc that
// crosses, a cut now and then, and fine noise.
func film(p *picture.Picture, n int) {
	seed := uint32(n)*2654435761 + 1
	for i := range p.Planes {
		w, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		for y := range h {
			for x := range w {
				u, v := float64(x)*float64(p.Width)/float64(w), float64(y)*float64(p.Height)/float64(h)
				t := float64(n)
				s := 110 + 40*math.Sin((u+2.3*t)/9) + 30*math.Sin((v-1.1*t)/7+u/31) + float64(n/17%2*30)
				if math.Hypot(u-math.Mod(5*t, float64(p.Width)), v-float64(p.Height)/2) < float64(p.Height)/6 {
					s = 200 + 20*math.Sin(u*v/50)
				}
				if i > 0 {
					s = 128 + (s-128)*0.4
				}
				seed = seed*1664525 + 1013904223
				s += float64(seed>>28) / 4
				value := max(0, min(s, 255))
				if p.Planes[i].Wide != nil {
					p.Planes[i].Wide[y*p.Planes[i].Stride+x] = uint16(value * float64(int(1)<<(p.Depth-8)))
				} else {
					p.Planes[i].Pix[y*p.Planes[i].Stride+x] = byte(value)
				}
			}
		}
	}
}

// coded is what an encoder made.
type coded struct {
	track   media.Track
	packets [][]byte // byte streams
	sums    []string // of the encoder's own pictures
	bits    int
	psnr    float64 // of luma, mean
	bitsOf  []int
}

func encode(t testing.TB, set media.EncoderSettings, frames int) (c coded) {
	var sources []*picture.Picture
	var e *Encoder
	shown := 0
	e, err := NewEncoder(set, func(p *media.Packet) error {
		filter, err := toByteStream(c.track)
		require.NoError(t, err)
		list, err := filter(p)
		require.NoError(t, err)
		c.packets = append(c.packets, list[0].Data)
		c.bits += 8 * len(p.Data)
		c.bitsOf = append(c.bitsOf, 8*len(p.Data))
		return nil
	})
	require.NoError(t, err)
	c.track, err = e.Track()
	require.NoError(t, err)
	e.reconstructed = func(f *frame) {
		c.sums = append(c.sums, f.Picture.MD5())
		c.psnr += quality.PSNR(&f.Picture, sources[shown]) / float64(frames)
		shown++
	}
	for n := range frames {
		p := picture.New(set.Format.Width, set.Format.Height, set.Format.Depth, set.Format.Chroma)
		film(p, n)
		sources = append(sources, p)
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	require.Equal(t, frames, shown)
	return c
}

func settings(change func(*media.EncoderSettings)) media.EncoderSettings {
	s := media.EncoderSettings{Format: media.Format{Codec: Name, Width: 176, Height: 144, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8},
		QP: 28, KeyEvery: 12}
	change(&s)
	return s
}

var kinds = map[string]func(*media.EncoderSettings){
	"P":            func(s *media.EncoderSettings) {},
	"intra":        func(s *media.EncoderSettings) { s.KeyEvery = 1 },
	"CAVLC":        func(s *media.EncoderSettings) { s.Simple = true },
	"B":            func(s *media.EncoderSettings) { s.BFrames = 2 },
	"B CAVLC":      func(s *media.EncoderSettings) { s.BFrames, s.Simple = 2, true },
	"B pyramid":    func(s *media.EncoderSettings) { s.BFrames = 3; s.References = 2 },
	"B deep":       func(s *media.EncoderSettings) { s.BFrames = 7 },
	"references":   func(s *media.EncoderSettings) { s.References = 4 },
	"slices":       func(s *media.EncoderSettings) { s.Slices = 3 },
	"good":         func(s *media.EncoderSettings) { s.Preset = media.Good; s.BFrames = 3 },
	"good CAVLC":   func(s *media.EncoderSettings) { s.Preset = media.Good; s.Simple = true },
	"fields":       func(s *media.EncoderSettings) { s.Format.Interlaced = true },
	"fields B":     func(s *media.EncoderSettings) { s.Format.Interlaced = true; s.BFrames = 2; s.Slices = 2 },
	"fields CAVLC": func(s *media.EncoderSettings) { s.Format.Interlaced = true; s.Simple = true; s.References = 2 },
	"fields intra": func(s *media.EncoderSettings) { s.Format.Interlaced = true; s.KeyEvery = 1 },
	"10 bit":       func(s *media.EncoderSettings) { s.Format.Depth = 10 },
	"10 bit B":     func(s *media.EncoderSettings) { s.Format.Depth = 10; s.BFrames = 3; s.Preset = media.Good },
	"4:2:2":        func(s *media.EncoderSettings) { s.Format.Chroma = picture.C422; s.BFrames = 2 },
	"4:2:2 10 bit": func(s *media.EncoderSettings) { s.Format.Chroma, s.Format.Depth = picture.C422, 10; s.Simple = true },
	"4:2:2 intra":  func(s *media.EncoderSettings) { s.Format.Chroma, s.Format.Depth, s.KeyEvery = picture.C422, 10, 1 },
	"4:2:2 fields": func(s *media.EncoderSettings) {
		s.Format.Chroma = picture.C422
		s.Format.Interlaced = true
		s.BFrames = 1
	},
	"odd size":    func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height = 182, 98; s.BFrames = 2 },
	"coarse":      func(s *media.EncoderSettings) { s.QP = 46; s.BFrames = 2 },
	"fine":        func(s *media.EncoderSettings) { s.QP = 4 },
	"fine CAVLC":  func(s *media.EncoderSettings) { s.QP = 0; s.Simple = true; s.BFrames = 1 },
	"fine 10 bit": func(s *media.EncoderSettings) { s.QP = -8; s.Format.Depth = 10; s.Simple = true },
}

// What the encoder reconstructs is what the decoder decodes.
func TestEncoderAgreesWithDecoder(t *testing.T) {
	for name, change := range kinds {
		t.Run(name, func(t *testing.T) {
			c := encode(t, settings(change), 20)
			got, damaged := frames(t, c.packets, 2)
			require.Empty(t, damaged)
			require.Equal(t, c.sums, got)
			t.Logf("%d bits, %.2f dB", c.bits, c.psnr)
		})
	}
}

// Whatever the size, the quantiser and the effort, what the encoder made is what is
// decoded, also where blocks and vectors reach over the edges.
func TestEncoderAgreesWithDecoderAtAnySize(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for range 40 {
		set := settings(func(s *media.EncoderSettings) {
			s.Format.Width, s.Format.Height = 16+2*r.IntN(60), 16+2*r.IntN(40)
			s.Format.Depth = 8 + 2*r.IntN(2)
			s.QP, s.KeyEvery, s.BFrames = r.IntN(52), 1+r.IntN(12), r.IntN(4)
			s.Preset, s.Simple, s.Slices = media.Preset(r.IntN(2)), r.IntN(3) == 0, 1+r.IntN(3)
		})
		c := encode(t, set, 10)
		got, damaged := frames(t, c.packets, 1)
		require.Empty(t, damaged, "%+v", set)
		require.Equal(t, c.sums, got, "%+v", set)
	}
}

// A processor without vectors makes the same bytes: two reviewers can tell that they
// used the same clips.
func TestPlainKernelsMakeTheSameStream(t *testing.T) {
	for _, change := range []func(*media.EncoderSettings){
		func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height = 1280, 96 },
		func(s *media.EncoderSettings) { s.Preset, s.BFrames = media.Good, 2 },
		func(s *media.EncoderSettings) { s.Format.Depth, s.Format.Chroma = 10, picture.C422 },
	} {
		var streams [2][]byte
		for i := range streams {
			set := settings(change)
			e, err := NewEncoder(set, func(p *media.Packet) error { streams[i] = append(streams[i], p.Data...); return nil })
			require.NoError(t, err)
			if i == 1 {
				e.byte.k, e.wide.k = goEncodeKernels[uint8](), goEncodeKernels[uint16]()
				e.byte.r.k, e.wide.r.k = goKernels[uint8](), goKernels[uint16]()
			}
			for n := range 6 {
				p := e.Picture()
				film(p, n)
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
		}
		require.Equal(t, streams[0], streams[1])
	}
}

// The browser decodes all kinds of streams to the same samples.
func TestBrowserDecodesOurStreams(t *testing.T) {
	b, err := browser.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	defer b.Close()
	for name, change := range kinds {
		t.Run(name, func(t *testing.T) {
			c := encode(t, settings(change), 20)
			got, damaged := sums(t, c.packets)
			require.Zero(t, damaged)
			want, err := b.Decode(fmt.Sprintf("avc1.%02X%02X%02X", c.track.Config[1], c.track.Config[2], c.track.Config[3]), c.packets, true)
			require.NoError(t, err)
			require.Equal(t, want.Sums, got)
		})
	}
}

// The bitrate that was ordered comes out, and no second takes much more.
func TestBitrateIsHeld(t *testing.T) {
	for _, o := range []struct {
		bitrate int64
		change  func(*media.EncoderSettings)
	}{
		{100_000, func(s *media.EncoderSettings) {}},
		{300_000, func(s *media.EncoderSettings) { s.BFrames = 2 }},
		{1_000_000, func(s *media.EncoderSettings) { s.BFrames = 3; s.KeyEvery = 25 }},
		{3_000_000, func(s *media.EncoderSettings) { s.Simple = true }},
		{8_000_000, func(s *media.EncoderSettings) { s.KeyEvery = 1 }},
		{1_500_000, func(s *media.EncoderSettings) { s.Format.Interlaced = true; s.BFrames = 1 }},
		{2_000_000, func(s *media.EncoderSettings) { s.Format.Depth = 10 }},
	} {
		set := settings(func(s *media.EncoderSettings) {
			s.Format.Width, s.Format.Height, s.KeyEvery, s.Format.Bitrate = 320, 192, 50, o.bitrate
			o.change(s)
		})
		name := fmt.Sprintf("%d %+v", o.bitrate, set)
		c := encode(t, set, 150)
		require.InEpsilon(t, float64(o.bitrate)*6, float64(c.bits), 0.03, name)
		worst := 0
		for from := 25; from+25 <= len(c.bitsOf); from++ {
			sum := 0
			for _, n := range c.bitsOf[from : from+25] {
				sum += n
			}
			worst = max(worst, sum)
		}
		t.Logf("%s: mean %.3f worst second %.3f, %.1f dB", name, float64(c.bits)/float64(o.bitrate*6), float64(worst)/float64(o.bitrate), c.psnr)
		require.Less(t, float64(worst), 1.3*float64(o.bitrate), name)
	}
}

// BenchmarkEncoder codes 1080p with a constant quantiser on one thread, without
// drawing.
func BenchmarkEncoder(b *testing.B) {
	for _, effort := range []media.Preset{media.Fast, media.Good} {
		b.Run([]string{"fast", "good"}[effort], func(b *testing.B) {
			set := settings(func(s *media.EncoderSettings) {
				s.Format.Width, s.Format.Height, s.Preset, s.KeyEvery = 1920, 1080, effort, 50
			})
			e, err := NewEncoder(set, func(p *media.Packet) error { return nil })
			require.NoError(b, err)
			stage, err := scene.New(scene.Order{Format: set.Format})
			require.NoError(b, err)
			d := stage.NewDrawer()
			var list []*picture.Picture
			for n := range 10 {
				p := picture.New(1920, 1080, 8, picture.C420)
				d.Draw(p, n)
				list = append(list, p)
			}
			n := 0
			b.ReportAllocs()
			for b.Loop() {
				require.NoError(b, e.Encode(list[n%10], int64(n)))
				n++
			}
			b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "frames/s")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// What an encoder needs it takes at the beginning: the pictures after that allocate
// next to nothing.
func TestEncodingAllocatesNothingAPicture(t *testing.T) {
	for _, depth := range []int{8, 10} {
		set := settings(func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height, s.Format.Depth = 352, 288, depth })
		e, err := NewEncoder(set, func(*media.Packet) error { return nil })
		require.NoError(t, err)
		n := 0
		next := func() {
			p := e.Picture()
			film(p, n)
			require.NoError(t, e.Encode(p, int64(n)))
			n++
		}
		for range 2 * set.KeyEvery {
			next()
		}
		require.Less(t, testing.AllocsPerRun(2*set.KeyEvery, next), 1.0, "%d bits", depth)
	}
}

// A picture that was drawn into the encoder's own comes out as one that it copied, whatever its size.
func TestHeldPicturesEqualCopies(t *testing.T) {
	for _, change := range []func(*media.EncoderSettings){
		func(s *media.EncoderSettings) {},
		func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height, s.BFrames = 170, 134, 2 },
		func(s *media.EncoderSettings) {
			s.Format.Depth, s.Format.Chroma, s.Format.Interlaced = 10, picture.C422, true
		},
	} {
		set := settings(change)
		var streams [2][]byte
		for i := range streams {
			e, err := NewEncoder(set, func(p *media.Packet) error { streams[i] = append(streams[i], p.Data...); return nil })
			require.NoError(t, err)
			own := picture.New(set.Format.Width, set.Format.Height, set.Format.Depth, set.Format.Chroma)
			for n := range 15 {
				p := own
				if i == 1 {
					p = e.Picture()
				}
				film(p, n)
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
		}
		require.Equal(t, streams[0], streams[1])
	}
}
