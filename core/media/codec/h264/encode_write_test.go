package h264

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/picture"
)

// Blocks of coefficients of every kind come back, with both entropy coders.
func TestCoefficientsRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for _, useCabac := range []bool{false, true} {
		for _, cat := range []int{catDC16, catAC16, cat4x4, catChromaDC, catChromaAC, cat8x8} {
			if cat == cat8x8 && !useCabac {
				continue // is sent as four blocks of 4x4
			}
			for range 300 {
				size := map[int]int{catAC16: 15, catChromaAC: 15, cat8x8: 64}[cat]
				if size == 0 {
					size = 16
				}
				if cat == catChromaDC {
					size = 4 << r.IntN(2)
				}
				l := make([]int16, size)
				dense, large := 1+r.IntN(8), r.IntN(13)
				for i := range l {
					if r.IntN(dense) == 0 {
						l[i] = int16(r.IntN(1<<large+2) - 1<<large/2)
					}
				}
				require.Equal(t, l, there(t, useCabac, cat, l))
			}
		}
	}
}

// there writes a block and reads it back.
func there(t *testing.T, useCabac bool, cat int, l []int16) []int16 {
	h := &sliceHeader{pps: &pps{cabac: useCabac}, sps: &sps{}, structure: framepool.WholeFrame, qp: 30}
	d := &sliceDecoder{h: h}
	w := &sliceWriter{}
	w.begin(d)
	b := &block{cat: cat, out: make([]int32, 64), scan: make([]uint8, len(l)), scale: make([]int32, 64)}
	for i := range b.scan {
		b.scan[i], b.scale[i] = uint8(i), 1
	}
	count := 0
	for _, v := range l {
		count += oneIf(v != 0)
	}
	table := 0
	if useCabac {
		require.Equal(t, count, w.cabacCoeffs(cat, l, nonZeroOf(l)))
		w.endOfMb(true)
		if count == 0 {
			return l // coded_block_flag tells, not the block
		}
	} else {
		if table = count % 4; table == 3 {
			table = 5 // codes of fixed length
		}
		if cat == catChromaDC {
			table = 3 + len(l)>>3
		}
		require.Equal(t, count, w.cavlcCoeffs(cat, l, nonZeroOf(l), table))
	}
	data := w.end()
	read := &sliceDecoder{h: h, r: bits.NewReader(append(bytes.Clone(data), make([]byte, 16)...))}
	if useCabac {
		initContexts(&read.cabac.State, 0, 30)
		read.cabac.Start(data)
		require.Equal(t, count, read.cabacCoeffs(b, -1))
	} else {
		n, err := read.cavlcCoeffs(b, table)
		require.NoError(t, err)
		require.Equal(t, count, n)
	}
	got := make([]int16, len(l))
	for i := range got {
		got[i] = int16(b.out[i])
	}
	return got
}

// Parameter sets and slice headers say what they were made from.
func TestHeadersRoundTrip(t *testing.T) {
	for name, change := range kinds {
		set := settings(change)
		set.Colour = media.Colour{Primaries: 9, Transfer: 16, Matrix: 9}
		e, err := NewEncoder(set, nil)
		require.NoError(t, err)
		f := set.Format
		s := e.sps // as it was read back
		require.Equal(t, [2]int{f.Width, f.Height}, [2]int{s.width, s.height}, name)
		require.Equal(t, f.Depth, s.depth, name)
		require.Equal(t, f.Chroma, s.chroma, name)
		require.Equal(t, f.Interlaced, !s.frameMbsOnly, name)
		require.Equal(t, set.Reorder(), s.reorder, name)
		require.Equal(t, [3]int{9, 16, 9}, [3]int{s.vui.Primaries, s.vui.Transfer, s.vui.Matrix}, name)
		require.EqualValues(t, 2*f.Rate.Num, s.vui.timeScale, name)
		require.Equal(t, !set.Simple, e.pps.cabac, name)
		for _, kind := range []sliceType{sliceI, sliceP, sliceB} {
			h := sliceHeader{nalType: nalSlice, refIDC: 2, sps: s, pps: e.pps, firstMb: 7, kind: kind, frameNum: 77, structure: framepool.WholeFrame,
				spatialDirect: true, cabacInit: 2, pocLSB: 301, qp: 33, numRefs: [2]int{3, 2}}
			if kind != sliceI {
				h.modifications[0] = []refOp{{0, 4, 0}, {1, 2, 0}}
			}
			if f.Interlaced {
				h.structure = framepool.BottomField
			}
			w := &bits.Writer{}
			h.write(w)
			end := w.Pos()
			var got sliceHeader
			r := bits.NewReader(w.Bytes())
			require.NoError(t, got.parse(&r, 0x41, &e.s.spss, &e.s.ppss), name)
			require.Equal(t, end, r.Pos(), name)
			require.Equal(t, []any{h.firstMb, h.kind, h.frameNum, h.structure, h.pocLSB, h.qp},
				[]any{got.firstMb, got.kind, got.frameNum, got.structure, got.pocLSB, got.qp}, name)
			if kind != sliceI {
				require.Equal(t, h.modifications[0], got.modifications[0], name)
				require.Equal(t, 3, got.numRefs[0], name)
			}
			if kind == sliceB {
				require.True(t, got.spatialDirect)
				require.Equal(t, 2, got.numRefs[1], name)
			}
		}
	}
}

