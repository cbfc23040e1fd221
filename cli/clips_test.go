package cli

import (
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/clip"
)

// The time left follows from the samples drawn so far, and clips that are kept
// do not count.
func TestTimeLeft(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		small := media.Format{Codec: "h264", Width: 100, Height: 100, Rate: media.Rate{Num: 10, Den: 1}, Depth: 8}
		large := small
		large.Width, large.Height = 200, 200
		e := newEstimate(t.TempDir(), []clip.Order{{Format: small, Seconds: 1}, {Format: large, Seconds: 1}})
		time.Sleep(time.Second)
		require.Empty(t, e.frame(small), "too early to tell")
		for range 9 {
			time.Sleep(time.Second)
			e.frame(small)
		}
		require.Equal(t, ", 26s left", e.frame(large), "14 of 50 parts took 10 s")
	})
}

// A live line that is set again and again never waits for itself.
func TestProgressDoesNotBlock(t *testing.T) {
	terminal, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	defer terminal.Close()
	p := &progress{out: terminal, live: true}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for start := time.Now(); time.Since(start) < 1500*time.Millisecond; { // several refreshes
			for i := range 100 {
				p.set("checking", i, 100, "frame by frame")
			}
		}
		p.stop()
	}()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("it hangs")
	}
}
