package transcode

import (
	"context"
	"errors"
	"io"

	"vividstrain/core/cputime"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// farther is the longest gap between pictures in seconds; after a longer one, pictures continue
// without a gap.
const farther = 5

// preparer converts decoded pictures to those to be encoded: their size, depth and times.
type preparer struct {
	*Converter
	period  float64 // seconds from one frame of the source to the next
	step    float64 // of the result
	offset  float64 // what to add to times of the source
	last    media.Frame
	at      float64                 // time of last in the result
	next    int64                   // number of the next frame to be made
	group   chan<- *picture.Picture // of the current group, nil before the first
	scalers map[picture.Rows]*picture.Scaler
	shape   picture.Shape // input of the scalers
	middle  *picture.Picture
	tone    *picture.ToneMapper
}

// prepare handles the decoder's pictures.
func (c *Converter) prepare(ctx context.Context) error {
	p := &preparer{Converter: c, period: 1 / c.in.Format.Rate.Hz(), step: 1 / c.out.Format.Rate.Hz()}
	if l := light(c.in); l != nil {
		peak := 0.0
		if c.in.HDR != nil {
			peak = float64(c.in.HDR.MaxLuminance) / 10000
		}
		p.tone = picture.NewToneMapper(*l, peak)
	}
	defer close(c.ready)
	defer func() {
		if p.last.Picture != nil {
			p.last.Release()
		}
		if p.group != nil {
			close(p.group)
		}
	}()
	for {
		f, err := c.decoder.Receive(ctx)
		if errors.Is(err, io.EOF) {
			return p.show(ctx, p.at+p.period)
		}
		if err != nil {
			return err
		}
		if err := p.take(ctx, f); err != nil {
			f.Release()
			return err
		}
	}
}

// take handles the next picture: the previous one is shown up to its time.
func (p *preparer) take(ctx context.Context, f media.Frame) error {
	at := float64(f.PTS)/float64(p.in.Timescale) + p.offset
	if p.last.Picture == nil && at < p.order.From-p.period/2 {
		f.Release()
		return nil
	}
	if p.last.Picture == nil {
		p.mu.Lock()
		p.begins = at
		p.mu.Unlock()
		p.offset -= at
		at = 0
	} else {
		if at <= p.at || at > p.at+farther {
			p.offset += p.at + p.period - at
			at = p.at + p.period
		}
		if err := p.show(ctx, at); err != nil {
			return err
		}
		p.last.Release()
	}
	p.last, p.at = f, at
	return nil
}

// show makes the frames that show the last picture, up to a time, with a tolerance of a quarter
// of a frame; the newest picture is used.
func (p *preparer) show(ctx context.Context, until float64) error {
	if p.last.Picture == nil {
		return nil
	}
	slack := min(p.period, p.step) / 4
	for ; float64(p.next)*p.step+slack < until; p.next++ {
		rows := picture.AllRows
		if p.in.Format.Interlaced {
			rows = picture.TopField
			if p.step < 0.75*p.period && float64(p.next)*p.step+slack >= p.at+p.period/2 {
				rows = picture.BottomField
			}
		}
		if err := p.hand(ctx, p.make(rows)); err != nil {
			return err
		}
	}
	return nil
}

// make converts a picture to the goal's form.
func (p *preparer) make(rows picture.Rows) *picture.Picture {
	src := p.last.Picture
	f := p.out.Format
	shape := picture.Shape{Width: src.Width, Height: src.Height, Depth: src.Depth, Chroma: src.Chroma}
	to := picture.Shape{Width: f.Width, Height: f.Height, Depth: f.Depth, Chroma: f.Chroma}
	if p.tone != nil {
		to.Depth = 10
	}
	if p.scalers == nil || p.shape != shape {
		p.scalers, p.shape = map[picture.Rows]*picture.Scaler{}, shape
	}
	s := p.scalers[rows]
	if s == nil {
		s = picture.NewScaler(shape, to, rows)
		p.scalers[rows] = s
	}
	dst := p.pool.Get(f.Width, f.Height, f.Depth, f.Chroma)
	before := cputime.Thread()
	if p.tone == nil {
		s.Scale(dst, src)
		grey(dst, src.Chroma)
		p.spend(scaling, before)
		return dst
	}
	if p.middle == nil {
		p.middle = picture.New(to.Width, to.Height, to.Depth, to.Chroma)
	}
	s.Scale(p.middle, src)
	before = p.spend(scaling, before)
	p.tone.Map(dst, p.middle)
	grey(dst, src.Chroma)
	p.spend(mapping, before)
	return dst
}

// grey makes the chroma of a picture grey if its source has none.
func grey(p *picture.Picture, source picture.Chroma) {
	if source != picture.C400 {
		return
	}
	for i := 1; i < 3; i++ {
		for k := range p.Planes[i].Pix {
			p.Planes[i].Pix[k] = 128
		}
	}
}

// hand passes a picture to its group.
func (p *preparer) hand(ctx context.Context, made *picture.Picture) error {
	if p.next%int64(p.out.KeyEvery) == 0 {
		if p.group != nil {
			close(p.group)
			p.group = nil
		}
		g, pictures := p.newGroup(p.next)
		select {
		case p.ready <- g:
		case <-ctx.Done():
			return ctx.Err()
		}
		p.group = pictures
	}
	select {
	case p.group <- made:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
