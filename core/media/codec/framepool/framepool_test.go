package framepool

import (
	"context"
	"io"
	"sync"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

var small = Layout{CodedWidth: 32, CodedHeight: 32, Width: 30, Height: 26, CropLeft: 2, CropTop: 4, Depth: 8, ChromaDepth: 8, Chroma: picture.C420}

func frame(t *testing.T, l Layout, released func()) *Frame {
	f := &Frame{}
	f.Init(l, released)
	f.Begin(1)
	require.Equal(t, 1, f.Holders())
	return f
}

// A frame goes back when the last of its holders has dropped it, the picture's receiver too.
func TestFramesGoBackOnce(t *testing.T) {
	released := 0
	f := frame(t, small, func() { released++ })
	f.Hold()
	f.Hold()
	f.Drop()
	f.Drop()
	require.Zero(t, released)
	f.Picture.Release()
	require.Equal(t, 1, released)
}

// What is shown is the crop of what is coded.
func TestCrop(t *testing.T) {
	f := frame(t, small, nil)
	f.Planes[0].Pix[4*32+2] = 77
	f.Planes[1].Pix[2*16+1] = 88
	require.Equal(t, []int{30, 26}, []int{f.Picture.Width, f.Picture.Height})
	require.EqualValues(t, 77, f.Picture.Planes[0].Pix[0])
	require.EqualValues(t, 88, f.Picture.Planes[1].Pix[0])
	deep := small
	deep.Depth = 10
	require.False(t, f.Fits(deep))
	other := small
	other.CropLeft = 0
	require.True(t, f.Fits(other), "a crop needs no other samples")
	g := frame(t, deep, nil)
	g.Fill()
	require.EqualValues(t, 512, g.Planes[0].Wide[100])
	require.EqualValues(t, 128, g.Planes[1].Wide[100], "chroma has 8 bits, in two bytes")
}

// Who needs rows waits for them: of a field, or of the whole frame.
func TestRowsAreAwaited(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := frame(t, small, nil)
		var mu sync.Mutex
		var done []string
		wait := func(name string, s Fields, y int32) {
			go func() {
				f.Await(s, y)
				mu.Lock()
				defer mu.Unlock()
				done = append(done, name)
			}()
			synctest.Wait()
		}
		wait("top row 5", TopField, 5)
		wait("row 10 of the frame", WholeFrame, 10)
		require.Empty(t, done)
		f.Advance(TopField, 5+lead)
		synctest.Wait()
		require.Empty(t, done, "who waits waits for some more rows")
		f.Advance(TopField, 6+lead)
		synctest.Wait()
		require.Equal(t, []string{"top row 5"}, done)
		f.Advance(BottomField, 6+lead)
		synctest.Wait()
		require.Equal(t, []string{"top row 5", "row 10 of the frame"}, done)
		wait("at once", WholeFrame, 11+2*lead)
		require.Len(t, done, 3)
		wait("beyond the last row", WholeFrame, 100+2*lead)
		wait("all", WholeFrame, 2*AllRows-1)
		require.Len(t, done, 3)
		f.Advance(WholeFrame, AllRows)
		synctest.Wait()
		require.ElementsMatch(t, []string{"beyond the last row", "all"}, done[3:])
	})
}

// Where one field of a frame never came, the other takes its place.
func TestLoneFields(t *testing.T) {
	f := frame(t, small, nil)
	for y := range 32 {
		for x := range 32 {
			f.Planes[0].Pix[32*y+x] = uint8(y)
		}
	}
	f.Shown = BottomField
	f.Advance(WholeFrame, AllRows)
	f.AwaitAll()
	require.Equal(t, []uint8{1, 1, 3, 3}, []uint8{f.Planes[0].Pix[0], f.Planes[0].Pix[32], f.Planes[0].Pix[64], f.Planes[0].Pix[96]})
	require.Equal(t, BottomField, TopField.Opposite())
}

type waiting struct {
	order int32
	waits bool
}

func (w waiting) Waiting() bool      { return w.waits }
func (w waiting) OutputOrder() int32 { return w.order }

// The first in order of display goes when more wait than may, or the buffer is too full.
func TestBumping(t *testing.T) {
	buffer := []waiting{{8, true}, {2, false}, {4, true}}
	_, found := NextOutput(buffer, 2, 4)
	require.False(t, found)
	first, found := NextOutput(buffer, 1, 4)
	require.True(t, found)
	require.EqualValues(t, 4, first.order)
	_, found = NextOutput(buffer, 2, 2)
	require.True(t, found, "the buffer is full")
	_, found = NextOutput([]waiting{{2, false}}, 0, 0)
	require.False(t, found, "nothing waits")
}

// Frames come out in order, and nothing hangs when the receiver leaves.
func TestOutput(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := NewOutput[int](2)
		ctx, cancel := context.WithCancel(t.Context())
		ready := []int{1, 2}
		require.NoError(t, o.Deliver(ctx, &ready))
		require.Empty(t, ready)
		o.Drain(func() []int { return []int{3, 4} })
		o.Drain(func() []int { t.Error("called twice"); return nil })
		for want := 1; want <= 4; want++ {
			got, err := o.Next(ctx)
			require.NoError(t, err)
			require.Equal(t, want, got)
		}
		_, err := o.Next(ctx)
		require.ErrorIs(t, err, io.EOF)

		o = NewOutput[int](1)
		cancel()
		ready = []int{1, 2}
		require.ErrorIs(t, o.Deliver(ctx, &ready), context.Canceled)
		o.Drain(func() []int { return []int{3, 4, 5} })
		o.Close() // ends the goroutine of Drain: the bubble would report it
	})
}

// Frames whose packets state no times follow at the frame rate.
func TestTimes(t *testing.T) {
	times := Times{Track: media.Track{Timescale: 90000, Format: media.Format{Rate: media.Rate{Num: 30000, Den: 1001}}}}
	require.Equal(t, []int64{0, 3003, 9000, 12003}, []int64{times.Of(media.NoTime), times.Of(media.NoTime), times.Of(9000), times.Of(media.NoTime)})
	unknown := Times{}
	require.Equal(t, []int64{5, 6}, []int64{unknown.Of(5), unknown.Of(media.NoTime)})
}

// Frames that no longer fit are given up, and every use has a number of its own.
func TestPool(t *testing.T) {
	var p Pool[int]
	_, first, found := p.Take(func(int) bool { return true })
	require.False(t, found)
	for _, f := range []int{10, 20, 31} {
		p.Put(f)
	}
	even := func(f int) bool { return f%2 == 0 }
	f, second, found := p.Take(even)
	require.True(t, found)
	require.Equal(t, 20, f)
	require.NotEqual(t, first, second)
	f, _, _ = p.Take(even)
	require.Equal(t, 10, f)
	_, _, found = p.Take(even)
	require.False(t, found, "31 was given up")
}
