package hevc

import (
	"context"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/nal"
)

// decoder decodes pictures in Send and hands them out in Receive.
type decoder struct {
	stream
	times  framepool.Times
	out    *framepool.Output[*frame]
	state  state
	narrow *worker[byte]
	wide   *worker[uint16]
}

// NewDecoder returns a decoder. The track's Config is an HEVCDecoderConfigurationRecord (ISO/IEC
// 14496-15, 8.3.3.1), or empty for packets in the byte stream format of annex B.
func NewDecoder(t media.Track, threadCount int) (media.Decoder, error) {
	d := &decoder{times: framepool.Times{Track: t}, out: framepool.NewOutput[*frame](max(threadCount, 1) + 1)}
	d.decode = d.picture
	if len(t.Config) > 0 {
		if err := d.configure(t.Config); err != nil {
			return nil, media.At(err, t.ConfigOffset)
		}
	}
	return d, nil
}

// picture decodes the assembled picture.
func (d *decoder) picture(f *frame) {
	d.state.begin(f, d.layout)
	d.state.headers = d.headers
	if f.Planes[0].Wide != nil {
		if d.wide == nil {
			d.wide = &worker[uint16]{}
		}
		decodePicture(d.wide, &d.state, d.slices)
	} else {
		if d.narrow == nil {
			d.narrow = &worker[byte]{}
		}
		decodePicture(d.narrow, &d.state, d.slices)
	}
	f.Advance(framepool.WholeFrame, framepool.AllRows)
}

// decodePicture decodes slices and filters the picture.
func decodePicture[T sample](w *worker[T], st *state, slices []*slice) {
	w.begin(st)
	for _, sl := range slices {
		w.slice(sl)
		if w.failed {
			st.f.Damaged.Store(true)
		}
	}
	for _, a := range st.sliceAddr {
		if a < 0 {
			st.f.Damaged.Store(true)
		}
	}
	w.deblock()
	if w.sps.sao {
		w.sao()
	}
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	return media.At(d.send(ctx, p), p.Offset)
}

func (d *decoder) send(ctx context.Context, p *media.Packet) error {
	d.hidden = p.Hidden
	c := nal.NewCursor(p.Data, d.prefix)
	for unit := c.Next(); unit != nil; unit = c.Next() {
		if err := d.unit(unit, p.PTS); err != nil {
			return err
		}
	}
	d.finish()
	return d.out.Deliver(ctx, &d.ready)
}

func (d *decoder) Drain() {
	d.out.Drain(func() []*frame {
		d.finish()
		d.flush()
		return d.ready
	})
}

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	f, err := d.out.Next(ctx)
	if err != nil {
		return media.Frame{}, err
	}
	f.AwaitAll()
	return media.Frame{Picture: &f.Picture, PTS: d.times.Of(f.PTS), Damaged: f.Damaged.Load()}, nil
}

func (d *decoder) Close() { d.out.Close() }