// Levels follow from table A-1: the size, the rate, the references, the bitrate.
func TestLevels(t *testing.T) {
	for _, c := range []struct {
		w, h       int
		rate       int
		interlaced bool
		bitrate    int64
		depth      int
		refs       int
		level      int
	}{
		{176, 144, 15, false, 100_000, 8, 1, 11},
		{320, 240, 20, false, 300_000, 8, 1, 12},
		{352, 288, 30, false, 700_000, 8, 1, 13},
		{352, 288, 30, false, 2_200_000, 8, 1, 20},
		{720, 576, 25, true, 4_000_000, 8, 1, 30},
		{720, 576, 25, false, 20_000_000, 8, 1, 32},
		{1280, 720, 30, false, 5_000_000, 8, 1, 31},
		{1280, 720, 60, false, 5_000_000, 8, 1, 32},
		{1920, 1080, 30, false, 20_000_000, 8, 4, 40},
		{1920, 1080, 30, false, 40_000_000, 8, 4, 41},
		{1920, 1080, 30, false, 20_000_000, 10, 1, 40},
		{1920, 1080, 60, false, 20_000_000, 8, 1, 42},
		{1920, 1080, 25, true, 20_000_000, 8, 2, 40},
		{1920, 1080, 30, false, 100_000_000, 8, 1, 50},
		{3840, 2160, 30, false, 40_000_000, 8, 1, 51},
		{3840, 2160, 60, false, 80_000_000, 8, 1, 52},
		{3840, 2160, 120, false, 300_000_000, 8, 1, 60},
		{3840, 2160, 25, false, 400_000_000, 8, 1, 61},
	} {
		s := &sps{profile: 100, mbWidth: (c.w + 15) / 16, mbHeight: (c.h + 15) / 16, maxRefFrames: c.refs}
		if c.depth > 8 {
			s.profile = 110
		}
		f := &media.Format{Rate: media.Rate{Num: c.rate, Den: 1}, Bitrate: c.bitrate, Interlaced: c.interlaced}
		require.Equal(t, c.level, levelFor(s, f), "%+v", c)
	}
}

// Groups are made up as they are coded.
func TestKindsAreCounted(t *testing.T) {
	for name, change := range kinds {
		set := settings(change)
		var count [3]int
		e, err := NewEncoder(set, func(*media.Packet) error { return nil })
		require.NoError(t, err)
		for _, frames := range []int{1, 2, 3, 7, 11, 12} {
			if set.KeyEvery == 1 {
				continue
			}
			e.Begin(media.Group{Frames: frames})
			p := picture.New(set.Format.Width, set.Format.Height, set.Format.Depth, set.Format.Chroma)
			e.Rate.Bitrate = 1e6 // so that pictures are counted
			require.NoError(t, e.Encode(p, 0))
			for n := 1; n < frames; n++ {
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
			count = e.Rate.Left()
			require.Equal(t, [3]int{}, count, "%s, %d frames are left", name, frames)
		}
	}
}

// The lowest level of a format is also one that we do not write.
func TestLevelsOfFormats(t *testing.T) {
	f := media.Format{Width: 176, Height: 144, Rate: media.Rate{Num: 15, Den: 1}, Bitrate: 60_000, Depth: 8, Chroma: picture.C420}
	require.Equal(t, "1", formatLevel(f))
	f.Bitrate = 150_000
	require.Equal(t, "1b", formatLevel(f))
	f.Width, f.Height, f.Rate, f.Bitrate = 1920, 1080, media.Rate{Num: 50, Den: 1}, 20_000_000
	require.Equal(t, "4.2", formatLevel(f))
	f.Bitrate = 2_000_000_000
	require.Empty(t, formatLevel(f))
	f.Interlaced, f.Width, f.Height, f.Bitrate = true, 3840, 2160, 20_000_000
	require.Empty(t, formatLevel(f))
}
