package transcode

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/cputime"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/partial"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
	"vividstrain/core/tally"
)

// Job is a file to be converted into one or more copies at once.
type Job struct {
	File   string
	Order  Order
	Out    string        // file for the first copy; empty: it is not written
	Copies int           // at least 1
	Ahead  time.Duration // how far it may run ahead of a viewer; 0: as fast as possible
	// Progress is called with the duration that the slowest copy has reached, and the total, 0
	// if not known. It may be nil.
	Progress func(done, total time.Duration)
}

// Report is the result of a job.
type Report struct {
	In      media.Track  `json:"-"`
	Goal    media.Format `json:"-"` // of the result
	Took    time.Duration
	Media   time.Duration // of one copy
	Bytes   int64         // of one copy
	Speed   float64       // media seconds per second, of the slowest copy
	Stats   Stats         // of all copies
	CPU     time.Duration // of the whole process
	MemPeak int64         // growth in bytes, of all copies
	Buffers []tally.Buffer
	Left    []string // audio that was left out
}

// Run carries out the job.
func Run(ctx context.Context, job Job) (*Report, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	own := &linux.Group{}
	own.Watch(os.Getpid())
	report := &Report{}
	copies := make([]*copied, job.Copies)
	for i := range copies {
		c, err := openCopy(ctx, &job, i == 0)
		if err != nil {
			return nil, err
		}
		defer c.close()
		copies[i] = c
	}
	meter := newMeter(ctx, own)
	report.In, report.Goal = copies[0].in, copies[0].converter.out.Format
	report.Left = copies[0].left
	stop := copies[0].tell(&job, copies)
	began, before := time.Now(), cputime.Process()
	var wait sync.WaitGroup
	for _, c := range copies {
		wait.Go(func() {
			if c.err = c.run(ctx, &job); c.err != nil {
				cancel(c.err)
			}
			c.took = time.Since(began)
		})
	}
	wait.Wait()
	stop()
	report.Took, report.CPU = time.Since(began), cputime.Process()-before
	if m := meter.stop()[sense.GroupMem]; m.N > 0 {
		report.MemPeak = max(0, int64(m.Max-meter.before))
	}
	for _, c := range copies {
		if c.err != nil && (!errors.Is(c.err, context.Canceled) || ctx.Err() == nil) {
			return nil, fmt.Errorf("%s: %w", job.File, c.err)
		}
		report.add(c)
	}
	return report, context.Cause(ctx)
}

func (r *Report) add(c *copied) {
	s := c.converter.Stats()
	r.Stats.Frames += s.Frames
	r.Stats.Decode, r.Stats.Scale, r.Stats.Tone, r.Stats.Encode = r.Stats.Decode+s.Decode, r.Stats.Scale+s.Scale, r.Stats.Tone+s.Tone, r.Stats.Encode+s.Encode
	r.Media, r.Bytes = s.Media, c.bytes
	if speed := s.Media.Seconds() / c.took.Seconds(); r.Speed == 0 || speed < r.Speed {
		r.Speed = speed
	}
	if c.watched != nil {
		c.watched.Do(func(v *tally.Viewer, now time.Duration) {
			r.Buffers = append(r.Buffers, *v.Finish(now, 25).Buffer)
		})
	}
}

// copied is one copy in progress.
type copied struct {
	file      *registry.File
	in        media.Track
	converter *Converter
	watched   *Watched
	muxer     media.Muxer
	places    map[int]int // of tracks in what is written
	out       *partial.File
	left      []string
	bytes     int64
	took      time.Duration
	err       error
}

func openCopy(ctx context.Context, job *Job, first bool) (_ *copied, err error) {
	c := &copied{}
	if c.file, err = registry.Open(job.File); err != nil {
		return nil, err
	}
	fail := func(err error) (*copied, error) {
		c.file.Close()
		return nil, fmt.Errorf("%s: %w", job.File, err)
	}
	if c.in, err = registry.DescribeRate(ctx, c.file); err != nil {
		return fail(err)
	}
	if c.converter, err = New(c.file, c.in, job.Order); err != nil {
		return fail(err)
	}
	if job.Ahead > 0 {
		c.watched = NewWatched(tally.ViewerConfig{Start: tally.ViewerStart, Bound: job.Ahead,
			Spans: []tally.Span{{Kind: tally.Steady, From: 0, To: 100 * time.Hour}}})
	}
	if job.Out == "" || !first {
		return c, nil
	}
	if err := c.create(job.Out); err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

// close closes the files; an incomplete result is deleted.
func (c *copied) close() {
	c.file.Close()
	if c.out != nil {
		c.out.Abort()
	}
}

// create creates the result's file under a temporary name.
func (c *copied) create(path string) error {
	container, err := registry.ContainerFor(path)
	if err != nil {
		return err
	}
	tracks := c.converter.Tracks()
	c.places = map[int]int{0: 0}
	kept := tracks[:1:1]
	for i, t := range tracks[1:] {
		if _, err := container.Create(registry.Discard{}, []media.Track{t}, 0); err != nil {
			c.left = append(c.left, t.Codec)
			continue
		}
		c.places[i+1] = len(kept)
		kept = append(kept, t)
	}
	if c.out, err = partial.Create(path); err != nil {
		return err
	}
	c.muxer, err = registry.Write(container, c.out.File, kept, 0)
	return err
}

func (c *copied) run(ctx context.Context, job *Job) (err error) {
	tracks := c.converter.Tracks()
	if c.out != nil {
		defer func() {
			if err == nil {
				err = errors.Join(c.muxer.Close(), c.out.Commit())
			}
		}()
	}
	return c.converter.Run(ctx, func(p *media.Packet) error {
		if p.Track == 0 {
			c.bytes += int64(len(p.Data))
		}
		if place, kept := c.places[p.Track]; kept {
			q := *p
			q.Track = place
			if err := c.muxer.WritePacket(&q); err != nil {
				return err
			}
		}
		if c.watched == nil {
			return ctx.Err()
		}
		return c.watched.Take(ctx, tracks, p)
	})
}

// tell reports progress until it is stopped.
func (c *copied) tell(job *Job, copies []*copied) (stop func()) {
	if job.Progress == nil {
		return func() {}
	}
	total := c.in.Duration
	return clock.Real{}.Every(250*time.Millisecond, func(time.Time) {
		least := copies[0].converter.Stats().Media
		for _, c := range copies[1:] {
			least = min(least, c.converter.Stats().Media)
		}
		job.Progress(least, total)
	})
}

// meter measures what the process uses.
type meter struct {
	mu      sync.Mutex
	samples []sense.Sample
	sampler *sense.Sampler
	began   time.Time
	before  float64 // bytes in use then
}

func newMeter(ctx context.Context, own *linux.Group) *meter {
	debug.FreeOSMemory() // so that memory of the conversion before does not hide what this one takes
	m := &meter{began: time.Now()}
	sources := local.Local(own)
	for _, s := range sources {
		list, _ := s.Sample(ctx, m.began, nil) // what cannot be read now is not there later either
		for _, r := range list {
			if r.Quantity == sense.GroupMem {
				m.before = r.Value
			}
		}
	}
	m.sampler = sense.Start(ctx, clock.Real{}, 250*time.Millisecond, sources, func(s sense.Sample) {
		m.mu.Lock()
		m.samples = append(m.samples, s)
		m.mu.Unlock()
	})
	return m
}

func (m *meter) stop() sense.Use {
	m.sampler.Stop()
	return sense.Summarise(m.samples, m.began, time.Now().Add(time.Second))
}
