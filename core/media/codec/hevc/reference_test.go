package hevc

import (
	"bufio"
	"bytes"
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// referenceDecode returns the MD5 of each picture of a byte stream as another decoder decodes it, and why
// it complains, if it does.
func referenceDecode(t testing.TB, stream []byte) (sums []string, complaint string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "../../../../build/h265-reference")
	var out, says bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(stream), &out, &says
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err, "\"make build/h265-reference\" builds it")
	}
	r := bufio.NewReader(&out)
	for {
		var w, h, planes, size int
		if _, err := fmt.Fscanf(r, "%d %d %d %d\n", &w, &h, &planes, &size); err != nil {
			return sums, says.String()
		}
		n := w * h * size
		if planes > 1 {
			n += 2 * ((w + 1) / 2) * ((h + 1) / 2) * size // 4:2:0
		}
		data := make([]byte, n)
		_, err := io.ReadFull(r, data)
		require.NoError(t, err)
		sums = append(sums, fmt.Sprintf("%x", md5.Sum(data)))
	}
}

// Another decoder decodes what the encoder made as it reconstructed it.
func TestReferenceDecodesOurStreams(t *testing.T) {
	for name, change := range kinds {
		set := settings(change)
		if set.Format.Chroma.IsTall() {
			continue // whose streams it does not know
		}
		t.Run(name, func(t *testing.T) {
			c := encoding.Encode(t, set, 20)
			got, complaint := referenceDecode(t, bytes.Join(c.Packets, nil))
			require.Empty(t, complaint)
			require.Equal(t, c.Sums, got)
		})
	}
}
