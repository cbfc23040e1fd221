package picture

import (
	"crypto/md5"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestChecksumIsOfTheVisibleSamplesAlone(t *testing.T) {
	p := New(5, 3, 8, C420)
	want := []byte{}
	for i := range p.Planes {
		w, h := p.Chroma.PlaneSize(i, 5, 3)
		stride := w + 4 // invisible samples at the end of each row
		p.Planes[i] = Plane{Pix: make([]byte, stride*h), Stride: stride}
		for y := range h {
			for x := range stride {
				v := byte(100*i + 10*y + x)
				p.Planes[i].Pix[y*stride+x] = v
				if x < w {
					want = append(want, v)
				}
			}
		}
	}
	require.Len(t, want, 15+6+6)
	sum := md5.Sum(want)
	require.Equal(t, hex.EncodeToString(sum[:]), p.MD5())
}

func TestDeepSamplesAreLittleEndian(t *testing.T) {
	p := New(2, 1, 10, C400)
	p.Planes[0].Wide[0], p.Planes[0].Wide[1] = 0x3FF, 0x102
	require.Equal(t, []byte{0xFF, 3, 2, 1}, p.AppendRow(nil, 0, 0))
	sum := md5.Sum([]byte{0xFF, 3, 2, 1})
	require.Equal(t, hex.EncodeToString(sum[:]), p.MD5())
}

func TestPlaneSizes(t *testing.T) {
	for chroma, want := range map[Chroma][2]int{C420: {3, 2}, C422: {3, 3}, C444: {5, 3}, C400: {0, 0}} {
		w, h := chroma.PlaneSize(1, 5, 3)
		require.Equal(t, want, [2]int{w, h}, chroma)
		parsed, ok := ParseChroma(chroma.String())
		require.True(t, ok)
		require.Equal(t, chroma, parsed)
	}
	_, ok := ParseChroma("4:1:1")
	require.False(t, ok)
}

func TestPoolLendsAgain(t *testing.T) {
	var l Pool
	a := l.Get(64, 48, 8, C420)
	b := l.Get(64, 48, 8, C420)
	require.NotSame(t, a, b)
	a.Release()
	require.Same(t, a, l.Get(64, 48, 8, C420))
	b.Release()
	c := l.Get(32, 32, 8, C420)
	require.Equal(t, 32, c.Width)
	c.Release()
	require.Zero(t, testing.AllocsPerRun(100, func() { l.Get(32, 32, 8, C420).Release() }))
}

// Planes may differ in depth; two bytes a sample are written as soon as one has
// more than eight bits.
func TestPlanesOfTheirOwnDepth(t *testing.T) {
	p := New(4, 2, 10, C420)
	require.Equal(t, [3]int{10, 10, 10}, [3]int{p.PlaneDepth(0), p.PlaneDepth(1), p.PlaneDepth(2)})
	p.ChromaDepth = 8
	require.Equal(t, [3]int{10, 8, 8}, [3]int{p.PlaneDepth(0), p.PlaneDepth(1), p.PlaneDepth(2)})
	p.Planes[1].Wide[1] = 0xFE
	require.Equal(t, []byte{0, 0, 0xFE, 0}, p.AppendRow(nil, 1, 0))
	flat := New(4, 2, 8, C422)
	flat.Planes[2].Pix[3] = 9
	require.Equal(t, []byte{0, 9}, flat.AppendRow(nil, 2, 1))
}
