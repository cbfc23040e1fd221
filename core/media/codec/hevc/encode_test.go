package hevc

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
)

// encoding drives the encoder in tests.
var encoding = codectest.Encoding{ToByteStream: toByteStream,
	New: func(set media.EncoderSettings, out func(*media.Packet) error, shown func(*picture.Picture)) (media.Encoder, error) {
		e, err := NewEncoder(set, out)
		if err == nil && shown != nil {
			e.reconstructed = func(f *frame) { shown(&f.Picture) }
		}
		return e, err
	}}

func settings(change func(*media.EncoderSettings)) media.EncoderSettings {
	s := media.EncoderSettings{Format: media.Format{Codec: Name, Width: 176, Height: 144, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8},
		QP: 28, KeyEvery: 12}
	change(&s)
	return s
}

var kinds = map[string]func(*media.EncoderSettings){
	"P":            func(s *media.EncoderSettings) {},
	"intra":        func(s *media.EncoderSettings) { s.KeyEvery = 1 },
	"B":            func(s *media.EncoderSettings) { s.BFrames = 2 },
	"B pyramid":    func(s *media.EncoderSettings) { s.BFrames = 3; s.References = 2 },
	"B deep":       func(s *media.EncoderSettings) { s.BFrames = 7 },
	"references":   func(s *media.EncoderSettings) { s.References = 4 },
	"good":         func(s *media.EncoderSettings) { s.Preset = media.Good; s.BFrames = 3 },
	"10 bit":       func(s *media.EncoderSettings) { s.Format.Depth = 10 },
	"10 bit B":     func(s *media.EncoderSettings) { s.Format.Depth = 10; s.BFrames = 3; s.Preset = media.Good },
	"4:2:2":        func(s *media.EncoderSettings) { s.Format.Chroma = picture.C422; s.BFrames = 2 },
	"4:2:2 10 bit": func(s *media.EncoderSettings) { s.Format.Chroma, s.Format.Depth = picture.C422, 10 },
	"4:2:2 intra":  func(s *media.EncoderSettings) { s.Format.Chroma, s.Format.Depth, s.KeyEvery = picture.C422, 10, 1 },
	"odd size":     func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height = 182, 98; s.BFrames = 2 },
	"coarse":       func(s *media.EncoderSettings) { s.QP = 46; s.BFrames = 2 },
	"fine":         func(s *media.EncoderSettings) { s.QP = 4 },
	"finest":       func(s *media.EncoderSettings) { s.QP = 0; s.BFrames = 1 },
	"fine 10 bit":  func(s *media.EncoderSettings) { s.QP = -8; s.Format.Depth = 10 },
}

// decoded returns the MD5 of each picture, and how many are damaged.
func decoded(t testing.TB, packets [][]byte, threads int) (sums []string, damaged int) {
	d, err := NewDecoder(media.Track{}, threads)
	require.NoError(t, err)
	require.NoError(t, codectest.Decode(t, d, packets, func(f media.Frame) {
		sums = append(sums, f.Picture.MD5())
		if f.Damaged {
			damaged++
		}
	}))
	return sums, damaged
}

// What the encoder reconstructs is what the decoder decodes.
func TestEncoderAgreesWithDecoder(t *testing.T) {
	for name, change := range kinds {
		t.Run(name, func(t *testing.T) {
			c := encoding.Encode(t, settings(change), 20)
			got, damaged := decoded(t, c.Packets, 2)
			require.Zero(t, damaged)
			require.Equal(t, c.Sums, got)
			t.Logf("%d bits, %.2f dB", c.Bits, c.PSNR)
		})
	}
}

// Whatever the size, the quantiser and the effort, what the encoder made is what is decoded, also where
// blocks and vectors reach over the edges.
func TestEncoderAgreesWithDecoderAtAnySize(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for range 40 {
		set := settings(func(s *media.EncoderSettings) {
			s.Format.Width, s.Format.Height = 16+2*r.IntN(60), 16+2*r.IntN(40)
			s.Format.Depth = 8 + 2*r.IntN(2)
			s.QP, s.KeyEvery, s.BFrames = r.IntN(52), 1+r.IntN(12), r.IntN(4)
			s.Preset = media.Preset(r.IntN(2))
		})
		c := encoding.Encode(t, set, 10)
		got, damaged := decoded(t, c.Packets, 1)
		require.Zero(t, damaged, "%+v", set)
		require.Equal(t, c.Sums, got, "%+v", set)
	}
}

