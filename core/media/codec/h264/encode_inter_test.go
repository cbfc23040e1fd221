package h264

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/scene"
)

// shifted draws smooth noise that moves by whole and quarter samples a frame.
func shifted(p *picture.Picture, x, y float64) {
	for j := range p.Height {
		for i := range p.Width {
			p.Planes[0].Pix[j*p.Planes[0].Stride+i] = uint8(128 + 100*wave(float64(i)-x, float64(j)-y))
		}
	}
	for k := 1; k < 3; k++ {
		for i := range p.Planes[k].Pix {
			p.Planes[k].Pix[i] = 128
		}
	}
}

// wave is a smooth pattern without a period within the picture.
func wave(x, y float64) float64 {
	sine := func(v float64) float64 { // a parabola's version, smooth enough
		v -= float64(int(v/2)) * 2
		if v < 0 {
			v += 2
		}
		if v < 1 {
			return 4 * v * (1 - v)
		}
		return -4 * (v - 1) * (2 - v)
	}
	return 0.5*sine(x/19+y/47) + 0.3*sine(y/13-x/71) + 0.2*sine((x+y)/9)
}

// vectors codes two pictures and gives the vectors of the second one's inner
// macroblocks.
func vectors(t *testing.T, effort media.Preset, x, y float64) (list []motion.Vector) {
	set := settings(func(s *media.EncoderSettings) { s.Format.Width, s.Format.Height, s.QP, s.Preset = 192, 192, 18, effort })
	e, err := NewEncoder(set, func(*media.Packet) error { return nil })
	require.NoError(t, err)
	second := false
	e.reconstructed = func(f *frame) {
		if !second {
			second = true
			return
		}
		for my := 2; my < 10; my++ {
			for mx := 2; mx < 10; mx++ {
				m := &f.mbs[my*12+mx]
				if !m.intra {
					list = append(list, m.mv[0][5])
				}
			}
		}
	}
	for n := range 2 {
		p := picture.New(192, 192, 8, picture.C420)
		shifted(p, float64(n)*x, float64(n)*y)
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	return list
}

// The search finds how far the picture moved, between samples as well.
func TestSearchFindsMotion(t *testing.T) {
	for _, effort := range []media.Preset{media.Fast, media.Good} {
		for _, move := range [][2]float64{{0, 0}, {3, 0}, {-7, 5}, {14, -11}, {0.5, 0}, {2.25, -1.75}, {-5.5, 3.25}} {
			want := motion.Vector{X: int16(-4 * move[0]), Y: int16(-4 * move[1])}
			near := 0
			found := vectors(t, effort, move[0], move[1])
			for _, v := range found {
				if motion.Abs32(int32(v.X-want.X)) <= 1 && motion.Abs32(int32(v.Y-want.Y)) <= 1 {
					near++
				}
			}
			require.Greater(t, near, 64*3/4, "effort %d, moved by %v: of %d found", effort, move, len(found))
		}
	}
}

// A picture that does not change takes next to nothing, whichever the coder.
func TestStillPicturesAreSkipped(t *testing.T) {
	for _, b := range []int{0, 2} {
		for _, cavlc := range []bool{false, true} {
			var sizes []int
			set := settings(func(s *media.EncoderSettings) { s.BFrames, s.Simple, s.KeyEvery = b, cavlc, 50 })
			e, err := NewEncoder(set, func(p *media.Packet) error { sizes = append(sizes, len(p.Data)); return nil })
			require.NoError(t, err)
			p := picture.New(176, 144, 8, picture.C420)
			shifted(p, 0, 0)
			for n := range 10 {
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
			require.Len(t, sizes, 10)
			for _, n := range sizes[2:] {
				require.Less(t, n, 40, "%d B frames, CAVLC %v: %v", b, cavlc, sizes)
			}
		}
	}
}

// The good effort saves bits at equal quality: little where everything moves in
// its own way, much elsewhere.
func TestGoodIsBetterThanFast(t *testing.T) {
	mean := 0.0
	for _, name := range scene.Names() {
		f := media.Format{Codec: Name, Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8}
		stage, err := scene.New(scene.Order{Scene: name, Format: f, Noise: 1})
		require.NoError(t, err)
		d := stage.NewDrawer()
		var sources []*picture.Picture
		for n := range 17 {
			p := picture.New(f.Width, f.Height, 8, picture.C420)
			d.Draw(p, n)
			sources = append(sources, p)
		}
		code := func(effort media.Preset, qp, b int) (bits int, db float64) {
			e, err := NewEncoder(media.EncoderSettings{Format: f, KeyEvery: 50, QP: qp, Preset: effort, BFrames: b},
				func(p *media.Packet) error { bits += 8 * len(p.Data); return nil })
			require.NoError(t, err)
			shown := 0
			e.reconstructed = func(f *frame) {
				db += quality.PSNR(&f.Picture, sources[shown]) / float64(len(sources))
				shown++
			}
			for n, p := range sources {
				require.NoError(t, e.Encode(p, int64(n)))
			}
			require.NoError(t, e.Flush())
			return bits, db
		}
		fastBits, fastDB := code(media.Fast, 28, 0)
		goodBits, goodDB := code(media.Good, 28, 1)
		// A dB is worth about 12 % of the bits at these rates.
		saved := 1 - float64(goodBits)/float64(fastBits) + 0.12*(goodDB-fastDB)
		t.Logf("%s: fast %d bits %.2f dB, good %d bits %.2f dB: %.0f %% saved", name, fastBits, fastDB, goodBits, goodDB, 100*saved)
		require.Greater(t, saved, 0.0, name)
		mean += saved / float64(len(scene.Names()))
	}
	require.Greater(t, mean, 0.15)
}

// Packets come in decoding order with the times of their pictures; key frames
// are where they were ordered, and after a flush it begins anew.
func TestPacketsAndTheirTimes(t *testing.T) {
	for _, b := range []int{0, 1, 2, 3, 5} {
		type packet struct {
			pts int64
			key bool
		}
		var list []packet
		e, err := NewEncoder(settings(func(s *media.EncoderSettings) { s.BFrames, s.KeyEvery = b, 8 }), func(p *media.Packet) error {
			list = append(list, packet{p.PTS, p.Key})
			return nil
		})
		require.NoError(t, err)
		p := picture.New(176, 144, 8, picture.C420)
		for n := range 21 {
			codectest.Film(p, n)
			require.NoError(t, e.Encode(p, int64(100+n)))
			if n == 18 {
				require.NoError(t, e.Flush())
			}
		}
		require.NoError(t, e.Flush())
		require.Len(t, list, 21)
		seen := map[int64]bool{}
		set := settings(func(s *media.EncoderSettings) { s.BFrames, s.KeyEvery = b, 8 })
		for i, p := range list {
			require.False(t, seen[p.pts])
			seen[p.pts] = true
			require.Equal(t, p.pts == 100 || p.pts == 108 || p.pts == 116 || p.pts == 119, p.key, "%d B frames: %v", b, list)
			require.LessOrEqual(t, int64(i-set.Reorder()), p.pts-100, "shown no earlier than decoded, with the delay")
			if p.key {
				for _, later := range list[i:] {
					require.GreaterOrEqual(t, later.pts, p.pts, "groups are closed")
				}
			}
		}
	}
}

// An encoder that is told everything of a group makes the same of it, whatever
// it did before.
func TestGroupsDoNotDependOnThePast(t *testing.T) {
	set := settings(func(s *media.EncoderSettings) { s.Format.Bitrate, s.KeyEvery, s.BFrames = 400_000, 10, 2 })
	group := func(e *Encoder, g media.Group, first int) {
		e.Begin(g)
		p := picture.New(176, 144, 8, picture.C420)
		for n := range g.Frames {
			codectest.Film(p, first+n)
			require.NoError(t, e.Encode(p, int64(n)))
		}
		require.NoError(t, e.Flush())
	}
	var fresh, used []byte
	var out *[]byte
	write := func(p *media.Packet) error { *out = append(*out, p.Data...); return nil }
	a, err := NewEncoder(set, write)
	require.NoError(t, err)
	b, err := NewEncoder(set, write)
	require.NoError(t, err)
	out = new([]byte)
	group(a, media.Group{Frames: 10}, 50)
	costs := a.Costs()
	group(b, media.Group{Frames: 7, Number: 1}, 3)
	group(b, media.Group{Frames: 10, Number: 2, Carry: 5000}, 90)
	wanted := media.Group{Number: 3, Frames: 10, Carry: -2000, Costs: costs}
	out = &used
	group(b, wanted, 20)
	c, err := NewEncoder(set, write)
	require.NoError(t, err)
	out = &fresh
	group(c, wanted, 20)
	require.Equal(t, fresh, used)
}

// What cannot be made is said so.
func TestCheckFormatNamesWhatItCannot(t *testing.T) {
	good := media.Format{Codec: Name, Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8}
	require.NoError(t, CheckFormat(good))
	for want, change := range map[string]func(*media.Format){
		"not 12":       func(f *media.Format) { f.Depth = 12 },
		"not 4:4:4":    func(f *media.Format) { f.Chroma = picture.C444 },
		"641x360":      func(f *media.Format) { f.Width = 641 },
		"640x362":      func(f *media.Format) { f.Height, f.Interlaced = 362, true },
		"to 4096x2304": func(f *media.Format) { f.Width, f.Height = 7680, 4320 },
		"from 16x16":   func(f *media.Format) { f.Width, f.Height = 8, 8 },
	} {
		f := good
		change(&f)
		require.ErrorContains(t, CheckFormat(f), want)
		_, err := NewEncoder(media.EncoderSettings{Format: f}, nil)
		require.ErrorContains(t, err, want)
	}
}

// codeFilm codes the first frames of the film.
func codeFilm(t *testing.T, e *Encoder, frames int) {
	p := picture.New(176, 144, 8, picture.C420)
	for n := range frames {
		codectest.Film(p, n)
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
}

// With B pictures that are referred to, the first reference of a P picture is the
// anchor before it, not the B picture that was coded last.
func TestNearestReferenceComesFirst(t *testing.T) {
	set := settings(func(s *media.EncoderSettings) { s.BFrames, s.References, s.KeyEvery = 3, 2, 50 })
	e, err := NewEncoder(set, func(*media.Packet) error { return nil })
	require.NoError(t, err)
	orders := map[int32][]int32{} // of the references of each P picture, by its own
	e.s.submit = func(_ context.Context, j *pictureTask) error {
		for _, s := range j.slices {
			if s.h.kind == sliceP {
				for i := range s.lists[0].n {
					orders[j.poc[0]] = append(orders[j.poc[0]], s.lists[0].refs[i].orderCount())
				}
			}
		}
		j.f.Advance(j.structure, framepool.AllRows)
		j.reset()
		return nil
	}
	codeFilm(t, e, 14)
	require.Equal(t, map[int32][]int32{8: {0}, 16: {8, 4}, 24: {16, 12}, 26: {24, 20}}, orders)
}

// Fields refer to both fields of the frame before, and the second one of a frame
// to its first.
func TestFieldsReferToFields(t *testing.T) {
	set := settings(func(s *media.EncoderSettings) { s.Format.Interlaced, s.KeyEvery = true, 50 })
	e, err := NewEncoder(set, func(*media.Packet) error { return nil })
	require.NoError(t, err)
	var refs [][]int32
	e.s.submit = func(_ context.Context, j *pictureTask) error {
		var list []int32
		for i := range j.slices[0].lists[0].n {
			list = append(list, j.slices[0].lists[0].refs[i].orderCount())
		}
		if j.slices[0].h.kind == sliceI {
			list = nil
		}
		refs = append(refs, list)
		j.f.Advance(j.structure, framepool.AllRows)
		j.reset()
		return nil
	}
	codeFilm(t, e, 3)
	require.Equal(t, [][]int32{nil, {0}, {0, 1}, {1, 2, 0}, {2, 3}, {3, 4, 2}}, refs)
}

// Motion searches that gained nothing for long are left out, but for one of eight, until they gain again.
func TestSearchesThatGainNothingAreLeftOut(t *testing.T) {
	var g searchGains
	g.restart()
	require.False(t, g.leaveOut(27), "nothing is known yet")
	for range 100 {
		g.add(1000, 995)
	}
	made := 0
	for range 80 {
		made += oneIf(!g.leaveOut(27))
	}
	require.Equal(t, 10, made)
	g.restart()
	require.False(t, g.leaveOut(0), "nor with the finest quantiser")
	for range 100 {
		g.add(1000, 850)
	}
	g.count = 0
	require.False(t, g.leaveOut(18))
	require.True(t, g.leaveOut(15), "most of a cost is noise")
	for range 100 {
		g.add(1000, 995)
	}
	for range 4 {
		g.add(1000, 800)
	}
	for range 8 {
		require.False(t, g.leaveOut(27))
	}
	for range 100 {
		g.add(1000, 1010) // vectors take bits too
	}
	made = 0
	for range 8 {
		made += oneIf(!g.leaveOut(27))
	}
	require.Equal(t, 1, made)
}
