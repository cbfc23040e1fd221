package h264

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// corpus are streams of an independent encoder, each with the MD5 of every
// picture as that encoder reconstructed it.
func corpus(t testing.TB) []string {
	files, err := filepath.Glob("testdata/*.264")
	require.NoError(t, err)
	require.Len(t, files, 28)
	return files
}

// checksums reads the MD5 file that belongs to a stream.
func checksums(t testing.TB, stream string) (sums []string) {
	text, err := os.ReadFile(stream + ".md5")
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		if !strings.HasPrefix(line, "#") {
			sums = append(sums, line)
		}
	}
	return sums
}

// decode decodes packets and calls each with every frame, which it releases.
func decode(t testing.TB, d media.Decoder, packets [][]byte, each func(f media.Frame)) error {
	ctx := context.Background()
	sent := make(chan error, 1)
	go func() {
		defer d.Drain()
		for _, data := range packets {
			if err := d.Send(ctx, &media.Packet{Data: data, PTS: media.NoTime}); err != nil {
				sent <- err
				return
			}
		}
		sent <- nil
	}()
	for {
		f, err := d.Receive(ctx)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		each(f)
		f.Release()
	}
	d.Close()
	return <-sent
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
				require.NoError(t, decode(t, d, [][]byte{data}, func(f media.Frame) {
					got = append(got, f.MD5())
					require.False(t, f.Damaged, "picture %d", len(got)-1)
				}))
				require.Equal(t, checksums(t, file), got)
			})
		}
	}
}
