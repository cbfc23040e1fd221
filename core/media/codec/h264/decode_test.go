package h264

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
)

// corpus are streams of an independent encoder, each with the MD5 of every
// picture as that encoder reconstructed it.
func corpus(t testing.TB) []string {
	files, err := filepath.Glob("testdata/*.264")
	require.NoError(t, err)
	require.Len(t, files, 28)
	return files
}

func TestForeignStreams(t *testing.T) {
	for _, file := range corpus(t) {
		for _, threads := range []int{1, 2, 5} {
			t.Run(filepath.Base(file)+string(rune('0'+threads)), func(t *testing.T) {
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				d, err := NewDecoder(media.Track{}, threads)
				require.NoError(t, err)
				var got []string
				require.NoError(t, codectest.Decode(t, d, [][]byte{data}, func(f media.Frame) {
					got = append(got, f.MD5())
					require.False(t, f.Damaged, "picture %d", len(got)-1)
				}))
				require.Equal(t, codectest.Checksums(t, file), got)
			})
		}
	}
}
