package registry

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"

	"vividstrain/core/media"
)

// Rewrap copies the first video track of f and its audio, without re-encoding, into another
// container, in fragments if requested. Audio that the container cannot store is left out and
// named.
func Rewrap(ctx context.Context, f *File, c media.Container, w io.WriteSeeker, fragmented bool) (left []string, err error) {
	r := rewrap{file: f, target: c, place: map[int]int{}, filters: map[int]media.Filter{}}
	if err := r.choose(ctx); err != nil {
		return nil, err
	}
	muxer, err := r.create(w, fragmented)
	if err != nil {
		return nil, err
	}
	if err := f.Rewind(); err != nil {
		return nil, err
	}
	if err := r.copy(ctx, muxer); err != nil {
		return nil, err
	}
	return r.left, muxer.Close()
}

// rewrap is a copy in progress.
type rewrap struct {
	file    *File
	target  media.Container
	tracks  []media.Track
	place   map[int]int // from track of the file to track of the copy
	left    []string
	filters map[int]media.Filter // by track of the file
	video   int
	waiting []*media.Packet // for each track, the packet whose duration is not known yet
}

// choose selects the tracks and their filters.
func (r *rewrap) choose(ctx context.Context) (err error) {
	if r.video, err = r.file.Video(); err != nil {
		return err
	}
	t := r.file.Tracks()[r.video]
	if _, err := Codec(t.Codec); err != nil {
		return err
	}
	// Browsers record byte streams in containers of length-prefixed packets, without the
	// configuration record that says so.
	byteStream := r.file.byteStream || len(t.Config) == 0
	t, r.filters[r.video], err = FilterFor(t, byteStream, r.target.ByteStreams, func() (media.Packet, error) { return r.first(ctx, r.video) })
	if err != nil {
		return err
	}
	r.tracks = []media.Track{t}
	r.place[r.video] = 0
	for i, s := range r.file.Tracks() {
		if s.Kind != media.Audio {
			continue
		}
		t, filter, err := FilterFor(s, r.file.byteStream, r.target.ByteStreams, func() (media.Packet, error) { return r.first(ctx, i) })
		if err == nil {
			_, err = r.target.Create(Discard{}, []media.Track{t}, 0)
		}
		if err != nil {
			r.left = append(r.left, s.Codec)
			continue
		}
		r.place[i], r.filters[i] = len(r.tracks), filter
		r.tracks = append(r.tracks, t)
	}
	r.waiting = make([]*media.Packet, len(r.tracks))
	return nil
}

// FilterFor returns a track as it is in a copy, and the filter for its packets: nil where they
// stay unchanged. first is called for the track's first packet if it is needed.
func FilterFor(t media.Track, fromByteStream, toByteStream bool, first func() (media.Packet, error)) (media.Track, media.Filter, error) {
	codec := codecs.Named(t.Codec)
	switch {
	case codec == nil || codec.ToPackets == nil || toByteStream == fromByteStream:
		return t, nil, nil
	case toByteStream:
		filter, err := codec.ToByteStream(t)
		return t, filter, err
	}
	p, err := first()
	if err == nil && codec.NewParser != nil {
		t, err = described(t, codec, p.Data)
	}
	if err != nil {
		return t, nil, err
	}
	return codec.ToPackets(t, p.Data)
}

// first returns the first packet of a track.
func (r *rewrap) first(ctx context.Context, track int) (p media.Packet, err error) {
	if err := r.file.Rewind(); err != nil {
		return p, err
	}
	for {
		if err := errors.Join(ctx.Err(), r.file.ReadPacket(&p)); err != nil || p.Track == track {
			return p, err
		}
	}
}

// described adds to a track what the headers of its stream state.
func described(t media.Track, codec *media.Codec, first []byte) (media.Track, error) {
	parser := codec.NewParser()
	if err := errors.Join(media.At(parser.Configure(t.Config), t.ConfigOffset), parser.Packet(first)); err != nil {
		return t, err
	}
	info := parser.Info()
	rate := t.Format.Rate
	t.Format, t.Colour, t.HDR = info.Format, info.Colour, info.HDR
	if t.Format.Rate.Num == 0 {
		t.Format.Rate = rate
	}
	return t, nil
}

