package registry

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
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/h264"
)

const streams = "../codec/h264/testdata/"

// decoded returns the MD5s and the times of all pictures of a file.
func decoded(t *testing.T, path string, threads int) (sums []string, times []float64) {
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	video, err := f.Video()
	require.NoError(t, err)
	track := f.Tracks()[video]
	codec, err := Codec(track.Codec)
	require.NoError(t, err)
	d, err := codec.NewDecoder(track, threads)
	require.NoError(t, err)
	sent := make(chan error, 1)
	go func() {
		defer d.Drain()
		var p media.Packet
		for {
			err := f.ReadPacket(&p)
			if err == nil && p.Track == video {
				err = d.Send(context.Background(), &p)
			}
			if err != nil {
				sent <- err
				return
			}
		}
	}()
	for {
		frame, err := d.Receive(t.Context())
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		sums = append(sums, frame.MD5())
		times = append(times, float64(frame.PTS)/float64(track.Timescale))
		frame.Release()
	}
	require.ErrorIs(t, <-sent, io.EOF)
	d.Close()
	return sums, times
}

// Every stream of the corpus is wrapped into every container, read back, and
// decoded: the same pictures, in order, at even times.
func TestWrappedStreamsStillMatch(t *testing.T) {
	files, err := filepath.Glob(streams + "*.264")
	require.NoError(t, err)
	require.Len(t, files, 28)
	dir := t.TempDir()
	for _, file := range files {
		want := codectest.Checksums(t, file)
		source, err := Open(file)
		require.NoError(t, err)
		rate := source.Tracks()[0].Format.Rate.Hz()
		require.NoError(t, source.Close())
		for _, name := range []string{"a.mp4", "fragments.mp4", "a.mkv", "a.ts"} {
			path := filepath.Join(dir, name)
			rewrapFile(t, file, path)
			got, times := decoded(t, path, 2)
			require.Equal(t, want, got, "%s in %s", file, name)
			for i, at := range times {
				require.InDelta(t, times[0]+float64(i)/rate, at, 0.0011, "%s in %s: time of picture %d", file, name, i)
			}
		}
		// And from container to container.
		rewrapFile(t, filepath.Join(dir, "a.ts"), filepath.Join(dir, "b.mkv"))
		rewrapFile(t, filepath.Join(dir, "b.mkv"), filepath.Join(dir, "b.mp4"))
		rewrapFile(t, filepath.Join(dir, "b.mp4"), filepath.Join(dir, "b.ts"))
		got, _ := decoded(t, filepath.Join(dir, "b.ts"), 1)
		require.Equal(t, want, got, file)
	}
}

func rewrapFile(t *testing.T, from, to string) {
	f, err := Open(from)
	require.NoError(t, err)
	defer f.Close()
	c, err := ContainerFor(to)
	require.NoError(t, err)
	out, err := os.Create(to)
	require.NoError(t, err)
	fragmented := false
	if strings.Contains(to, "fragments") {
		fragmented = true
	}
	left, err := Rewrap(t.Context(), f, c, out, fragmented)
	require.NoError(t, err, "%s to %s", from, to)
	require.Empty(t, left)
	require.NoError(t, out.Close())
}

// Sound goes along from container to container, and stays beside its pictures.
func TestSoundIsCarriedAlong(t *testing.T) {
	dir := t.TempDir()
	from := filepath.Join(dir, "a.mp4")
	file, err := os.Create(from)
	require.NoError(t, err)
	source, err := Open(streams + "high-640.264")
	require.NoError(t, err)
	var p media.Packet
	require.NoError(t, source.ReadPacket(&p))
	video, filter, err := h264.Codec.ToPackets(source.Tracks()[0], p.Data)
	require.NoError(t, err)
	m, err := MP4.Create(file, []media.Track{video,
		{Kind: media.Audio, Codec: "aac", Timescale: 48000, Config: []byte{0x11, 0x90}, Channels: 2, Rate: 48000}}, 0)
	require.NoError(t, err)
	for i := int64(0); err == nil; i++ {
		list, filterErr := filter(&p)
		require.NoError(t, filterErr)
		require.NoError(t, m.WritePacket(list[0]))
		for k := range int64(2) {
			n := 2*i + k
			require.NoError(t, m.WritePacket(&media.Packet{Track: 1, Data: []byte{byte(n), 1, 2, 3}, PTS: n * 1024, DTS: n * 1024, Duration: 1024, Key: true}))
		}
		err = source.ReadPacket(&p)
	}
	require.ErrorIs(t, err, io.EOF)
	require.NoError(t, errors.Join(m.Close(), file.Close(), source.Close()))
	for _, to := range []string{"b.ts", "c.mkv", "d.mp4", "e.ts", "f.ts", "g.mp4"} {
		rewrapFile(t, from, filepath.Join(dir, to))
		from = filepath.Join(dir, to)
	}
	f, err := Open(from)
	require.NoError(t, err)
	defer f.Close()
	require.Equal(t, "aac", f.Tracks()[1].Codec)
	require.Equal(t, []byte{0x11, 0x90}, f.Tracks()[1].Config)
	n := 0
	for f.ReadPacket(&p) == nil {
		if p.Track == 1 {
			require.Equal(t, []byte{byte(n), 1, 2, 3}, p.Data)
			require.InDelta(t, float64(n)*1024/48000, float64(p.PTS)/float64(f.Tracks()[1].Timescale), 0.01)
			n++
		}
	}
	require.Equal(t, 60, n)
}
