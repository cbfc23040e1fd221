package hevc

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
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
