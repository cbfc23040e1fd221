package registry

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
)

// opened is a file of the corpus with its video track.
func opened(t *testing.T, path string) (*File, int) {
	f, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	video, err := f.Video()
	require.NoError(t, err)
	return f, video
}

func TestDecodeHandsOutEveryPicture(t *testing.T) {
	for _, name := range []string{"high-640", "main-weighted", "high-mbaff-cabac"} {
		want := codectest.Checksums(t, streams+name+".264")
		for _, threads := range []int{1, 3} {
			f, video := opened(t, streams+name+".264")
			var got []string
			require.NoError(t, Decode(t.Context(), f, video, threads, func(frame media.Frame) error {
				got = append(got, frame.MD5())
				return nil
			}))
			require.Equal(t, want, got, name)
		}
	}
}

// An error of the caller, and a caller who is no longer interested, end it.
func TestDecodeEndsWhenToldTo(t *testing.T) {
	f, video := opened(t, streams+"high-640.264")
	enough := errors.New("enough")
	n := 0
	require.ErrorIs(t, Decode(t.Context(), f, video, 2, func(media.Frame) error {
		if n++; n == 3 {
			return enough
		}
		return nil
	}), enough)
	require.Equal(t, 3, n)
	require.NoError(t, f.Rewind())
	ctx, cancel := context.WithCancel(t.Context())
	err := Decode(ctx, f, video, 2, func(media.Frame) error { cancel(); return nil })
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, f.Rewind())
	n = 0
	require.NoError(t, Decode(t.Context(), f, video, 1, func(media.Frame) error { n++; return nil }), "it can be used again")
	require.Equal(t, len(codectest.Checksums(t, streams+"high-640.264")), n)
}

// Of a damaged stream all pictures come, those with concealed parts marked; a
// codec that is not decoded here is named.
func TestDecodeOfWhatIsBroken(t *testing.T) {
	data, err := os.ReadFile(streams + "main-weighted.264")
	require.NoError(t, err)
	broken := bytes.Clone(data)
	for i := len(broken) / 2; i < len(broken)/2+40; i++ {
		broken[i] = 0xA5
	}
	path := filepath.Join(t.TempDir(), "broken.264")
	require.NoError(t, os.WriteFile(path, broken, 0o666))
	f, video := opened(t, path)
	damaged, n := 0, 0
	require.NoError(t, Decode(t.Context(), f, video, 2, func(frame media.Frame) error {
		n++
		if frame.Damaged {
			damaged++
		}
		return nil
	}))
	require.InDelta(t, len(codectest.Checksums(t, streams+"main-weighted.264")), n, 1)
	require.NotZero(t, damaged)
	_, err = Codec("vp9")
	require.ErrorContains(t, err, "vp9: decoding it")
}

// Carries goes by the codec, and names who can where nobody does.
func TestCarries(t *testing.T) {
	f := media.Format{Codec: "h264", Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 10}
	require.NoError(t, CanEncode(f))
	f.Codec = "mjpeg"
	require.ErrorContains(t, CanEncode(f), "8 bits")
	f.Codec = "av1"
	require.ErrorContains(t, CanEncode(f), "av1 clips cannot be made here yet; mjpeg, h264, hevc clips can")
}
