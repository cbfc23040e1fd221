package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync/atomic"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
)

// conversion is one stream that is converted in real time for a virtual viewer.
type conversion struct {
	file      *registry.File
	converter *transcode.Converter
	viewer    tally.ViewerConfig
	hold      time.Duration
	hz        float64
	watched   atomic.Pointer[transcode.Watched] // set from the start
	account   tally.Tally
	began     time.Time
}

// endless is a file that starts again at its end.
type endless struct{ *registry.File }

func (e endless) ReadPacket(p *media.Packet) error {
	err := e.File.ReadPacket(p)
	if errors.Is(err, io.EOF) {
		if err = e.Rewind(); err == nil {
			err = e.File.ReadPacket(p)
		}
	}
	return err
}

// openConversion prepares to convert stream i of a plan. The streams share the threads.
func (e *Engine) openConversion(ctx context.Context, file *registry.File, l load.Load, p route.Plan, i int) (*conversion, error) {
	track, err := registry.DescribeRate(ctx, file)
	if err != nil {
		return nil, err
	}
	threads := max(1, min(e.options.Threads, runtime.NumCPU()/p.Streams()))
	spans := p.Spans(i)
	c := &conversion{file: file, hz: track.Format.Rate.Hz(), hold: spans[len(spans)-1].To,
		viewer: tally.ViewerConfig{Start: tally.ViewerStart, Bound: e.options.Ahead, Spans: spans}}
	if l.Goal.Rate.Num > 0 {
		c.hz = l.Goal.Rate.Hz()
	}
	if seeker, can := file.Demuxer.(media.Seeker); can && p.Spread && i > 0 {
		video, _ := file.Video() // Describe has found it
		place := track.Duration.Seconds() * float64(i) / float64(p.Streams())
		if err := seeker.SeekTo(video, int64(place*float64(track.Timescale))); err != nil {
			return nil, err
		}
	}
	c.converter, err = transcode.New(endless{file}, track, transcode.Order{Goal: *l.Goal, Decoders: threads, Encoders: threads})
	return c, err
}

func (c *conversion) close() { _ = c.file.Close() } // the file was only read

func (c *conversion) play(ctx context.Context) error {
	defer c.close()
	ctx, cancel := context.WithCancel(ctx)
	watched := transcode.NewWatched(c.viewer)
	c.watched.Store(watched)
	over := make(chan error, 1)
	go func() {
		over <- c.converter.Run(ctx, func(p *media.Packet) error { return watched.Take(ctx, c.converter.Tracks(), p) })
	}()
	err := c.watch(ctx, watched, over)
	cancel()
	if err == nil {
		<-over // the error is the cancellation
	}
	watched.Do(func(v *tally.Viewer, now time.Duration) {
		if began, yes := v.Started(); yes {
			c.began = watched.Began().Add(began)
			now = min(now, began+c.hold)
		}
		c.account = v.Finish(now, c.hz)
	})
	return err
}

// watch waits until the viewer has watched long enough.
func (c *conversion) watch(ctx context.Context, watched *transcode.Watched, over <-chan error) error {
	for {
		var left time.Duration
		watched.Do(func(v *tally.Viewer, now time.Duration) {
			began, yes := v.Started()
			if left = began + c.hold - now; !yes {
				left = startTimeout - now
			}
		})
		if left <= 0 {
			return nil
		}
		sleep, stop := context.WithTimeout(ctx, min(left, 100*time.Millisecond))
		select {
		case err := <-over:
			stop()
			return fmt.Errorf("the conversion ended: %w", err)
		case <-sleep.Done():
			stop()
			if err := ctx.Err(); err != nil {
				<-over
				return err
			}
		}
	}
}

func (c *conversion) live(l *route.Live) {
	if w := c.watched.Load(); w != nil {
		w.Do(func(v *tally.Viewer, _ time.Duration) { l.Viewers = append(l.Viewers, v.Standing()) })
	}
}

func (c *conversion) result() (tally.Tally, time.Time) { return c.account, c.began }
