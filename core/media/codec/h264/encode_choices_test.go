package h264

import (
	"bytes"
	mathbits "math/bits"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// choices codes pictures of luma alone and tells how often each kind of macroblock was
// chosen in the last one.
func choices(t *testing.T, effort media.Preset, qp, frames int, draw func(n, x, y int) float64) (count map[string]int) {
	set := settings(func(s *media.EncoderSettings) {
		s.Format.Width, s.Format.Height, s.QP, s.Preset, s.KeyEvery = 192, 192, qp, effort, 50
	})
	e, err := NewEncoder(set, func(*media.Packet) error { return nil })
	require.NoError(t, err)
	e.reconstructed = func(*frame) {
		count = map[string]int{}
		for i := range e.work.mbs {
			m := &e.work.mbs[i]
			switch {
			case m.kind == kind16x16:
				count["16x16"]++
			case m.intra() && m.transform8:
				count["8x8"]++
			case m.intra():
				count["4x4"]++
			case m.skip:
				count["skipped"]++
			case m.cbp&15 == 0:
				count["without levels"]++
			case m.transform8:
				count["large transform"]++
			default:
				count["small transform"]++
			}
		}
	}
	for n := range frames {
		p := picture.New(192, 192, 8, picture.C420)
		for y := range 192 {
			for x := range 192 {
				p.Planes[0].Pix[y*p.Planes[0].Stride+x] = uint8(max(0, min(draw(n, x, y), 255)))
			}
		}
		for k := 1; k < 3; k++ {
			for i := range p.Planes[k].Pix {
				p.Planes[k].Pix[i] = 128
			}
		}
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	return count
}

// Sparks that come and go take the small transform, slopes that rise the large one.
func TestTransformFollowsTheContent(t *testing.T) {
	sparks := func(n, x, y int) float64 {
		if n == 1 && x%16 == 5 && y%8 == 2 {
			return 230
		}
		return 100 + 60*wave(float64(x), float64(y))
	}
	slopes := func(n, x, y int) float64 { return 60 + 25*float64(n)*wave(float64(x)/2, float64(y)/2) }
	for _, effort := range []media.Preset{media.Fast, media.Good} {
		count := choices(t, effort, 26, 2, sparks)
		require.Greater(t, count["small transform"], 5*count["large transform"], "sparks: %v", count)
		count = choices(t, effort, 26, 3, slopes)
		require.Greater(t, count["large transform"], 3*count["small transform"], "slopes: %v", count)
	}
}

// freshNoise is flat noise that is new in every picture.
func freshNoise(n, x, y int) float64 {
	r := rand.New(rand.NewPCG(uint64(n), uint64(y*192+x)))
	return 120 + 14*r.NormFloat64()
}

// Noise is predicted as a whole: small blocks would but follow it, and a picture before doubles it.
func TestNoiseIsPredictedAsAWhole(t *testing.T) {
	for _, qp := range []int{26, 18} {
		count := choices(t, media.Fast, qp, 4, freshNoise)
		require.Greater(t, count["16x16"], 100, "%v", count)
		require.Less(t, count["4x4"], 40, "%v", count)
	}
}

// Noise is looked for before motion where quantisers are fine, but what moves below and beside it keeps its vectors.
func TestMotionAmongNoise(t *testing.T) {
	count := choices(t, media.Fast, 18, 4, func(n, x, y int) float64 {
		if x < 96 || y < 96 {
			return freshNoise(n, x, y)
		}
		return 120 + 70*wave(float64(x+3*n), float64(y))
	})
	require.InDelta(t, 108, count["16x16"]+count["4x4"], 6, "%v", count)
}

// A few small AC levels are no worth their bits in a macroblock of noise: with fine quantisers all or none are coded.
func TestFewLevelsOfNoiseAreLeftOut(t *testing.T) {
	for _, amplitude := range []float64{2, 12} {
		set := settings(func(s *media.EncoderSettings) { s.QP, s.KeyEvery = 20, 50 })
		e, err := NewEncoder(set, func(*media.Packet) error { return nil })
		require.NoError(t, err)
		var some, all int // macroblocks of Intra_16x16 with a few levels, and with many
		e.reconstructed = func(*frame) {
			for i := range e.work.mbs {
				if m := &e.work.mbs[i]; m.kind == kind16x16 && m.cbp&15 != 0 {
					n := mathbits.OnesCount16(m.luma)
					some, all = some+oneIf(n < 2), all+oneIf(n >= 2)
				}
			}
		}
		p := picture.New(176, 144, 8, picture.C420)
		for n := range 3 {
			for y := range 144 {
				for x := range 176 {
					p.Planes[0].Pix[y*p.Planes[0].Stride+x] = uint8(120 + amplitude*(freshNoise(n, x, y)-120)/14)
				}
			}
			require.NoError(t, e.Encode(p, int64(n)))
		}
		require.NoError(t, e.Flush())
		require.Zero(t, some, "amplitude %v", amplitude)
		require.Equal(t, amplitude > 10, all > 50, "amplitude %v: %d", amplitude, all)
	}
}

// What fine lines in many directions cross is predicted in small blocks in a key frame, a
// flat surface is not.
func TestKeyFramesTakeSmallBlocksWhereTheyTell(t *testing.T) {
	hatched := func(_, x, y int) float64 {
		switch (x/8 + y/8) % 3 {
		case 0:
			return float64(60 + 120*oneIf((x+y)/2%2 == 0))
		case 1:
			return float64(60 + 120*oneIf(x/2%2 == 0))
		}
		return float64(60 + 120*oneIf(y/2%2 == 0))
	}
	for _, effort := range []media.Preset{media.Fast, media.Good} {
		count := choices(t, effort, 26, 1, hatched)
		require.Greater(t, count["4x4"]+count["8x8"], 120, "%v", count)
		count = choices(t, effort, 26, 1, func(_, x, y int) float64 { return 90 })
		require.Greater(t, count["16x16"], 100, "%v", count)
	}
}

// Several pictures before help a B picture, too: what was covered for a moment, or comes
// again, is found further back.
func TestBPicturesReferFurtherBack(t *testing.T) {
	taken := func(references int) (bits int) {
		set := settings(func(s *media.EncoderSettings) {
			s.BFrames, s.References, s.Preset, s.KeyEvery, s.QP = 1, references, media.Good, 50, 24
		})
		e, err := NewEncoder(set, func(p *media.Packet) error {
			bits += 8 * len(p.Data)
			return nil
		})
		require.NoError(t, err)
		for n := range 16 { // every fourth picture comes again
			p := picture.New(176, 144, 8, picture.C420)
			shifted(p, 31*float64(n%4), 17*float64(n%4))
			require.NoError(t, e.Encode(p, int64(n)))
		}
		require.NoError(t, e.Flush())
		return bits
	}
	one, four := taken(1), taken(4)
	require.Less(t, four, one*9/10, "%d bits with one reference, %d with four", one, four)
}

// A rate that no video has is not stated: one flipped bit must not make somebody ask for
// millions of frames.
func TestRatesThatMakeNoSenseAreNotStated(t *testing.T) {
	for _, v := range []vui{{unitsInTick: 1, timeScale: 1<<32 - 1}, {unitsInTick: 1<<32 - 1, timeScale: 1}, {unitsInTick: 0, timeScale: 50}} {
		s := sps{vui: v}
		require.Zero(t, s.format().Rate.Num, "%+v", v)
	}
	s := sps{vui: vui{unitsInTick: 1001 << 16, timeScale: 60000 << 16}}
	require.Equal(t, media.Rate{Num: 30000, Den: 1001}, s.format().Rate)
}

// Frames without times follow one another at the stated rate, in the units of their track.
func TestTimesOfFramesThatHaveNone(t *testing.T) {
	format := media.Format{Codec: Name, Width: 64, Height: 64, Depth: 8, Chroma: picture.C420, Transfer: media.SDR, Rate: media.Rate{Num: 30000, Den: 1001}}
	var packets []media.Packet
	e, err := NewEncoder(media.EncoderSettings{Format: format, QP: 30, KeyEvery: 4}, func(p *media.Packet) error {
		q := *p
		q.Data = bytes.Clone(p.Data)
		packets = append(packets, q)
		return nil
	})
	require.NoError(t, err)
	for i := range 4 {
		require.NoError(t, e.Encode(picture.New(64, 64, 8, picture.C420), int64(i)))
	}
	require.NoError(t, e.Flush())
	track, err := e.Track()
	require.NoError(t, err)
	track.Timescale = 90000
	d, err := NewDecoder(track, 1)
	require.NoError(t, err)
	defer d.Close()
	go func() {
		for i := range packets {
			if packets[i].PTS = media.NoTime; i == 1 {
				packets[i].PTS = 90000
			}
			if d.Send(t.Context(), &packets[i]) != nil {
				return
			}
		}
		d.Drain()
	}()
	for _, want := range []int64{0, 90000, 93003, 96006} {
		f, err := d.Receive(t.Context())
		require.NoError(t, err)
		require.Equal(t, want, f.PTS)
		f.Release()
	}
}

// Interlaced video has no level beyond 4.1 (table A-4).
func TestLevelsOfInterlacedVideo(t *testing.T) {
	f := media.Format{Codec: Name, Width: 1920, Height: 1080, Interlaced: true, Depth: 8, Chroma: picture.C420, Rate: media.Rate{Num: 25, Den: 1}, Bitrate: 60e6}
	require.NoError(t, CheckFormat(f))
	e, err := NewEncoder(media.EncoderSettings{Format: f, KeyEvery: 25}, nil)
	require.NoError(t, err)
	require.LessOrEqual(t, e.sps.level, 41)
	f.Bitrate = 100e6
	require.ErrorContains(t, CheckFormat(f), "level 4.1")
	f.Width, f.Height, f.Bitrate = 3840, 2160, 40e6
	require.ErrorContains(t, CheckFormat(f), "level 4.1")
}
