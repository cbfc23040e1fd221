package h264

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality/browser"
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
			c := encoding.Encode(t, settings(change), 20)
			got, damaged := frames(t, c.Packets, 2)
			require.Empty(t, damaged)
			require.Equal(t, c.Sums, got)
			t.Logf("%d bits, %.2f dB", c.Bits, c.PSNR)
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
		c := encoding.Encode(t, set, 10)
		got, damaged := frames(t, c.Packets, 1)
		require.Empty(t, damaged, "%+v", set)
		require.Equal(t, c.Sums, got, "%+v", set)
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
				codectest.Film(p, n)
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
			c := encoding.Encode(t, settings(change), 20)
			got, damaged := sums(t, c.Packets)
			require.Zero(t, damaged)
			want, err := b.Decode(fmt.Sprintf("avc1.%02X%02X%02X", c.Track.Config[1], c.Track.Config[2], c.Track.Config[3]), c.Packets, true)
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
		encoding.BitrateIsHeld(t, set)
	}
}

func BenchmarkEncoder(b *testing.B) {
	encoding.BenchmarkEncoder(b, settings(func(*media.EncoderSettings) {}))
}

func BenchmarkQuality(b *testing.B) {
	encoding.BenchmarkQuality(b, settings(func(*media.EncoderSettings) {}))
}

// What an encoder needs it takes at the beginning: the pictures after that allocate
// next to nothing.
func TestEncodingAllocatesNothingAPicture(t *testing.T) {
	for _, depth := range []int{8, 10} {
		set := settings(func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height, s.Format.Depth = 352, 288, depth })
		encoding.AllocatesNothing(t, set)
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
				codectest.Film(p, n)
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
		}
		require.Equal(t, streams[0], streams[1])
	}
}
