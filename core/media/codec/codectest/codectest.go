// Package codectest has what the tests of several codecs need.
package codectest

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

// Checksums reads the MD5 file that belongs to a stream: one line for each picture, in order of
// display.
func Checksums(t testing.TB, stream string) (sums []string) {
	text, err := os.ReadFile(stream + ".md5")
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		if !strings.HasPrefix(line, "#") {
			sums = append(sums, line)
		}
	}
	return sums
}

// Decode decodes packets, calls each with every frame, which it releases, and closes the decoder.
func Decode(t testing.TB, d media.Decoder, packets [][]byte, each func(f media.Frame)) error {
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
