package engine

import (
	"context"
	"io"
	"math/rand/v2"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// reel is a demuxer of so many empty packets, 25 a second; keyEvery is 0 where all are key frames.
type reel struct{ next, frames, keyEvery int }

func (f *reel) Tracks() []media.Track { return nil }
func (f *reel) Rewind() error         { f.next = 0; return nil }

func (f *reel) ReadPacket(p *media.Packet) error {
	if f.next == f.frames {
		return io.EOF
	}
	p.PTS, p.Key = int64(f.next), f.keyEvery == 0 || f.next%f.keyEvery == 0
	f.next++
	return nil
}

// sleeper is a decoder that takes no time but for the frames that it sleeps on.
type sleeper struct {
	packets chan int64
	sleep   map[int64]time.Duration
	picture *picture.Picture
	broken  map[int64]bool
}

func newSleeper(sleep map[int64]time.Duration) *sleeper {
	return &sleeper{packets: make(chan int64), sleep: sleep, picture: picture.New(32, 32, 8, picture.C420)}
}

func (d *sleeper) Send(ctx context.Context, p *media.Packet) error {
	select {
	case d.packets <- p.PTS:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (d *sleeper) Receive(ctx context.Context) (media.Frame, error) {
	select {
	case pts := <-d.packets:
		time.Sleep(d.sleep[pts])
		if d.broken[pts] {
			return media.Frame{PTS: pts}, &media.FormatError{Format: "test", What: "damage"}
		}
		return media.Frame{Picture: d.picture, PTS: pts}, nil
	case <-ctx.Done():
		return media.Frame{}, ctx.Err()
	}
}

func (*sleeper) Drain() {}
func (*sleeper) Close() {}

const testQueue = 4

// playing plays length of a film of 60 s at 25 frames a second on a screen of
// 100 Hz through a decoder.
func playing(d media.Decoder, late tally.Late, length time.Duration, number func(*picture.Picture) (int, bool)) *player {
	return newPlayer(source{
		packets: &reel{frames: 1500}, decoder: d, closeFile: func() error { return nil },
		place: func(pts int64) int64 { return pts }, frames: 1500, number: number,
	}, tally.ScreenConfig{Refresh: 100, Late: late, Frames: tally.Constant{Num: 25, Den: 1},
		Spans: []tally.Span{{Kind: tally.Settle, To: time.Second}, {Kind: tally.Steady, From: time.Second, To: length}}}, testQueue)
}

// A frame that the decoder sleeps on for longer than the queue lasts takes with
// it exactly the frames that are overtaken: decoding of frame s begins when
// frame s-5 leaves the queue of four for the screen, and one more is in hand.
func TestSlowFramesAreCountedExactly(t *testing.T) {
	for seed := range uint64(20) {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 3))
			sleep, dropped, repeats := map[int64]time.Duration{}, 0, 0
			for s := 50; s < 700; s += 25 + random.IntN(40) {
				pause := time.Duration(random.IntN(60))*10*time.Millisecond + 5*time.Millisecond
				sleep[int64(s)] = pause
				ready := frameTime(s-testQueue-1) + pause
				refresh := ready.Truncate(10*time.Millisecond) + 10*time.Millisecond // the first that sees it
				for i := s; frameTime(i+1) <= refresh; i++ {
					dropped++
				}
				if refresh > frameTime(s) {
					repeats += int((refresh - frameTime(s)) / (10 * time.Millisecond))
				}
			}
			p := playing(newSleeper(sleep), tally.Drop, 30*time.Second, nil)
			require.NoError(t, p.play(t.Context()))
			f := p.account.Steady()
			require.Equal(t, 29*25, f.Due)
			require.Equal(t, dropped, f.Dropped, "seed %d", seed)
			require.Equal(t, f.Due-dropped, f.Shown)
			require.Equal(t, repeats, f.Repeats)
			require.Zero(t, p.account.Windows[0].Frames.Dropped)
		})
	}
}

func frameTime(i int) time.Duration { return time.Duration(i) * 40 * time.Millisecond }

func TestWaitingPlaysEveryFrame(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		sleep := map[int64]time.Duration{}
		for i := range int64(1500) {
			sleep[i] = 50 * time.Millisecond // 20 frames a second
		}
		p := playing(newSleeper(sleep), tally.Wait, 20*time.Second, nil)
		require.NoError(t, p.play(t.Context()))
		f := p.account.Steady()
		require.Zero(t, f.Dropped)
		require.InDelta(t, 0.8, f.Speed, 0.01)
	})
}

func TestShortFileIsPlayedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := playing(newSleeper(nil), tally.Drop, 150*time.Second, nil)
		require.NoError(t, p.play(t.Context()))
		require.Equal(t, 149*25, p.account.Steady().Shown)
		require.Zero(t, p.account.Steady().Dropped)
	})
}

func TestDamagedAndWrongFramesAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newSleeper(nil)
		d.broken = map[int64]bool{100: true, 101: true, 300: true}
		reads := 0
		p := playing(d, tally.Drop, 20*time.Second, func(*picture.Picture) (int, bool) {
			reads++
			return 0, reads <= 10 // what it reads is wrong but for the first
		})
		require.NoError(t, p.play(t.Context()))
		f := p.account.Steady()
		require.Equal(t, 3, f.Damaged)
		require.Equal(t, 3, f.Dropped)
		require.Equal(t, f.Shown, f.Wrong)
	})
}

func TestDecoderThatNeverAnswers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := playing(newSleeper(map[int64]time.Duration{0: time.Hour}), tally.Drop, 20*time.Second, nil)
		err := p.play(t.Context())
		require.ErrorContains(t, err, "did not start within 15s")
	})
}

func TestStopsWhenToldTo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 4995*time.Millisecond)
		defer cancel()
		p := playing(newSleeper(nil), tally.Drop, 20*time.Second, nil)
		require.ErrorIs(t, p.play(ctx), context.DeadlineExceeded)
		require.Equal(t, 4*25, p.account.Steady().Due, "what was due until then is accounted for")
	})
}

func TestSeveralStreams(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		players := []stream{
			playing(newSleeper(nil), tally.Drop, 10*time.Second, nil),
			playing(newSleeper(map[int64]time.Duration{60: 505 * time.Millisecond}), tally.Drop, 10*time.Second, nil),
		}
		calls := 0
		result, err := playAll(t.Context(), route.Plan{Stagger: 3 * time.Second, Loads: []load.Load{{Streams: 2}}}, players, func(l route.Live) { calls++ }, route.Result{})
		require.NoError(t, err)
		require.Len(t, result.Streams, 2)
		require.Zero(t, result.Streams[0].Steady().Dropped)
		require.Positive(t, result.Streams[1].Steady().Dropped)
		require.InDelta(t, 52, calls, 2)
	})
}

// BenchmarkPlayer is what a frame costs the player beside decoding: it runs the
// three goroutines' work on one, frame after frame.
func BenchmarkPlayer(b *testing.B) {
	d := newSleeper(nil)
	p := playing(d, tally.Drop, 1<<62, nil)
	p.began = time.Now()
	frame := media.Frame{Picture: d.picture}
	var packet media.Packet
	b.ReportAllocs()
	for i := int64(0); b.Loop(); i++ {
		if err := p.packets.ReadPacket(&packet); err != nil {
			_ = p.packets.Rewind()
		}
		p.tooLate(int(i))
		<-p.queue
		frame.PTS = i
		p.enqueue(frame, p.began)
		for range 4 { // 100 Hz for 25 frames a second
			p.refresh()
		}
	}
	b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N), "us/frame")
}

// A jump takes as long as decoding from the key frame before its target, and waiting for a refresh.
func TestJumps(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		const frames, decoding = 50, 7 * time.Millisecond
		sleep := map[int64]time.Duration{}
		for n := range int64(frames) {
			sleep[n] = decoding
		}
		open := func() (source, error) {
			return source{packets: &reel{frames: frames, keyEvery: 25}, decoder: newSleeper(sleep), closeFile: func() error { return nil }, frames: frames, place: func(pts int64) int64 { return pts }}, nil
		}
		s, _ := open()
		p := newPlayer(s, tally.ScreenConfig{Refresh: 60, Late: tally.Drop, Frames: tally.Constant{Num: 25, Den: 1}, Spans: []tally.Span{{Kind: tally.Steady, To: time.Second}}}, 4)
		p.jumps, p.reopen = 4, open
		require.NoError(t, p.play(t.Context()))
		require.Len(t, p.account.Jumps, 4)
		for i, target := range []int{25, 5, 36, 17} {
			j := p.account.Jumps[i]
			least := time.Duration(target%25+1) * decoding
			require.GreaterOrEqual(t, j.DelayS, least.Seconds()-1e-4, "to %d", target)
			require.Less(t, j.DelayS, (least + 17*time.Millisecond).Seconds(), "to %d", target)
		}
		require.Equal(t, []tally.JumpKind{tally.Back, tally.Forward, tally.Back}, []tally.JumpKind{p.account.Jumps[1].Kind, p.account.Jumps[2].Kind, p.account.Jumps[3].Kind})
	})
}
