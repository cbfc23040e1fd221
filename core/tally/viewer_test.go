package tally

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func viewer(length time.Duration) *Viewer {
	return NewViewer(ViewerConfig{Start: ViewerStart, Bound: ViewerBound,
		Spans: []Span{{Settle, 0, length / 5}, {Steady, length / 5, length}}})
}

// feed delivers segments of two seconds; took tells how long each is under way.
func feedViewer(v *Viewer, end time.Duration, took func(i int) time.Duration) {
	now := time.Duration(0)
	v.Fetch(0)
	for i := 0; now < end; i++ {
		if now += took(i); now > end {
			break
		}
		v.Arrived(now, time.Duration(i+1)*2*time.Second)
		for v.Full() {
			v.Rest(now)
			now += 100 * ms
			v.Fetch(now)
		}
	}
	v.Advance(end)
}

func TestViewerOnAFastServer(t *testing.T) {
	v := viewer(20 * time.Second)
	feedViewer(v, 21*time.Second, func(int) time.Duration { return 500 * ms })
	a := v.Finish(21*time.Second, 25)
	require.Equal(t, 0.5, *a.StartDelayS)
	require.InDelta(t, 4, *a.Buffer.BuildRate, 0.01)
	require.Zero(t, a.Buffer.Stalls)
	require.Nil(t, a.Buffer.StallExpectedAtS)
	require.InDelta(t, 30, v.Lead().Seconds(), 2.1)
	require.Equal(t, 400, a.Steady().Due)
	require.Equal(t, 400, a.Steady().Shown)
}

// A server at 0.8 of the need: the buffer of the first segment is gone after
// the second one is late; the rate and the stalls are what they are.
func TestViewerOnASlowServer(t *testing.T) {
	v := viewer(30 * time.Second)
	feedViewer(v, 40*time.Second, func(i int) time.Duration {
		if i < 5 {
			return 200 * ms
		}
		return 2500 * ms
	})
	a := v.Finish(40*time.Second, 25)
	require.InDelta(t, 0.8, *a.Buffer.BuildRate, 1e-9)
	require.NotNil(t, a.Buffer.StallExpectedAtS)
	// Ten seconds are there at 1 s, 0.8 s of them played; 0.2 s are lost a second.
	require.Zero(t, a.Buffer.Stalls, "the clip is too short")
	require.InDelta(t, 46, *a.Buffer.StallExpectedAtS, 4)
}

func TestViewerStalls(t *testing.T) {
	v := viewer(20 * time.Second)
	feedViewer(v, 21*time.Second, func(i int) time.Duration {
		switch i {
		case 0:
			return time.Second
		case 4:
			return 3 * time.Second // arrives at 7 s; 6 s were there, playing since 1 s... 0.9 s too late
		case 5, 6, 7, 8, 9:
			return 1900 * ms
		}
		return 1500 * ms
	})
	// Segments arrive at 1, 2.5, 4, 5.5, 8.5: by 8.5 s 8 s are there, 7.5 played.
	a := v.Finish(21*time.Second, 50)
	require.Zero(t, a.Buffer.Stalls)
	v = viewer(20 * time.Second)
	feedViewer(v, 21*time.Second, func(i int) time.Duration {
		if i == 4 {
			return 5 * time.Second // arrives at 10.5 s; 8 s were there, which last until 9 s
		}
		return []time.Duration{time.Second, 1500 * ms}[min(i, 1)]
	})
	a = v.Finish(21*time.Second, 50)
	require.Equal(t, 1, a.Buffer.Stalls)
	require.InDelta(t, 1.5, a.Buffer.StallS, 1e-9)
	require.Zero(t, a.Buffer.MinLeadS)
	require.InDelta(t, (16-1.5)*50, a.Steady().Due, 1)
	require.InDelta(t, 14.5/16, a.Steady().Speed, 1e-9, "a stalled viewer is slow")
	require.InDelta(t, 50*14.5/16, a.Steady().ShownRate, 0.1)
}

// What is under way for too long at the end of the window counts.
func TestViewerOfAServerThatStopped(t *testing.T) {
	v := viewer(20 * time.Second)
	feedViewer(v, 30*time.Second, func(i int) time.Duration {
		if i == 6 {
			return time.Hour
		}
		return time.Second
	})
	a := v.Finish(30*time.Second, 25)
	require.Equal(t, 1, a.Buffer.Stalls)
	require.Less(t, *a.Buffer.BuildRate, 0.4)
	require.InDelta(t, 8, a.Buffer.StallS, 0.01) // 12 s from 1 s on, until the window's end at 21 s
}

func TestViewerThatNeverStarts(t *testing.T) {
	v := viewer(10 * time.Second)
	v.Fetch(0)
	v.Advance(15 * time.Second)
	a := v.Finish(15*time.Second, 25)
	require.Empty(t, a.Windows)
	require.InDelta(t, 15, a.Buffer.StartDelayS, 1e-9)
}