// Describe returns everything that a file's container and the headers of its stream state about
// its video, and rewinds the file.
func Describe(ctx context.Context, f *File) (t media.Track, err error) {
	r := rewrap{file: f}
	if r.video, err = f.Video(); err != nil {
		return t, err
	}
	t = f.Tracks()[r.video]
	codec, err := Codec(t.Codec)
	if err != nil {
		return t, err
	}
	p, err := r.first(ctx, r.video)
	if err != nil {
		return t, err
	}
	if codec.NewParser != nil {
		if t, err = described(t, &codec, p.Data); err != nil {
			return t, err
		}
	}
	if t.Format.Rate.Num == 0 && p.Duration > 0 {
		t.Format.Rate, _ = media.NewRate(t.Timescale, p.Duration)
	}
	if t.Format.Rate.Num == 0 {
		t.Format.Rate = media.Rate{Num: 25, Den: 1} // the default of raw streams
	}
	t.Format.Codec = t.Codec
	return t, f.Rewind()
}

// Limits on what is read of a file to find its mean frame rate.
const (
	rateFrames = 600
	rateBytes  = 64 << 20
)

// DescribeRate is like Describe, but gives a file of varying frame rate the common rate nearest
// to its mean. A stated rate is kept where frames come at that rate.
func DescribeRate(ctx context.Context, f *File) (t media.Track, err error) {
	if t, err = Describe(ctx, f); err != nil || t.Format.Interlaced {
		return t, err
	}
	video, err := f.Video()
	if err != nil {
		return t, err
	}
	var p media.Packet
	var first, last int64
	frames, size := 0, 0
	for frames < rateFrames && size < rateBytes {
		if err := f.ReadPacket(&p); err != nil {
			break // what was read is enough
		}
		size += len(p.Data)
		if p.Track != video || p.Hidden || p.PTS == media.NoTime {
			continue
		}
		if frames == 0 {
			first, last = p.PTS, p.PTS
		}
		frames, first, last = frames+1, min(first, p.PTS), max(last, p.PTS)
	}
	if frames > 2 && last > first && t.Timescale > 0 {
		mean := float64(frames-1) * float64(t.Timescale) / float64(last-first)
		if off := mean / t.Format.Rate.Hz(); (off < 0.9 || off > 1.1) && mean >= media.MinHz && mean <= media.MaxHz {
			t.Format.Rate = media.UsualRate(mean)
		}
	}
	return t, f.Rewind()
}

func (r *rewrap) create(w io.WriteSeeker, fragmented bool) (media.Muxer, error) {
	if fragmented {
		if r.target.CreateFragmented == nil {
			return nil, fmt.Errorf("%s files have no fragments", r.target.Name)
		}
		return r.target.CreateFragmented(w, r.tracks)
	}
	return r.target.Create(w, r.tracks, r.file.Tracks()[r.video].Packets)
}

// copy copies all packets. Each waits for the next one of its track, from which its duration
// follows.
func (r *rewrap) copy(ctx context.Context, m media.Muxer) error {
	for {
		p := new(media.Packet)
		err := r.file.ReadPacket(p)
		if errors.Is(err, io.EOF) {
			break
		}
		if err := errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		place, wanted := r.place[p.Track]
		if !wanted {
			continue
		}
		list := []*media.Packet{p}
		filter := r.filters[p.Track]
		if filter != nil {
			if list, err = filter(p); err != nil {
				return err
			}
		}
		for _, filtered := range list {
			q := *filtered
			q.Track = place
			if filter != nil {
				q.Data = bytes.Clone(q.Data) // it waits while the filter reuses its memory
			}
			if err := r.write(m, &q); err != nil {
				return err
			}
		}
	}
	for _, p := range r.waiting {
		if p == nil {
			continue
		}
		p.Duration = max(p.Duration, 1)
		if err := m.WritePacket(p); err != nil {
			return fmt.Errorf("the last packet: %w", err)
		}
	}
	return nil
}

// write writes the packet that waited on the track; its duration follows from p.
func (r *rewrap) write(m media.Muxer, p *media.Packet) error {
	before := r.waiting[p.Track]
	r.waiting[p.Track] = p
	if before == nil {
		return nil
	}
	before.Duration = p.DTS - before.DTS
	if before.Duration <= 0 || before.Duration > math.MaxInt32 {
		before.Duration = 1
	}
	p.Duration = max(p.Duration, before.Duration)
	return m.WritePacket(before)
}

// Discard is a WriteSeeker that discards everything.
type Discard struct{}

func (Discard) Write(p []byte) (int, error)             { return len(p), nil }
func (Discard) Seek(offset int64, _ int) (int64, error) { return offset, nil }
