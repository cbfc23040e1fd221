package transcode

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/cputime"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
)

// madeClip makes a clip.
func madeClip(t testing.TB, line string, seconds float64) string {
	l, err := load.Parse(line)
	require.NoError(t, err)
	path, err := clip.Clip(t.Context(), t.TempDir(), clip.Order{Format: l.Format, Seconds: seconds, Threads: 2})
	require.NoError(t, err)
	return path
}

func goal(t testing.TB, s string) media.Goal {
	g, err := load.ParseGoal(s)
	require.NoError(t, err)
	return g
}

// numbers reads the frame numbers of a file, and when each is shown.
func numbers(t testing.TB, path string) (list []int, times []float64, first *picture.Picture) {
	f, err := registry.Open(path)
	require.NoError(t, err)
	defer f.Close()
	v, err := f.Video()
	require.NoError(t, err)
	scale := float64(f.Tracks()[v].Timescale)
	require.NoError(t, registry.Decode(t.Context(), f, v, 2, func(frame media.Frame) error {
		n, readable := scene.ReadNumber(frame.Picture)
		require.True(t, readable, "frame %d", len(list))
		list, times = append(list, n), append(times, float64(frame.PTS)/scale)
		if first == nil {
			first = picture.New(frame.Width, frame.Height, frame.Depth, frame.Chroma)
		}
		return nil
	}))
	return list, times, first
}

// What comes out has the goal's size and rate, every frame shows the picture of
// its time, and the bitrate is near the one that was asked for.
func TestConversions(t *testing.T) {
	for _, c := range []struct {
		line, goal, out string
		frame           func(i int) int // number that frame i of the result shows
		n               int
	}{
		{"h264 480p25 2M", "240p 0.4M", "a.mp4", func(i int) int { return i }, 50},
		{"h264 480p50 2M", "240p25 0.4M", "b.mkv", func(i int) int { return 2 * i }, 50},
		{"h264 240p25 1M", "360p50 1M", "c.ts", func(i int) int { return i / 2 }, 100},
		{"mjpeg 240p24 6M", "160p60 0.3M", "d.mp4", func(i int) int { return (4*i + 1) / 10 }, 120},
		{"h264 480p25 10bit 4:2:2 2M", "240p 0.4M", "e.mp4", func(i int) int { return i }, 50},
		{"h264 480p25 10bit hdr 2M", "240p 0.4M", "f.mp4", func(i int) int { return i }, 50},
		{"h264 480p25 10bit hlg 2M", "240p 0.4M", "g.mp4", func(i int) int { return i }, 50},
		{"h264 576i25 3M", "288x240p 0.4M", "h.mp4", func(i int) int { return i }, 50},
	} {
		t.Run(c.line+" to "+c.goal, func(t *testing.T) {
			out := filepath.Join(t.TempDir(), c.out)
			r, err := Run(t.Context(), Job{File: madeClip(t, c.line, 2), Out: out, Copies: 1, Order: Order{Goal: goal(t, c.goal), Decoders: 2, Encoders: 2}})
			require.NoError(t, err)
			list, times, first := numbers(t, out)
			require.Len(t, list, c.n)
			require.Equal(t, c.n, r.Stats.Frames)
			g := goal(t, c.goal)
			require.Equal(t, []int{g.Width, g.Height, 8}, []int{first.Width, first.Height, first.Depth})
			for i, n := range list {
				require.InDelta(t, c.frame(i), n, 0, "frame %d", i)
				require.InDelta(t, float64(i)*2/float64(c.n), times[i]-times[0], 0.0011)
			}
			require.InEpsilon(t, float64(g.Bitrate)*2/8, r.Bytes, 0.15)
			require.Positive(t, r.Stats.Encode)
			require.Positive(t, r.Stats.Scale)
			require.Positive(t, r.Stats.Decode)
		})
	}
}

