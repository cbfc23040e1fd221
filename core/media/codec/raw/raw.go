// Package raw is the codec of uncompressed video: the planes Y, Cb, Cr in turn, 8 bits per
// sample, or 16 bits with the low byte first.
package raw

import (
	"context"
	"io"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Codec describes the format.
var Codec = media.Codec{Name: media.Raw, IntraOnly: true, NewDecoder: newDecoder}

type decoder struct {
	format  media.Format
	pool    picture.Pool
	frames  chan media.Frame
	drained sync.Once
}

func newDecoder(t media.Track, _ int) (media.Decoder, error) {
	return &decoder{format: t.Format, frames: make(chan media.Frame, 1)}, nil
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	if p.Hidden {
		return nil
	}
	if int64(len(p.Data)) != d.format.FrameSize() {
		return &media.FormatError{Format: media.Raw, Offset: p.Offset, What: "a picture of another size than the track's"}
	}
	f := media.Frame{Picture: d.pool.Get(d.format.Width, d.format.Height, d.format.Depth, d.format.Chroma), PTS: p.PTS}
	rest := p.Data
	for i := range f.Planes {
		plane := &f.Planes[i]
		rest = rest[copy(plane.Pix, rest):]
		for k := range plane.Wide {
			plane.Wide[k] = uint16(rest[2*k]) | uint16(rest[2*k+1])<<8
		}
		rest = rest[2*len(plane.Wide):]
	}
	select {
	case d.frames <- f:
		return nil
	case <-ctx.Done():
		f.Release()
		return ctx.Err()
	}
}

func (d *decoder) Drain() { d.drained.Do(func() { close(d.frames) }) }

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	select {
	case f, open := <-d.frames:
		if !open {
			return media.Frame{}, io.EOF
		}
		return f, nil
	case <-ctx.Done():
		return media.Frame{}, ctx.Err()
	}
}

func (d *decoder) Close() {}
