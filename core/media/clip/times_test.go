package clip

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/registry"
)

// Whatever the container and however the frames are reordered, they are shown at
// even times from 0 on.
func TestTimesAreEven(t *testing.T) {
	for _, container := range []string{"mp4", "mkv", "ts"} {
		for _, b := range []int{0, 1, 2, 3, 5} {
			o := Order{Format: format(t, "h264 320x180p23.976 400k"), Seconds: 2, Container: container, Coding: Coding{BFrames: b}}
			path, err := Clip(t.Context(), t.TempDir(), o)
			require.NoError(t, err)
			f, err := registry.Open(path)
			require.NoError(t, err)
			defer f.Close()
			track := f.Tracks()[0]
			n, first := 0, int64(0)
			require.NoError(t, registry.Decode(t.Context(), f, 0, 1, func(frame media.Frame) error {
				if n == 0 {
					first = frame.PTS
				}
				at := float64(frame.PTS-first) / float64(track.Timescale)
				require.InDelta(t, float64(n)*1001/24000, at, 0.0011, "%s, %d B frames, frame %d", container, b, n)
				n++
				return nil
			}))
			require.Equal(t, o.Frames(), n)
			if container == "mp4" {
				require.Zero(t, first)
			}
		}
	}
}

// Every rung of the built-in ladders that asks for a codec made here can be
// made, and has a name of its own.
func TestLaddersCanBeMade(t *testing.T) {
	ladders, err := load.BuiltIn()
	require.NoError(t, err)
	made := map[string]int{}
	for _, l := range ladders {
		names := map[string]bool{}
		for _, c := range l.Columns {
			for _, r := range c.Rungs {
				if r.Codec != h264.Name && r.Codec != "mjpeg" {
					continue
				}
				require.NoError(t, registry.CanEncode(r.Format), "%s: %s", l.Name, r)
				name := Order{Format: r.Format, Seconds: 5}.Name()
				if r.Streams == 1 {
					require.False(t, names[name], "%s: %s twice", l.Name, r)
				}
				names[name] = true
				made[l.Name]++
			}
		}
	}
	for _, name := range []string{"starter", "bitrate", "camera", "living-room", "old-machine", "broadcast", "intra", "quick"} {
		require.NotZero(t, made[name], name)
	}
}