// The shape of the picture is kept: what is wider than the goal has less height.
func TestFit(t *testing.T) {
	for _, c := range [][6]int{{1920, 1080, 1280, 720, 1280, 720}, {1920, 800, 1280, 720, 1280, 534}, {1440, 1080, 1280, 720, 960, 720},
		{720, 576, 1280, 720, 1280, 720}, {3840, 2160, 284, 160, 284, 160}, {640, 16, 284, 160, 284, 16}} {
		w, h := fit(media.Format{Width: c[0], Height: c[1]}, c[2], c[3])
		require.Equal(t, [2]int{c[4], c[5]}, [2]int{w, h}, "%v", c)
	}
}

func TestGoalsThatAreNotMade(t *testing.T) {
	for g, want := range map[string]string{"576i 2M": "progressive", "4320p 20M": "from 16x16"} {
		require.ErrorContains(t, CheckGoal(goal(t, g)), want)
	}
	require.NoError(t, CheckGoal(goal(t, "160p 0.2M")))
	require.NoError(t, CheckGoal(goal(t, "1080p60 20M h264")))
}

// around plays a file again and again.
type around struct {
	*registry.File
	rounds int
}

func (a *around) ReadPacket(p *media.Packet) error {
	err := a.File.ReadPacket(p)
	if errors.Is(err, io.EOF) && a.rounds > 1 {
		a.rounds--
		if err = a.Rewind(); err == nil {
			err = a.File.ReadPacket(p)
		}
	}
	return err
}

// Where the times of a source jump back, the result goes on evenly.
func TestTimesThatJumpBack(t *testing.T) {
	f, err := registry.Open(madeClip(t, "h264 240p25 1M", 1))
	require.NoError(t, err)
	defer f.Close()
	in, err := registry.Describe(t.Context(), f)
	require.NoError(t, err)
	for _, encoders := range []int{1, 3} {
		require.NoError(t, f.Rewind())
		c, err := New(&around{f, 4}, in, Order{Goal: goal(t, "160p 0.2M"), Encoders: encoders})
		require.NoError(t, err)
		var times []int64
		require.NoError(t, c.Run(t.Context(), func(p *media.Packet) error {
			times = append(times, p.PTS)
			return nil
		}))
		require.Len(t, times, 100)
		for i, at := range times {
			require.EqualValues(t, i, at)
		}
		require.Equal(t, 4*time.Second, c.Stats().Media)
	}
}

func TestStopsWhenToldTo(t *testing.T) {
	f, err := registry.Open(madeClip(t, "h264 240p25 1M", 2))
	require.NoError(t, err)
	defer f.Close()
	in, err := registry.Describe(t.Context(), f)
	require.NoError(t, err)
	enough := errors.New("enough")
	for i, stop := range []func(cancel func()) error{
		func(func()) error { return enough },
		func(cancel func()) error { cancel(); return nil },
	} {
		ctx, cancel := context.WithCancel(t.Context())
		c, err := New(&around{f, 1 << 30}, in, Order{Goal: goal(t, "160p 0.2M"), Encoders: 2})
		require.NoError(t, err)
		n := 0
		err = c.Run(ctx, func(*media.Packet) error {
			if n++; n == 40 {
				return stop(cancel)
			}
			return nil
		})
		require.ErrorIs(t, err, []error{enough, context.Canceled}[i])
		cancel()
	}
	// And by a gate that closes, in whichever order the stages notice.
	for range 30 {
		c, err := New(&around{f, 1 << 30}, in, Order{Goal: goal(t, "160p 0.2M"), Gate: func(context.Context) error { return enough }})
		require.NoError(t, err)
		require.ErrorIs(t, c.Run(t.Context(), func(*media.Packet) error { return nil }), enough)
	}
}

// A conversion that may run two seconds ahead waits for its viewer.
func TestWatchedConversionsWait(t *testing.T) {
	r, err := Run(t.Context(), Job{File: madeClip(t, "h264 240p25 1M", 6), Copies: 2, Ahead: 2 * time.Second, Order: Order{Goal: goal(t, "160p 0.2M")}})
	require.NoError(t, err)
	require.Len(t, r.Buffers, 2)
	require.Greater(t, r.Took, 3*time.Second, "six seconds of film, less what may be ahead")
	for _, b := range r.Buffers {
		require.Zero(t, b.Stalls)
		require.Greater(t, *b.BuildRate, 1.5)
	}
}

