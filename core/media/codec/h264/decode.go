package h264

import (
	"context"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/threads"
)

// decoder reads headers in Send, decodes pictures on threads of its own, and hands frames out in
// Receive.
type decoder struct {
	stream
	times framepool.Times
	work  *threads.Pool[*pictureTask]
	out   *framepool.Output[*frame]
}

// NewDecoder starts a decoder with threadCount threads (at least one). The track's Config is an
// AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1), or empty for packets in the byte
// stream format of annex B.
func NewDecoder(t media.Track, threadCount int) (media.Decoder, error) {
	threadCount = max(threadCount, 1)
	d := &decoder{times: framepool.Times{Track: t}, out: framepool.NewOutput[*frame](threadCount + 1)}
	d.init()
	if len(t.Config) > 0 {
		if err := d.configure(t.Config); err != nil {
			return nil, media.At(err, t.ConfigOffset)
		}
	}
	jobs := make([]*pictureTask, 2*threadCount+1)
	for i := range jobs {
		jobs[i] = &pictureTask{shared: threadCount > 1}
	}
	team := threads.NewTeam(threadCount)
	d.work = threads.Start(threadCount, jobs, func() func(*pictureTask) {
		w := newWorker(team)
		return func(j *pictureTask) {
			w.run(j)
			j.reset()
			d.work.Release(j)
		}
	})
	d.acquire = d.work.Acquire
	d.submit = func(_ context.Context, j *pictureTask) error {
		d.work.Submit(j)
		return nil
	}
	return d, nil
}

// Busy is the processor time that the decoder's threads have used.
func (d *decoder) Busy() time.Duration { return d.work.Busy() }

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	return media.At(d.send(ctx, p), p.Offset)
}

func (d *decoder) send(ctx context.Context, p *media.Packet) error {
	d.hidden = p.Hidden
	c := nal.NewCursor(p.Data, d.prefix)
	for unit := c.Next(); unit != nil; unit = c.Next() {
		if err := d.unit(ctx, unit, p.PTS); err != nil {
			return err
		}
	}
	if err := d.dispatch(ctx); err != nil {
		return err
	}
	return d.out.Deliver(ctx, &d.ready)
}

func (d *decoder) Drain() {
	d.out.Drain(func() []*frame {
		d.end()
		return d.ready
	})
}

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	f, err := d.out.Next(ctx)
	for err == nil && f.Hidden {
		f.Drop()
		f, err = d.out.Next(ctx)
	}
	if err != nil {
		return media.Frame{}, err
	}
	f.AwaitAll()
	return media.Frame{Picture: &f.Picture, PTS: d.times.Of(f.PTS), Damaged: f.Damaged.Load()}, nil
}

func (d *decoder) Close() {
	d.out.Close()
	d.work.Close()
}
