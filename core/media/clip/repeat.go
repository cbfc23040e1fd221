package clip

import (
	"context"
	"errors"
	"io"
	"math"
	"os"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Repeat writes the pictures of a clip of so many frames to w, again and again, until they last
// long enough. It returns the track and the length in seconds.
func Repeat(ctx context.Context, w io.WriteSeeker, path string, frames int, lasts time.Duration) (t media.Track, seconds float64, err error) {
	t, seconds, _, err = muxRounds(ctx, path, frames, lasts, func(t media.Track) (media.Muxer, error) {
		rounds := roundsOf(float64(frames)/t.Format.Rate.Hz(), lasts)
		return registry.Write(registry.MP4, w, []media.Track{t}, rounds*frames)
	})
	return t, seconds, err
}

// join writes a clip that repeats the piece at a path, and returns the bits of its video.
func join(ctx context.Context, file *os.File, path string, o Order) (bits int64, err error) {
	// Half a frame less than all, so that rounding cannot ask for another round.
	lasts := time.Duration((float64(o.Frames()) - 0.5) / o.Format.Rate.Hz() * float64(time.Second))
	_, _, bits, err = muxRounds(ctx, path, o.Round(), lasts, func(t media.Track) (media.Muxer, error) { return o.muxer(file, t) })
	return bits, err
}

// muxRounds writes the packets of EachRound to a muxer that is created for their track. It also returns their
// bits.
func muxRounds(ctx context.Context, path string, frames int, lasts time.Duration, create func(t media.Track) (media.Muxer, error)) (t media.Track, seconds float64, bits int64, err error) {
	var muxer media.Muxer
	t, seconds, err = EachRound(ctx, path, frames, lasts, func(t media.Track, p *media.Packet) (err error) {
		if muxer == nil {
			if muxer, err = create(t); err != nil {
				return err
			}
		}
		bits += 8 * int64(len(p.Data))
		return muxer.WritePacket(p)
	})
	if err != nil {
		return t, 0, 0, err
	}
	return t, seconds, bits, muxer.Close()
}

// roundsOf returns how often a clip of so many seconds is needed to last long enough.
func roundsOf(clip float64, lasts time.Duration) int {
	return max(1, int(math.Ceil(lasts.Seconds()/clip)))
}

// EachRound calls write for the packets of a clip of so many frames, again and again with times
// that go on, until they last long enough. It returns the track and the length in seconds.
func EachRound(ctx context.Context, path string, frames int, lasts time.Duration, write func(t media.Track, p *media.Packet) error) (t media.Track, seconds float64, err error) {
	source, err := registry.Open(path)
	if err != nil {
		return t, 0, err
	}
	defer source.Close()
	video, err := source.Video()
	if err != nil {
		return t, 0, err
	}
	t = source.Tracks()[video]
	d, err := registry.DescribeRate(ctx, source)
	if err != nil {
		return t, 0, err
	}
	t.Format = d.Format
	rate := t.Format.Rate
	length, one := int64(frames)*int64(rate.Den)*t.Timescale/int64(rate.Num), float64(frames)/rate.Hz()
	rounds := roundsOf(one, lasts)
	var p media.Packet
	for round := range rounds {
		if err := source.Rewind(); err != nil {
			return t, 0, err
		}
		for {
			err := source.ReadPacket(&p)
			if errors.Is(err, io.EOF) {
				break
			}
			if err = errors.Join(err, ctx.Err()); err != nil {
				return t, 0, err
			}
			if p.Track != video {
				continue
			}
			q := p
			q.Track, q.PTS, q.DTS = 0, p.PTS+int64(round)*length, p.DTS+int64(round)*length
			if err := write(t, &q); err != nil {
				return t, 0, err
			}
		}
	}
	return t, float64(rounds) * one, nil
}
