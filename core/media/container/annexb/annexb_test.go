package annexb_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/container/annexb"
)

var streams = annexb.New(h264.Codec)

const stream = "../../codec/h264/testdata/main-cabac-b.264"

func openBytes(data []byte) (media.Demuxer, error) {
	return streams.Open(bytes.NewReader(data), int64(len(data)))
}

// Every picture is one packet; the times follow from the order of display.
func TestPicturesGetTheirTimes(t *testing.T) {
	data, err := os.ReadFile(stream)
	require.NoError(t, err)
	require.True(t, streams.Match(data[:64]))
	d, err := openBytes(append([]byte{0, 0, 0, 0}, data...)) // zeros may come first
	require.NoError(t, err)
	require.Equal(t, media.Rate{Num: 30, Den: 1}, d.Tracks()[0].Format.Rate)
	for range 2 {
		seen := map[int64]bool{}
		joined := 0
		var p media.Packet
		for i := int64(0); ; i++ {
			err := d.ReadPacket(&p)
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			require.Equal(t, i, p.DTS)
			require.Equal(t, i == 0, p.Key)
			require.Equal(t, []byte{0, 0, 0, 1}, p.Data[:4])
			require.False(t, seen[p.PTS], "two pictures at one time")
			seen[p.PTS] = true
			joined += len(p.Data)
		}
		require.Len(t, seen, 18)
		for i := range int64(18) {
			require.True(t, seen[i])
		}
		require.InDelta(t, len(data), joined, 40, "but for start codes of three bytes")
		require.NoError(t, d.Rewind())
	}
}

func TestNoPictures(t *testing.T) {
	for _, data := range []string{"", "no start code", "\x00\x00\x01", "\x00\x00\x01\x09\x10", "\x00\x00\x01\x67\x42\x00\x00\x01\x68"} {
		_, err := openBytes([]byte(data))
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken, "%q", data)
	}
}

func TestCutAnywhere(t *testing.T) {
	data, err := os.ReadFile(stream)
	require.NoError(t, err)
	for cut := 100; cut < len(data); cut += 501 {
		d, err := openBytes(data[:cut])
		if err != nil {
			continue
		}
		var p media.Packet
		n := 0
		for err == nil {
			if err = d.ReadPacket(&p); err == nil {
				n++
			}
		}
		require.ErrorIs(t, err, io.EOF, cut)
		require.LessOrEqual(t, n, 18)
	}
}
