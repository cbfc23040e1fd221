package clip

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
)

// A browser's recording holds a byte stream without a record of how it is held: it is rewrapped
// like any other.
func TestRecordingsWithoutARecord(t *testing.T) {
	path := filepath.Join(t.TempDir(), "recorded.mkv")
	dir := t.TempDir()
	made, err := Clip(t.Context(), dir, Order{Format: media.Format{Codec: "h264", Width: 128, Height: 96, Depth: 8, Chroma: picture.C420, Transfer: media.SDR, Rate: media.Rate{Num: 25, Den: 1}, Bitrate: 200000}, Seconds: 1, Container: "ts"})
	require.NoError(t, err)
	ts, err := registry.Open(made)
	require.NoError(t, err)
	defer ts.Close()
	out, err := os.Create(path)
	require.NoError(t, err)
	track := ts.Tracks()[0]
	track.Format.Width, track.Format.Height = 128, 96
	track.Config, track.Timescale = nil, 90000
	muxer, err := registry.MKV.Create(out, []media.Track{track}, 0)
	require.NoError(t, err)
	var p media.Packet
	for ts.ReadPacket(&p) == nil {
		q := p
		q.Track, q.Duration = 0, 3600
		require.NoError(t, muxer.WritePacket(&q))
	}
	require.NoError(t, errors.Join(muxer.Close(), out.Close()))
	for _, end := range []string{".mp4", ".mkv", ".ts"} {
		from, err := registry.Open(path)
		require.NoError(t, err)
		to := filepath.Join(dir, "copy"+end)
		container, err := registry.ContainerFor(to)
		require.NoError(t, err)
		w, err := os.Create(to)
		require.NoError(t, err)
		_, err = registry.Rewrap(t.Context(), from, container, w, false)
		require.NoError(t, err, end)
		require.NoError(t, errors.Join(w.Close(), from.Close()))
		copied, err := registry.Open(to)
		require.NoError(t, err)
		n := 0
		require.NoError(t, registry.Decode(t.Context(), copied, 0, 1, func(f media.Frame) error {
			require.False(t, f.Damaged)
			n++
			return nil
		}))
		require.Equal(t, 25, n, end)
		require.NoError(t, copied.Close())
	}
}