// The bitrate that was ordered comes out, and no second takes much more.
func TestBitrateIsHeld(t *testing.T) {
	for bitrate, change := range map[int64]func(*media.EncoderSettings){
		100_000:   func(s *media.EncoderSettings) {},
		300_000:   func(s *media.EncoderSettings) { s.BFrames = 2 },
		1_000_000: func(s *media.EncoderSettings) { s.BFrames, s.KeyEvery = 3, 25 },
		8_000_000: func(s *media.EncoderSettings) { s.KeyEvery = 1 },
		2_000_000: func(s *media.EncoderSettings) { s.Format.Depth = 10 },
	} {
		encoding.BitrateIsHeld(t, settings(func(s *media.EncoderSettings) {
			s.Format.Width, s.Format.Height, s.KeyEvery, s.Format.Bitrate = 320, 192, 50, bitrate
			change(s)
		}))
	}
}

func BenchmarkEncoder(b *testing.B) {
	encoding.BenchmarkEncoder(b, settings(func(*media.EncoderSettings) {}))
}

func BenchmarkQuality(b *testing.B) {
	encoding.BenchmarkQuality(b, settings(func(*media.EncoderSettings) {}))
}

// A processor without vectors makes the same bytes: two reviewers can tell that they used the same clips.
func TestPlainKernelsMakeTheSameStream(t *testing.T) {
	for _, change := range []func(*media.EncoderSettings){
		func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height = 320, 96 },
		func(s *media.EncoderSettings) { s.Preset, s.BFrames = media.Good, 2 },
		func(s *media.EncoderSettings) { s.Format.Depth, s.Format.Chroma = 10, picture.C422 },
	} {
		var streams [2][]byte
		for i := range streams {
			set := settings(change)
			e, err := NewEncoder(set, func(p *media.Packet) error { streams[i] = append(streams[i], p.Data...); return nil })
			require.NoError(t, err)
			if i == 1 && e.byte != nil {
				e.byte.k, e.byte.distance = goKernels[uint8](), motion.GoDistanceKernels[uint8]()
				e.byte.search.DistanceKernels = e.byte.distance
			} else if i == 1 {
				e.wide.k, e.wide.distance = goKernels[uint16](), motion.GoDistanceKernels[uint16]()
				e.wide.search.DistanceKernels = e.wide.distance
			}
			for n := range 6 {
				p := e.Picture()
				codectest.Film(p, n)
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
		}
		require.Equal(t, streams[0], streams[1])
	}
}

// What an encoder needs it takes at the beginning: the pictures after that allocate next to nothing.
func TestEncodingAllocatesNothingAPicture(t *testing.T) {
	for _, depth := range []int{8, 10} {
		set := settings(func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height, s.Format.Depth = 352, 288, depth })
		encoding.AllocatesNothing(t, set)
	}
}

// Where nothing moves, next to nothing is sent, and what moves is found: a film takes far less than its
// pictures on their own.
func TestMotionIsFound(t *testing.T) {
	for name, moves := range map[string]int{"still": 0, "moving": 3} {
		for _, effort := range []media.Preset{media.Fast, media.Good} {
			set := settings(func(s *media.EncoderSettings) { s.Preset = effort })
			var sizes []int
			e, err := NewEncoder(set, func(p *media.Packet) error { sizes = append(sizes, len(p.Data)); return nil })
			require.NoError(t, err)
			wide := picture.New(set.Format.Width+100, set.Format.Height, 8, picture.C420)
			codectest.Film(wide, 0)
			for n := range 6 {
				p := e.Picture()
				for c := range p.Planes {
					w, h := p.Chroma.PlaneSize(c, p.Width, p.Height)
					for y := range h {
						copy(p.Planes[c].Pix[y*p.Planes[c].Stride:][:w], wide.Planes[c].Pix[y*wide.Planes[c].Stride+2*n*moves*w/p.Width:])
					}
				}
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
			for _, size := range sizes[1:] {
				require.Less(t, size*10, sizes[0]*[]int{1, 4}[min(moves, 1)], "%s: %v", name, sizes)
			}
		}
	}
}

// Filters bring pictures nearer to the source than they are without.
func TestOffsetsLowerTheError(t *testing.T) {
	with := encoding.Encode(t, settings(func(s *media.EncoderSettings) { s.QP = 36 }), 6)
	without := codectest.Encoding{ToByteStream: toByteStream, New: func(set media.EncoderSettings, out func(*media.Packet) error, shown func(*picture.Picture)) (media.Encoder, error) {
		e, err := NewEncoder(set, out)
		if err == nil {
			e.reconstructed = func(f *frame) { shown(&f.Picture) }
			e.byte.saoClasses = 0
		}
		return e, err
	}}.Encode(t, settings(func(s *media.EncoderSettings) { s.QP = 36 }), 6)
	require.Greater(t, with.PSNR, without.PSNR)
}
