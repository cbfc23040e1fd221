package groups

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// coder is an encoder whose packets name the group and the frame, and say what the group started from.
type coder struct {
	set   media.EncoderSettings
	out   func(*media.Packet) error
	group media.Group
	n     int
}

func (c *coder) Track() (media.Track, error) { return media.Track{}, nil }
func (c *coder) Begin(g media.Group)         { c.group, c.n = g, 0 }
func (c *coder) Picture() *picture.Picture   { return nil }
func (c *coder) Flush() error                { return nil }
func (c *coder) Costs() media.Costs          { return media.Costs{} }

func (c *coder) Encode(_ *picture.Picture, pts int64) error {
	c.n++
	size := 100 // bytes: less than a frame's share, so that something is left over
	return c.out(&media.Packet{Data: append([]byte{byte(c.group.Number), byte(c.n), byte(int8(c.group.Carry / 100))}, make([]byte, size-3)...), PTS: pts, Key: c.n == 1})
}

// pipeline codes ten groups of four frames.
func pipeline(workers, ahead int) (p Pipeline, next func(context.Context) (*Group, error)) {
	p = Pipeline{Workers: workers, Ahead: ahead,
		Settings: media.EncoderSettings{Format: media.Format{Rate: media.Rate{Num: 25, Den: 1}, Bitrate: 25 * 1000}, KeyEvery: 4},
		Codec: media.Codec{NewEncoder: func(set media.EncoderSettings, out func(*media.Packet) error) (media.Encoder, error) {
			return &coder{set: set, out: out}, nil
		}}}
	n := 0
	return p, func(context.Context) (*Group, error) {
		if n == 10 {
			return nil, nil
		}
		first := int64(4 * n)
		g := &Group{Group: media.Group{Number: n, Frames: 4}, First: first}
		g.Encode = func(_ context.Context, _ int, e media.Encoder) error {
			for i := range int64(4) {
				if err := e.Encode(nil, first+i); err != nil {
					return err
				}
			}
			return nil
		}
		n++
		return g, nil
	}
}

// The packets come in order, and are the same however many threads there are.
func TestResultDoesNotDependOnThreads(t *testing.T) {
	run := func(workers int) (list []media.Packet) {
		p, next := pipeline(workers, 3)
		require.NoError(t, p.Run(t.Context(), next, func(packet *media.Packet) error {
			list = append(list, *packet)
			return nil
		}))
		return list
	}
	one := run(1)
	require.Len(t, one, 40)
	for i, packet := range one {
		require.EqualValues(t, i/4, packet.Data[0])
		require.EqualValues(t, i, packet.PTS)
		require.Equal(t, i%4 == 0, packet.Key)
		require.EqualValues(t, 1, packet.Duration)
	}
	require.Zero(t, int8(one[4*2].Data[2]), "nothing is known of the groups before yet")
	require.Positive(t, int8(one[4*3].Data[2]), "what the first left over")
	for _, workers := range []int{2, 3, 8} {
		require.Equal(t, one, run(workers), workers)
	}
}

// A check sees every group in order, whole, before its packets go out, and may replace them.
func TestGroupsAreChecked(t *testing.T) {
	p, next := pipeline(2, 2)
	var checked, out atomic.Int32
	p.Check = func(_ context.Context, g *Group) error {
		require.EqualValues(t, checked.Load(), g.Number)
		require.EqualValues(t, 4*checked.Add(1)-4, out.Load())
		require.Len(t, g.Packets, 4)
		require.EqualValues(t, 8*400, g.Spent)
		g.Packets[0].Data = []byte("replaced")
		return nil
	}
	require.NoError(t, p.Run(t.Context(), next, func(packet *media.Packet) error {
		if out.Add(1)%4 == 1 {
			require.Equal(t, "replaced", string(packet.Data))
		}
		return nil
	}))
	require.EqualValues(t, 40, out.Load())
}

// Whoever fails, everything ends with what went wrong.
func TestFailuresEndIt(t *testing.T) {
	broken := errors.New("the disk is full")
	p, next := pipeline(3, 3)
	require.ErrorIs(t, p.Run(t.Context(), next, func(*media.Packet) error { return broken }), broken)
	p, next = pipeline(3, 3)
	p.Check = func(context.Context, *Group) error { return broken }
	require.ErrorIs(t, p.Run(t.Context(), next, func(*media.Packet) error { return nil }), broken)
	p, next = pipeline(3, 3)
	require.ErrorIs(t, p.Run(t.Context(), func(ctx context.Context) (*Group, error) {
		g, err := next(ctx)
		if g != nil && g.Number == 5 {
			return nil, broken
		}
		return g, err
	}, func(*media.Packet) error { return nil }), broken)
	p, next = pipeline(3, 3)
	require.ErrorIs(t, p.Run(t.Context(), func(ctx context.Context) (*Group, error) {
		g, err := next(ctx)
		if g != nil {
			g.Encode = func(context.Context, int, media.Encoder) error { return broken }
		}
		return g, err
	}, func(*media.Packet) error { return nil }), broken)
	p, next = pipeline(3, 3)
	p.Codec.NewEncoder = func(media.EncoderSettings, func(*media.Packet) error) (media.Encoder, error) { return nil, broken }
	require.ErrorIs(t, p.Run(t.Context(), next, func(*media.Packet) error { return nil }), broken)
	p, next = pipeline(3, 3)
	ctx, cancel := context.WithCancel(t.Context())
	require.ErrorIs(t, p.Run(ctx, next, func(*media.Packet) error { cancel(); return nil }), context.Canceled)
}

// An encoder that gives more frames than it was asked for is found out.
func TestTooManyFrames(t *testing.T) {
	p, next := pipeline(1, 1)
	err := p.Run(t.Context(), func(ctx context.Context) (*Group, error) {
		g, err := next(ctx)
		if g != nil {
			g.Frames = 3
		}
		return g, err
	}, func(*media.Packet) error { return nil })
	require.ErrorContains(t, err, "more frames than it was to have")
}

func TestEncodeAlone(t *testing.T) {
	p, next := pipeline(1, 1)
	g, err := next(t.Context())
	require.NoError(t, err)
	require.NoError(t, EncodeAlone(t.Context(), p.Codec, p.Settings, g))
	require.Len(t, g.Packets, 4)
	require.EqualValues(t, 3200, g.Spent)
}
