package clip

import (
	"context"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/scene"
)

// batch is how many frames are coded between two decisions about quality. It does not depend on
// the number of threads, so that the bytes do not either.
const batch = 8

// stillFilm codes the frames of a clip independently, in batches, on several threads.
type stillFilm struct {
	order   Order
	workers []*worker
	rate    *steering
	coded   [batch][]byte
}

// worker is the state of one thread.
type worker struct {
	drawer  *scene.Drawer
	picture *picture.Picture
	encoder media.StillEncoder
}

// newStillFilm codes a few frames to learn what they cost.
func newStillFilm(ctx context.Context, o Order, codec media.Codec) (*stillFilm, error) {
	f := &stillFilm{order: o}
	stage, err := scene.New(scene.Order{Scene: o.Scene, Format: o.Format, Seed: o.Seed, Noise: scene.NoiseFor(o.Format), Clip: o.Number()})
	if err != nil {
		return nil, err
	}
	for range min(max(o.Threads, 1), batch) {
		f.workers = append(f.workers, &worker{
			drawer:  stage.NewDrawer(),
			encoder: codec.NewStillEncoder(),
			picture: picture.New(o.Format.Width, o.Format.Height, o.Format.Depth, o.Format.Chroma),
		})
	}
	f.rate, err = newSteering(o.Format, codec, func(quality int) (float64, error) { return f.probe(ctx, quality) })
	return f, err
}

// probe returns the mean size in bytes of a few frames at one quality.
func (f *stillFilm) probe(ctx context.Context, quality int) (float64, error) {
	total := f.order.Frames()
	tried := min(total, 2)
	sum := 0
	err := f.batch(ctx, tried, func(i int) (int, int) { return i * total / tried, quality })
	for i := range tried {
		sum += len(f.coded[i])
	}
	return float64(sum) / float64(tried), err
}

// encode codes all frames and passes each to out, in order.
func (f *stillFilm) encode(ctx context.Context, out func(p *media.Packet) error) error {
	total := f.order.Frames()
	for first := 0; first < total; first += batch {
		n := min(batch, total-first)
		qualities := f.rate.plan(n)
		if err := f.batch(ctx, n, func(i int) (int, int) { return first + i, qualities[i] }); err != nil {
			return err
		}
		for i := range n {
			f.rate.coded(qualities[i], len(f.coded[i]))
			ticks := int64(f.order.Format.Rate.Den)
			at := int64(first+i) * ticks
			if err := out(&media.Packet{Data: f.coded[i], PTS: at, DTS: at, Duration: ticks, Key: true}); err != nil {
				return err
			}
		}
		if f.order.Progress != nil {
			f.order.Progress(first+n, total)
		}
	}
	return nil
}

// batch codes n frames into f.coded; what returns the number and the quality of each.
func (f *stillFilm) batch(ctx context.Context, n int, what func(i int) (frame, quality int)) error {
	var (
		wait sync.WaitGroup
		next = make(chan int, n)
		errs [batch]error
	)
	for i := range n {
		next <- i
	}
	close(next)
	for _, w := range f.workers {
		wait.Go(func() {
			for i := range next {
				if errs[i] = ctx.Err(); errs[i] != nil {
					return
				}
				frame, quality := what(i)
				w.drawer.Draw(w.picture, frame)
				f.coded[i] = w.encoder.Encode(f.coded[i][:0], w.picture, quality)
			}
		})
	}
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