// What conversions after the first take is not hidden by memory that the first one left.
func TestMemoryOfTheSecondConversion(t *testing.T) {
	var peaks [2]int64
	for i := range peaks {
		r, err := Run(t.Context(), Job{File: madeClip(t, "h264 720p25 4M", 3), Copies: 1, Order: Order{Goal: goal(t, "480p 1M"), Encoders: 2}})
		require.NoError(t, err)
		peaks[i] = r.MemPeak
	}
	require.Greater(t, peaks[1], peaks[0]/4)
	require.Positive(t, peaks[0])
}

func BenchmarkConvert(b *testing.B) {
	cputime.ShareCores() // as the program does
	for _, c := range [][2]string{{"h264 1080p30 12M", "720p 4M"}, {"h264 1080p30 10bit hdr 12M", "720p 4M"}, {"hevc 2160p30 10bit hdr 40M", "720p 4M"}} {
		b.Run(fmt.Sprintf("%s to %s", c[0], c[1]), func(b *testing.B) {
			path := madeClip(b, c[0], 4)
			for b.Loop() {
				r, err := Run(b.Context(), Job{File: path, Copies: 1, Order: Order{Goal: goal(b, c[1]), Decoders: 2, Encoders: 2}})
				require.NoError(b, err)
				b.ReportMetric(r.Speed, "x-real-time")
				b.ReportMetric(float64(r.Stats.Frames)/r.Took.Seconds(), "frames/s")
				for stage, took := range map[string]time.Duration{"decode": r.Stats.Decode, "scale": r.Stats.Scale, "tone": r.Stats.Tone, "encode": r.Stats.Encode} {
					b.ReportMetric(1e3*took.Seconds()/float64(r.Stats.Frames), stage+"-ms/frame")
				}
				b.ReportMetric(float64(r.MemPeak)/1e6, "MB")
			}
		})
	}
}

// Sound goes along as it is, from and to every container.
func TestSoundIsCarriedOver(t *testing.T) {
	dir := t.TempDir()
	source, err := registry.Open(madeClip(t, "h264 240p25 1M", 2))
	require.NoError(t, err)
	defer source.Close()
	with := filepath.Join(dir, "with.mp4")
	file, err := os.Create(with)
	require.NoError(t, err)
	m, err := registry.MP4.Create(file, []media.Track{source.Tracks()[0],
		{Kind: media.Audio, Codec: "aac", Timescale: 48000, Config: []byte{0x11, 0x90}, Channels: 2, Rate: 48000}}, 0)
	require.NoError(t, err)
	var p media.Packet
	for i := int64(0); source.ReadPacket(&p) == nil; i++ {
		require.NoError(t, m.WritePacket(&p))
		for k := range int64(2) {
			n := 2*i + k
			require.NoError(t, m.WritePacket(&media.Packet{Track: 1, Data: []byte{byte(n), 1, 2, 3}, PTS: n * 1024, DTS: n * 1024, Duration: 1024, Key: true}))
		}
	}
	require.NoError(t, errors.Join(m.Close(), file.Close()))
	from := with
	for _, name := range []string{"a.ts", "b.mkv", "c.mp4"} {
		to := filepath.Join(dir, name)
		r, err := Run(t.Context(), Job{File: from, Out: to, Copies: 1, Order: Order{Goal: goal(t, "160p 0.2M")}})
		require.NoError(t, err, name)
		require.Empty(t, r.Left)
		f, err := registry.Open(to)
		require.NoError(t, err)
		n := 0
		for f.ReadPacket(&p) == nil {
			if track := f.Tracks()[p.Track]; track.Kind == media.Audio {
				require.InDelta(t, float64(n)*1024/48000, float64(p.PTS)/float64(track.Timescale), 0.05, "%s, packet %d", name, n)
				n++
			}
		}
		require.NoError(t, f.Close())
		require.InDelta(t, 100, n, 2, name)
		from = to
	}
}
