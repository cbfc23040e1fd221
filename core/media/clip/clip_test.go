package clip

import (
	"bytes"
	"context"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/cputime"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/quality/browser"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
)

func format(t testing.TB, line string) media.Format {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return l.Format
}

func TestBitrateIsHeldAndFramesAreNumbered(t *testing.T) {
	for _, line := range []string{
		"h264 240p25 300k", "h264 240p25 10M", "h264 360p50 1500k", "h264 480i29.97 3M", "h264 240p23.976 10bit hdr 1M",
		"h264 240p25 4:2:2 10bit hlg 2M", "mjpeg 240p25 2M", "mjpeg 240p25 8M", "mjpeg 360p23.976 8M", "mjpeg 480p30 15M", "mjpeg 720p50 50M", "mjpeg 320x180p12.5 1M",
	} {
		t.Run(line, func(t *testing.T) {
			order := Order{Format: format(t, line), Seconds: 2, Threads: 2}
			path, err := Clip(t.Context(), t.TempDir(), order)
			require.NoError(t, err)
			f, err := registry.Open(path)
			require.NoError(t, err)
			defer f.Close()
			i, bytes := 0, 0
			require.NoError(t, registry.Decode(t.Context(), f, 0, 2, func(frame media.Frame) error {
				n, ok := scene.ReadNumber(frame.Picture)
				require.True(t, ok)
				require.Equal(t, i, n)
				require.False(t, frame.Damaged)
				i++
				return nil
			}))
			require.Equal(t, order.Frames(), i)
			require.NoError(t, f.Rewind())
			var p media.Packet
			for f.ReadPacket(&p) == nil {
				bytes += len(p.Data)
			}
			want := float64(order.Format.Bitrate) / 8 * float64(order.Frames()) / order.Format.Rate.Hz()
			within := 0.05
			if order.Format.Codec == "h264" {
				within = 0.03
			}
			require.InEpsilon(t, want, bytes, within)
		})
	}
}

func TestSameBytesOnAnyNumberOfThreads(t *testing.T) {
	for _, line := range []string{"mjpeg 240p25 4M", "h264 240p25 1M", "h264 352x288i25 10bit 2M"} {
		var sums [3]string
		for i := range sums {
			dir := t.TempDir()
			_, err := Clip(t.Context(), dir, Order{Format: format(t, line), Seconds: 7, Threads: 1 + 2*i, Scene: "rain", Coding: Coding{BFrames: i / 3}})
			require.NoError(t, err)
			m, err := ReadManifest(dir)
			require.NoError(t, err)
			sums[i] = m.Clips[0].SHA256
		}
		require.Equal(t, sums[0], sums[1], line)
		require.Equal(t, sums[0], sums[2], line)
	}
}

// Every scene and way of coding differs, and a seed changes what is random.
func TestOrdersDiffer(t *testing.T) {
	dir := t.TempDir()
	for _, o := range []Order{{}, {Scene: "kelp"}, {Seed: 3}, {Container: "mkv"}, {Container: "ts"}, {Coding: Coding{BFrames: 3}},
		{Coding: Coding{KeyEvery: 1}}, {Coding: Coding{KeyEvery: 10}}, {Coding: Coding{Slices: 3}}, {Coding: Coding{CAVLC: true}},
		{Coding: Coding{References: 3}}, {Coding: Coding{Preset: media.Good}}} {
		o.Format, o.Seconds = format(t, "h264 240p25 600k"), 1
		_, err := Clip(t.Context(), dir, o)
		require.NoError(t, err)
	}
	m, err := ReadManifest(dir)
	require.NoError(t, err)
	require.Len(t, m.Clips, 12)
	seen := map[string]string{}
	for i := range m.Clips {
		e := &m.Clips[i]
		require.NotContains(t, seen, e.SHA256, e.File)
		seen[e.SHA256] = e.File
		require.NoError(t, e.Verify(t.Context(), dir, 2, nil), e.File)
	}
}

func TestVerifyFindsWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	path, err := Clip(t.Context(), dir, Order{Format: format(t, "h264 240p25 600k"), Seconds: 1})
	require.NoError(t, err)
	m, err := ReadManifest(dir)
	require.NoError(t, err)
	e := m.Find(filepath.Base(path))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	data[len(data)/2] ^= 4
	require.NoError(t, os.WriteFile(path, data, 0o666))
	require.ErrorContains(t, e.Verify(t.Context(), dir, 1, nil), "checksum")
	data[len(data)/2] ^= 4
	require.NoError(t, os.WriteFile(path, data, 0o666))
	e.Frames = 24
	require.ErrorContains(t, e.Verify(t.Context(), dir, 1, nil), "25 frames, not 24", "the checksum tells nothing of the manifest's other fields")
	require.NoError(t, os.WriteFile(path, data[:100], 0o666))
	require.ErrorContains(t, e.Verify(t.Context(), dir, 1, nil), "100 bytes")
	require.NoError(t, os.Remove(path))
	require.ErrorContains(t, e.Verify(t.Context(), dir, 1, nil), "missing")
	for _, text := range []string{"{", `{"schema":"other"}`, `{"schema":"vividstrain.clips/1","clips":[{"file":"../x"}]}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, ManifestName), []byte(text), 0o666))
		_, err := ReadManifest(dir)
		require.ErrorContains(t, err, ManifestName)
		_, err = Clip(t.Context(), dir, Order{Format: format(t, "h264 240p25 600k"), Seconds: 1})
		require.Error(t, err, "a manifest that is not ours is not written over")
	}
}

// The browser decodes what our containers hold to the same pictures as we do.
func TestBrowserDecodesClips(t *testing.T) {
	dir := t.TempDir()
	b, err := browser.Start(t.Context(), dir)
	require.NoError(t, err)
	defer b.Close()
	for _, o := range []Order{{}, {Container: "mkv", Coding: Coding{BFrames: 3}, Scene: "kelp"}, {Container: "ts", Coding: Coding{BFrames: 1}, Scene: "rain"}} {
		o.Format, o.Seconds = format(t, "h264 360p25 800k"), 2
		path, err := Clip(t.Context(), dir, o)
		require.NoError(t, err)
		f, err := registry.Open(path)
		require.NoError(t, err)
		defer f.Close()
		filter := func(p *media.Packet) ([]*media.Packet, error) { return []*media.Packet{p}, nil }
		if !f.ByteStream() {
			filter, err = h264.Codec.ToByteStream(f.Tracks()[0])
			require.NoError(t, err)
		}
		var packets [][]byte
		var p media.Packet
		for f.ReadPacket(&p) == nil {
			list, err := filter(&p)
			require.NoError(t, err)
			packets = append(packets, bytes.Clone(list[0].Data))
		}
		theirs, err := b.Decode("avc1.64001e", packets, true)
		require.NoError(t, err)
		require.NoError(t, f.Rewind())
		n := 0
		require.NoError(t, registry.Decode(t.Context(), f, 0, 2, func(frame media.Frame) error {
			require.Equal(t, theirs.Sums[n], browser.Sum(frame.Picture), "%s, frame %d", path, n)
			n++
			return nil
		}))
		require.Equal(t, 50, n)
		if o.Container == "ts" {
			continue // which video elements do not take
		}
		played, err := b.Play(filepath.Base(path))
		require.NoError(t, err)
		require.Empty(t, played.Error)
		require.True(t, played.Ended)
		require.InDelta(t, 2, played.Duration, 0.1)
	}
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

// With h264 it shows while the clip is made.
func TestRateThatH264CannotReach(t *testing.T) {
	for line, want := range map[string]string{"h264 240p25 150M": "at the finest quality it has", "h264 360p25 30k": "at the coarsest quality it has"} {
		dir := t.TempDir()
		_, err := Clip(t.Context(), dir, Order{Format: format(t, line), Seconds: 2})
		var wrong *RateError
		require.ErrorAs(t, err, &wrong)
		require.ErrorContains(t, err, want)
		requireEmpty(t, dir)
		f := format(t, line)
		f.Bitrate = wrong.Lowest*12/10 + wrong.Highest*8/10
		_, err = Clip(t.Context(), dir, Order{Format: f, Seconds: 2})
		require.NoError(t, err, "what is said to be the end of what can be had is")
	}
}

func TestCodecThatCannotCarryIt(t *testing.T) {
	for _, line := range []string{"hevc 576i25 2M", "mjpeg 240p25 10bit 4M", "mjpeg 576i25 9M"} {
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
	cputime.ShareCores() // as the program does
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

// A film of one group has its bitrate too, with nothing after it to make good what
// it took: the demo plays one second of this.
func TestOneGroupHitsItsRate(t *testing.T) {
	for _, line := range []string{"h264 2160p30 40M", "h264 2160p30 38M", "h264 720p25 4M", "h264 1080p60 20M", "h264 360p25 200k"} {
		dir := t.TempDir()
		_, err := Clip(t.Context(), dir, Order{Format: format(t, line), Seconds: 1, Threads: 2})
		require.NoError(t, err, line)
		m, err := ReadManifest(dir)
		require.NoError(t, err)
		require.InEpsilon(t, format(t, line).Bitrate, m.Clips[0].VideoBps, 0.03, line)
	}
}

// A longer clip serves where a shorter one is asked for, the shortest that is long enough; what is
// pruned is gone, and speeds are those of the clips that were made.
func TestClipsOfOtherLengthsServe(t *testing.T) {
	dir := t.TempDir()
	order := func(seconds int) Order {
		return Order{Format: format(t, "h264 160x96p25 100k"), Seconds: float64(seconds), Threads: 1}
	}
	require.Equal(t, order(1), Existing(dir, order(1)), "there is none")
	for _, seconds := range []int{3, 2} {
		_, err := Clip(t.Context(), dir, order(seconds))
		require.NoError(t, err)
	}
	require.Equal(t, order(2), Existing(dir, order(1)))
	require.Equal(t, order(3), Existing(dir, order(3)))
	require.Equal(t, order(4), Existing(dir, order(4)), "none is long enough")
	other := order(1)
	other.Format.Bitrate = 2e5
	require.Equal(t, other, Existing(dir, other))
	require.Greater(t, Speed(t.Context(), dir, "h264"), 1e4)
	require.Greater(t, Speed(t.Context(), t.TempDir(), "mjpeg"), 1e4, "a short clip is made to see")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.mp4"), []byte("x"), 0o644))
	clips, size, err := Prune(dir)
	require.NoError(t, err)
	require.Equal(t, 2, clips)
	require.Greater(t, size, int64(5000))
	require.Equal(t, order(1), Existing(dir, order(1)))
	require.FileExists(t, filepath.Join(dir, "mine.mp4"), "only what the manifest lists is cleared")
}

// A long clip repeats a piece of whole groups: it has the bitrate, its pictures are numbered within the piece
// and follow each other in time, and the piece is a clip of its own. One that no piece divides is coded whole.
func TestLongClipsRepeatAPiece(t *testing.T) {
	for line, o := range map[string]Order{
		"h264 160x96p25 100k": {Coding: Coding{BFrames: 2, KeyEvery: 30}},
		"hevc 160x96p25 50k":  {Container: "ts"},
		"mjpeg 160x96p10 1M":  {Container: "mkv"},
	} {
		dir := t.TempDir()
		o.Format, o.Seconds, o.Threads = format(t, line), 24, 2
		piece, times := o.Piece()
		coded := 0
		o.Progress = func(_, total int) { coded = total }
		path, err := Clip(t.Context(), dir, o)
		require.NoError(t, err)
		require.Equal(t, map[string]int{"h264": 5, "hevc": 6, "mjpeg": 6}[o.Format.Codec], times)
		require.Equal(t, o.Frames()/times, coded)
		require.Equal(t, o.Number(), piece.Number())
		m, err := ReadManifest(dir)
		require.NoError(t, err)
		require.Len(t, m.Clips, 2)
		e := m.Find(filepath.Base(path))
		require.Equal(t, coded, e.Piece)
		require.InEpsilon(t, o.Format.Bitrate, e.VideoBps, 0.03)
		require.NoError(t, e.Verify(t.Context(), dir, 2, nil))
		took, _ := new(Forecast).Cost(t.Context(), dir, Order{Format: o.Format, Seconds: 48, Coding: o.Coding})
		require.Zero(t, took, "of the piece that is kept")
		file, err := registry.Open(path)
		require.NoError(t, err)
		defer file.Close()
		at := map[int64]bool{}
		require.NoError(t, registry.Decode(t.Context(), file, 0, 1, func(f media.Frame) error {
			at[int64(math.Round(float64(f.PTS)/float64(file.Tracks()[0].Timescale)*o.Format.Rate.Hz()))] = true
			return nil
		}))
		require.Len(t, at, o.Frames(), "each frame has a time of its own")
	}
	_, times := Order{Format: format(t, "h264 240p23.976 600k"), Seconds: 60}.Piece()
	require.Equal(t, 1, times)
}
