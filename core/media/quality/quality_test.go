package quality

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/picture"
)

// slope is a picture whose luma is a slope, with an offset.
func slope(depth, offset int) *picture.Picture {
	p := picture.New(32, 16, depth, picture.C420)
	for y := range 16 {
		for x := range 32 {
			v := (4*x+2*y)<<(depth-8) + offset
			if depth == 8 {
				p.Planes[0].Pix[y*p.Planes[0].Stride+x] = byte(v)
			} else {
				p.Planes[0].Wide[y*p.Planes[0].Stride+x] = uint16(v)
			}
		}
	}
	return p
}

func TestAnOffsetOfOneHasAKnownPSNR(t *testing.T) {
	for depth, want := range map[int]float64{8: 20 * math.Log10(255), 10: 20 * math.Log10(1023)} {
		require.InDelta(t, want, PSNR(slope(depth, 0), slope(depth, 1)), 1e-9, depth)
		require.Greater(t, PSNR(slope(depth, 0), slope(depth, 0)), 100.)
	}
}

// An offset leaves the structure as it is and the mean a little off: the first
// factor of the paper's formula (13) alone.
func TestSSIMOfAnOffset(t *testing.T) {
	require.InDelta(t, 1, SSIM(slope(8, 0), slope(8, 0)), 1e-12)
	got := SSIM(slope(8, 0), slope(8, 40))
	c1, want := 0.01*255*0.01*255, 0.
	for wy := range 2 {
		for wx := range 4 {
			m := float64(4*(8*wx)+14+2*(8*wy)) + 7
			want += (2*m*(m+40) + c1) / (m*m + (m+40)*(m+40) + c1) / 8
		}
	}
	require.InDelta(t, want, got, 1e-9)
	require.Less(t, SSIM(slope(10, 0), slope(10, 160)), 0.99)
}

func ExamplePSNR() {
	a := picture.New(16, 16, 8, picture.C420)
	b := picture.New(16, 16, 8, picture.C420)
	b.Planes[0].Pix[0] = 16 // one sample of 256 is off by one sixteenth
	fmt.Printf("%.1f dB\n", PSNR(a, b))
	// Output: 48.1 dB
}