func TestViewerJumps(t *testing.T) {
	v := viewer(10 * time.Second)
	v.Fetch(0)
	require.False(t, v.Arrived(500*ms, time.Second))
	require.True(t, v.Arrived(time.Second, 12*time.Second))
	v.Jump(12*time.Second, Back)
	require.True(t, v.Waits())
	require.False(t, v.Arrived(12500*ms, time.Second))
	require.True(t, v.Arrived(12700*ms, 3*time.Second))
	v.End(13 * time.Second)
	a := v.Finish(20*time.Second, 25)
	require.Len(t, a.Buffer.Jumps, 1)
	require.Equal(t, Back, a.Buffer.Jumps[0].Kind)
	require.InDelta(t, 0.7, a.Buffer.Jumps[0].DelayS, 1e-9)
	require.True(t, v.Finished())
	require.Zero(t, a.Buffer.Stalls)
	require.InDelta(t, 3, v.Played().Seconds(), 1e-9)
}

func TestViewerCountsMissingFrames(t *testing.T) {
	v := viewer(10 * time.Second)
	v.Fetch(0)
	v.Arrived(0, 20*time.Second)
	v.Advance(5 * time.Second)
	v.Missing(5)
	v.Advance(10 * time.Second)
	v.Damaged(2) // is found when all has been watched
	a := v.Finish(10*time.Second, 25)
	require.Equal(t, Frames{Due: 200, Shown: 195, Dropped: 5, Damaged: 2, ShownRate: 195. / 8, Speed: 1}, *a.Steady())
}

// arrivals plays media that come as next says: after how long, up to where, and whether
// that is a whole segment.
func rateOf(t *testing.T, bound time.Duration, next func(i int) (after, until time.Duration, whole bool)) (rate, off float64) {
	v := NewViewer(ViewerConfig{Start: ViewerStart, Bound: bound, Spans: []Span{{Settle, 0, 2 * time.Second}, {Steady, 2 * time.Second, 20 * time.Second}}})
	v.Fetch(0)
	now := time.Duration(0)
	for i := 0; ; i++ {
		after, until, whole := next(i)
		if now += after; now > 30*time.Second {
			break
		}
		if v.Arriving(now, until); whole {
			v.Arrived(now, until)
		}
	}
	v.Advance(30 * time.Second)
	b := v.Finish(30*time.Second, 25).Buffer
	require.NotNil(t, b.BuildRate)
	return *b.BuildRate, b.BuildRateError
}

// Segments of unequal length over an even link: what is under way at the edges of the
// window counts by its share.
func TestBuildRateOfUnequalSegments(t *testing.T) {
	lengths := []time.Duration{1, 6, 2, 9, 1, 5, 3}
	for shift := range lengths {
		var have, end time.Duration
		k := shift
		rate, off := rateOf(t, time.Hour, func(int) (time.Duration, time.Duration, bool) {
			if have == end {
				end += lengths[k%len(lengths)] * time.Second
				k++
			}
			have += 10 * ms // each read
			return 8 * ms, have, have == end
		})
		require.InEpsilon(t, 1.25, rate, 0.002, "from segment %d on", shift)
		require.Less(t, off, 0.01)
	}
}

// Bursts: a segment of four seconds comes at once, every so often. Where in a burst the
// window begins does not matter.
func TestBuildRateOfBursts(t *testing.T) {
	for _, want := range []float64{0.8, 1.25, 2.5} {
		for offset := time.Duration(0); offset < 4*time.Second; offset += 300 * ms {
			var have time.Duration
			rate, off := rateOf(t, time.Hour, func(i int) (time.Duration, time.Duration, bool) {
				have += 100 * ms
				after := ms
				if i%40 == 0 {
					after = time.Duration(4e9/want) - 39*ms
				}
				if i == 0 {
					after = offset
				}
				return after, have, i%40 == 39
			})
			require.InEpsilon(t, want, rate, 0.01, "offset %s", offset)
			require.Greater(t, off, 0.02)
			require.Less(t, off, want)
		}
	}
}

func TestBuildRateOfWhatStopsAndOfWhatPauses(t *testing.T) {
	var have time.Duration
	rate, _ := rateOf(t, time.Hour, func(i int) (time.Duration, time.Duration, bool) {
		have += 20 * ms
		if i == 1000 { // at 10 s, for ever
			return time.Hour, have, true
		}
		return 10 * ms, have, true
	})
	require.InDelta(t, 2*8.0/18, rate, 0.15, "until 10 s twice real time, then nothing")
	have = 0
	rate, _ = rateOf(t, time.Hour, func(i int) (time.Duration, time.Duration, bool) {
		have += 20 * ms
		if i == 1000 {
			return 3 * time.Second, have, true
		}
		return 10 * ms, have, true
	})
	require.InEpsilon(t, 2*15.0/18, rate, 0.02, "a pause of 3 s in 18 s")
}

// Where nothing had to be fetched nothing is known of how fast it would have come.
func TestBuildRateThatIsNotKnown(t *testing.T) {
	v := viewer(10 * time.Second)
	v.Fetch(0)
	v.Arrived(100*ms, 29*time.Second)
	v.Rest(100 * ms)
	v.Fetch(9900 * ms)
	v.Advance(11 * time.Second)
	b := v.Finish(11*time.Second, 25).Buffer
	require.Nil(t, b.BuildRate)
	require.Zero(t, b.Stalls)
	full := viewer(10 * time.Second)
	full.Fetch(0)
	full.Arrived(0, time.Minute)
	full.Rest(0)
	full.Advance(10 * time.Second)
	require.Equal(t, 1000.0, *full.Finish(10*time.Second, 25).Buffer.BuildRate)
}
