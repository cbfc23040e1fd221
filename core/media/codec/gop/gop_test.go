package gop

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/ratecontrol"
	"vividstrain/core/media/picture"
)

// ordered returns the pictures of a film in coding order: each with its number, its kind, and a star where
// others refer to it.
func ordered(t *testing.T, set media.EncoderSettings, frames ...int) (list []string) {
	set.Format = media.Format{Width: 32, Height: 16, Depth: 8, Chroma: picture.C420, Rate: media.Rate{Num: 25, Den: 1}, Bitrate: 1e6}
	o := Order{Settings: set, Layout: framepool.Layout{CodedWidth: 48, CodedHeight: 32, Width: 32, Height: 16, Depth: 8, ChromaDepth: 8, Chroma: picture.C420}}
	o.Code = func(in *Source, kind ratecontrol.Kind, reference bool) error {
		star := ""
		if reference {
			star = "*"
		}
		list = append(list, fmt.Sprintf("%d%s%s", in.PTS, []string{"P", "B", "I"}[kind], star))
		require.Equal(t, kind == ratecontrol.I, in.IDR)
		return o.Attempt(kind, func(int) (int, error) { return 1000, nil })
	}
	o.Start()
	pts := int64(0)
	for _, n := range frames {
		o.Begin(media.Group{Frames: n})
		for range n {
			require.NoError(t, o.Encode(o.Picture(), pts))
			pts++
		}
		require.NoError(t, o.Flush())
		require.Equal(t, [3]int{}, o.Rate.Left(), "pictures were counted otherwise than they were coded")
	}
	return list
}

// Anchors come before the pictures that are shown before them, and groups are closed.
func TestCodingOrder(t *testing.T) {
	for name, c := range map[string]struct {
		set    media.EncoderSettings
		frames []int
		want   []string
	}{
		"P":       {media.EncoderSettings{KeyEvery: 4}, []int{6}, []string{"0I*", "1P*", "2P*", "3P*", "4I*", "5P*"}},
		"intra":   {media.EncoderSettings{KeyEvery: 1}, []int{3}, []string{"0I*", "1I*", "2I*"}},
		"B":       {media.EncoderSettings{KeyEvery: 8, BFrames: 2}, []int{6}, []string{"0I*", "3P*", "1B", "2B", "5P*", "4B"}},
		"pyramid": {media.EncoderSettings{KeyEvery: 8, BFrames: 3}, []int{5}, []string{"0I*", "4P*", "2B*", "1B", "3B"}},
		"groups":  {media.EncoderSettings{KeyEvery: 8, BFrames: 1}, []int{3, 2}, []string{"0I*", "2P*", "1B", "3I*", "4P*"}},
	} {
		if c.set.KeyEvery == 4 {
			c.frames = []int{4, 2}
		}
		require.Equal(t, c.want, ordered(t, c.set, c.frames...), name)
	}
}

// The source is padded to the coded size by its last column and row.
func TestSourcesArePadded(t *testing.T) {
	l := framepool.Layout{CodedWidth: 24, CodedHeight: 20, Width: 18, Height: 14, Depth: 10, ChromaDepth: 10, Chroma: picture.C420}
	o := Order{Settings: media.EncoderSettings{KeyEvery: 1}, Layout: l}
	o.Settings.Format.Rate = media.Rate{Num: 25, Den: 1}
	o.Start()
	p := picture.New(18, 14, 10, picture.C420)
	for i := range p.Planes {
		for k := range p.Planes[i].Wide {
			p.Planes[i].Wide[k] = uint16(k)
		}
	}
	o.Code = func(in *Source, _ ratecontrol.Kind, _ bool) error {
		for i, plane := range in.Planes {
			w, h := p.Chroma.PlaneSize(i, 18, 14)
			coded, rows := p.Chroma.PlaneSize(i, 24, 20)
			for y := range rows {
				for x := range coded {
					require.Equal(t, p.Planes[i].Wide[min(y, h-1)*p.Planes[i].Stride+min(x, w-1)], plane.Wide[y*plane.Stride+x])
				}
			}
		}
		return nil
	}
	require.NoError(t, o.Encode(p, 0))
}
