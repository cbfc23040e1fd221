package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
)

func TestTimesOfAFile(t *testing.T) {
	f, err := listed([]int64{200, 120, 160, 300, 240}, 60, 1000)
	require.NoError(t, err)
	require.Equal(t, 5, f.frames)
	for frame, want := range []int{0, 40, 80, 120, 180, 240, 280} { // the last two of the second round
		require.Equal(t, time.Duration(want)*time.Millisecond, f.timeline.At(frame), frame)
	}
	for pts, place := range map[int64]int64{120: 0, 160: 1, 200: 2, 240: 3, 300: 4} {
		require.Equal(t, place, f.place(pts))
	}
	_, err = listed([]int64{5}, 1, 1000)
	require.ErrorContains(t, err, "fewer than two frames")
	_, err = listed([]int64{0, 1 << 60}, 1, 1)
	require.ErrorContains(t, err, "no sense")
}

// A file of the user's own is decoded and shown to the end, and begun anew.
func TestPlaysAFile(t *testing.T) {
	e, err := New(Default())
	require.NoError(t, err)
	l, err := load.Parse("h264 208x160p30 331k")
	require.NoError(t, err)
	l.File = "../../media/codec/h264/testdata/main-cabac-temporal.264" // 18 frames
	require.NoError(t, e.Check(l))
	require.NoError(t, e.Prepare(t.Context(), l, nil))
	result, err := e.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: 2 * time.Second}, func(route.Live) {})
	require.NoError(t, err)
	require.Empty(t, result.Failure)
	f := result.Streams[0].Steady()
	require.Equal(t, 60, f.Due)
	require.Zero(t, f.Damaged)
	require.Equal(t, f.Due, f.Shown+f.Dropped)
}

func TestOnlyPicturesThatNoneNeedsAreLeftOut(t *testing.T) {
	file, err := registry.Open("../../media/codec/h264/testdata/main-cabac-b.264")
	require.NoError(t, err)
	defer file.Close()
	f, err := scan(t.Context(), file)
	require.NoError(t, err)
	require.NoError(t, file.Rewind())
	s, err := f.source(file, 1)
	require.NoError(t, err)
	s.decoder.Close()
	require.False(t, s.droppable([]byte{0, 0, 0, 1, 0x65, 0x88}), "an IDR picture")
	require.False(t, s.droppable([]byte{0, 0, 1, 0x41, 0x9A}), "a reference")
	require.True(t, s.droppable([]byte{0, 0, 1, 0x09, 0x10, 0, 0, 1, 0x01, 0x9A}), "no reference")
}
