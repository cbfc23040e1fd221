package media

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Code points are those of Rec. ITU-T H.273, tables 2 to 4.
func TestCodePointsHaveNames(t *testing.T) {
	names := func(c Colour) [3]string {
		return [3]string{c.PrimariesName(), c.TransferName(), c.MatrixName()}
	}
	require.Equal(t, [3]string{"BT.709", "BT.709", "BT.709"}, names(Colour{Primaries: 1, Transfer: 1, Matrix: 1}))
	require.Equal(t, [3]string{"BT.2020", "PQ", "BT.2020"}, names(Colour{Primaries: 9, Transfer: 16, Matrix: 9}))
	require.Equal(t, [3]string{"BT.601 625", "HLG", "BT.601"}, names(Colour{Primaries: 5, Transfer: 18, Matrix: 6}))
	require.Equal(t, [3]string{"unspecified", "unspecified", "unspecified"}, names(Colour{Primaries: 2, Transfer: 2, Matrix: 2}))
	require.Equal(t, [3]string{"code 99", "code 255", "RGB"}, names(Colour{Primaries: 99, Transfer: 255}))
}

func TestTransferOfCodePoints(t *testing.T) {
	for code, want := range map[int]Transfer{0: SDR, 1: SDR, 14: SDR, 16: PQ, 17: SDR, 18: HLG, 255: SDR} {
		require.Equal(t, want, TransferOf(code), code)
	}
}

func TestHDRRecordIsMadeOnce(t *testing.T) {
	var track Track
	HDROf(&track.HDR).MaxCLL = 1000
	HDROf(&track.HDR).MaxFALL = 400
	require.Equal(t, &HDR{MaxCLL: 1000, MaxFALL: 400}, track.HDR)
}

func TestPixelRate(t *testing.T) {
	require.InDelta(t, 1920*1080*25, Format{Width: 1920, Height: 1080, Rate: Rate{25, 1}}.PixelRate(), 0)
	require.InDelta(t, 1280*720*24000/1001., Format{Width: 1280, Height: 720, Rate: Rate{24000, 1001}}.PixelRate(), 1e-6)
}
