package build

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/formats"
	"vividstrain/core/media/scene"
)

func format(t testing.TB, line string) media.Format {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return l.Format
}

func TestBitrateIsHeldAndFramesAreNumbered(t *testing.T) {
	for _, line := range []string{
		"mjpeg 240p25 2M", "mjpeg 240p25 8M", "mjpeg 360p23.976 8M", "mjpeg 480p30 15M", "mjpeg 720p50 50M", "mjpeg 320x180p12.5 1M",
	} {
		t.Run(line, func(t *testing.T) {
			order := Order{Format: format(t, line), Seconds: 2, Threads: 2}
			path, err := Clip(t.Context(), t.TempDir(), order)
			require.NoError(t, err)
			f, err := formats.Open(path)
			require.NoError(t, err)
			defer f.Close()
			track := f.Tracks()[0]
			codec, err := formats.Codec(track.Codec)
			require.NoError(t, err)
			d, err := codec.NewDecoder(track, 1)
			require.NoError(t, err)
			defer d.Close()
			var p media.Packet
			bytes := 0
			for i := range order.Frames() {
				require.NoError(t, f.ReadPacket(&p))
				bytes += len(p.Data)
				require.NoError(t, d.Send(t.Context(), &p))
				frame, err := d.Receive(t.Context())
				require.NoError(t, err)
				n, ok := scene.ReadNumber(frame.Picture)
				require.True(t, ok)
				require.Equal(t, i, n)
			}
			want := float64(order.Format.Bitrate) / 8 * float64(order.Frames()) / order.Format.Rate.Hz()
			require.InEpsilon(t, want, bytes, 0.05)
		})
	}
}

func TestSameBytesOnAnyNumberOfThreads(t *testing.T) {
	var files [2][]byte
	for i := range files {
		path, err := Clip(t.Context(), t.TempDir(), Order{Format: format(t, "mjpeg 240p25 4M"), Seconds: 1, Threads: 1 + 2*i})
		require.NoError(t, err)
		files[i], err = os.ReadFile(path)
		require.NoError(t, err)
	}
	require.Equal(t, files[0], files[1])
}

func TestRateThatCannotBeReached(t *testing.T) {
	for _, line := range []string{"mjpeg 240p25 200M", "mjpeg 720p25 100k"} {
		dir := t.TempDir()
		_, err := Clip(t.Context(), dir, Order{Format: format(t, line), Seconds: 1})
		var wrong *RateError
		require.ErrorAs(t, err, &wrong)
		requireEmpty(t, dir)
		for _, rate := range []int64{wrong.Lowest * 11 / 10, wrong.Highest * 9 / 10} {
			f := format(t, line)
			f.Bitrate = rate
			_, err = Clip(t.Context(), dir, Order{Format: f, Seconds: 1})
			require.NoError(t, err, "what is said to be reachable is")
		}
	}
}

func TestCodecThatCannotCarryIt(t *testing.T) {
	for _, line := range []string{"hevc 240p25 2M", "mjpeg 240p25 10bit 4M", "mjpeg 576i25 9M"} {
		_, err := Clip(t.Context(), t.TempDir(), Order{Format: format(t, line), Seconds: 1})
		require.Error(t, err, line)
	}
}

func TestCancelledLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	_, err := Clip(ctx, dir, Order{Format: format(t, "mjpeg 240p25 4M"), Seconds: 10, Progress: func(done, total int) { cancel() }})
	require.ErrorIs(t, err, context.Canceled)
	requireEmpty(t, dir)
}

func TestWholeClipIsKeptAndDamagedOneMadeAnew(t *testing.T) {
	dir, order := t.TempDir(), Order{Format: format(t, "mjpeg 240p25 4M"), Seconds: 1}
	path, err := Clip(t.Context(), dir, order)
	require.NoError(t, err)
	before, err := os.Stat(path)
	require.NoError(t, err)
	_, err = Clip(t.Context(), dir, order)
	require.NoError(t, err)
	after, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, before.ModTime(), after.ModTime())
	require.NoError(t, os.Truncate(path, 300))
	_, err = Clip(t.Context(), dir, order)
	require.NoError(t, err)
	after, err = os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, before.Size(), after.Size())
}

func requireEmpty(t *testing.T, dir string) {
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	hidden, err := filepath.Glob(filepath.Join(dir, ".*"))
	require.NoError(t, err)
	require.Empty(t, append(files, hidden...))
}

// BenchmarkClip builds a clip of the usual length and reports frames a second and the memory
// that the program holds at its highest.
func BenchmarkClip(b *testing.B) {
	for _, line := range []string{"h264 1080p30 12M", "h264 2160p30 40M", "mjpeg 1080p30 60M"} {
		b.Run(line, func(b *testing.B) {
			order := Order{Format: format(b, line), Seconds: 4, Threads: runtime.NumCPU()}
			var most uint64
			order.Progress = func(int, int) {
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most = max(most, m.Sys)
			}
			for b.Loop() {
				_, err := Clip(b.Context(), b.TempDir(), order)
				require.NoError(b, err)
			}
			b.ReportMetric(float64(b.N*order.Frames())/b.Elapsed().Seconds(), "frames/s")
			b.ReportMetric(float64(most)/1e6, "MB")
		})
	}
}
