package h264

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/nal"
)

// smallest are corpus streams that are quick to decode, one of each kind.
var smallest = []string{"gray-8", "high-deblock-offset", "high-chroma-offset", "intra-cavlc", "baseline-ip", "main-cabac-ip",
	"high-mbaff-cabac", "high-mbaff-cavlc", "high422-8", "main-cabac-temporal"}

// Whatever the bytes are, decoding ends, without a panic, and with no more
// pictures than there are slices.
func FuzzDecoder(f *testing.F) {
	for _, name := range smallest {
		data, err := os.ReadFile("testdata/" + name + ".264")
		require.NoError(f, err)
		f.Add(data[:min(len(data), 8000)], 1)
	}
	f.Fuzz(func(t *testing.T, data []byte, threads int) {
		if tooLarge(data) {
			t.Skip("a picture so large that the fuzzer would crawl")
		}
		d, err := NewDecoder(media.Track{}, 1+threads&3)
		require.NoError(t, err)
		slices, frames := 0, 0
		for unit := range nal.ByteStream(data) {
			if unit[0]&31 == nalSlice || unit[0]&31 == nalIDR {
				slices++
			}
		}
		_ = codectest.Decode(t, d, [][]byte{data[:len(data)/2], data[len(data)/2:]}, func(f media.Frame) {
			f.MD5()
			frames++
		})
		require.LessOrEqual(t, frames, slices+1)
	})
}

func tooLarge(data []byte) bool {
	for unit := range nal.ByteStream(data) {
		if unit[0]&31 == nalSPS {
			s, err := parseSPS(nal.Unescape(nil, unit[1:]))
			if err == nil && s.mbWidth*s.mbHeight > 1000 {
				return true
			}
		}
	}
	return false
}
