package page

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/tally"
)

// segmentSeconds is the length of the segments of an adaptive film.
const segmentSeconds = 2

// quality is one quality of an adaptive film: a file with an initialisation segment and segments,
// each of which begins with a key frame.
type quality struct {
	Name     string       `json:"name"`
	Type     string       `json:"type"`
	Rate     float64      `json:"rate"`
	Bitrate  int64        `json:"bitrate"`
	Init     [2]int64     `json:"init"`     // offset and size in the file
	Segments [][3]float64 `json:"segments"` // offset, size, duration in seconds
}

// qualities makes the files of an adaptive film, one for each load.
func (p *Page) qualities(ctx context.Context, loads []load.Load, lasts time.Duration) (list []quality, films []*film, err error) {
	for _, l := range loads {
		p.mu.Lock()
		clip := p.clips[l.Format.String()]
		p.mu.Unlock()
		if clip == nil {
			return nil, films, errors.New(l.Title() + " was not prepared")
		}
		q, f, err := p.segmented(ctx, clip, lasts)
		if err != nil {
			return nil, films, err
		}
		films = append(films, f)
		q.Name, q.Bitrate, q.Rate = filepath.Base(f.path), l.Bitrate, f.track.Format.Rate.Hz()
		list = append(list, q)
	}
	return list, films, nil
}

// segmented writes a clip again and again in segments, until they last long enough.
func (p *Page) segmented(ctx context.Context, clip *film, lasts time.Duration) (q quality, f *film, err error) {
	made := *clip
	made.kind, made.made, made.path = registry.MP4.Name, true, filepath.Join(p.folder.Path, code(12))
	file, err := os.Create(made.path)
	if err != nil {
		return q, nil, err
	}
	defer func() {
		if err = errors.Join(err, file.Close()); err != nil {
			os.Remove(made.path)
		}
	}()
	var part bytes.Buffer
	var muxer media.Muxer
	offset, began, scale := int64(0), 0.0, 0.0
	cut := func(end float64) error { // writes what was collected as a segment
		if err := muxer.Close(); err != nil {
			return err
		}
		q.Segments = append(q.Segments, [3]float64{float64(offset), float64(part.Len()), end - began})
		n, err := part.WriteTo(file)
		offset, began = offset+n, end
		return err
	}
	track, seconds, err := eachRound(ctx, clip.path, clip.marks, lasts, func(t media.Track, pkt *media.Packet) error {
		if muxer == nil {
			if muxer, err = registry.MP4.ContinueFragmented(&part, []media.Track{t}); err != nil {
				return err
			}
			scale = float64(t.Timescale)
			q.Init = [2]int64{0, int64(part.Len())}
			n, err := part.WriteTo(file)
			offset = n
			if err != nil {
				return err
			}
		}
		if at := float64(pkt.PTS) / scale; pkt.Key && at-began >= segmentSeconds-0.01 {
			if err := cut(at); err != nil {
				return err
			}
		}
		return muxer.WritePacket(pkt)
	})
	if err != nil {
		return q, nil, err
	}
	made.track, made.seconds = track, seconds
	q.Type = made.contentType()
	return q, &made, cut(seconds)
}

// eachRound calls write for the packets of a clip of so many frames, again and again with times
// that go on, until they last long enough. It returns the track and the length in seconds.
func eachRound(ctx context.Context, path string, frames int, lasts time.Duration, write func(t media.Track, p *media.Packet) error) (t media.Track, seconds float64, err error) {
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

// adaptive returns which qualities were shown, from the changes that the page reported.
func (a *account) adaptive(steady, end float64) *tally.Adaptive {
	if len(a.levels) == 0 {
		return nil
	}
	r := &tally.Adaptive{Seconds: make([]float64, len(a.rates))}
	late := make([]float64, len(a.rates)) // in the second half of the steady window
	half := (steady + end) / 2
	for i, l := range a.levels {
		from, to := a.shownAt(l.media), end
		if i+1 < len(a.levels) {
			to = a.shownAt(a.levels[i+1].media)
		}
		if from >= end {
			break
		}
		r.Steps = append(r.Steps, tally.Step{AtS: max(0, from-a.first) / 1000, Quality: l.quality, Why: l.why})
		if i > 0 && from >= steady {
			r.Changes++
		}
		r.Seconds[l.quality] += max(0, min(to, end)-max(from, steady)) / 1000
		late[l.quality] += max(0, min(to, end)-max(from, half)) / 1000
	}
	for i := range late {
		if late[i] > late[r.Settled] {
			r.Settled = i
		}
	}
	return r
}

// shownAt returns when a place in the film was shown.
func (a *account) shownAt(media float64) float64 {
	for _, f := range a.frames {
		if f.Media >= media-0.001 {
			return f.Display
		}
	}
	for _, m := range a.ticks {
		if m.At >= media {
			return m.T
		}
	}
	if n := len(a.ticks); n > 0 {
		return a.ticks[n-1].T + 1e6 // not yet
	}
	return a.first
}

// level is a quality that a film has from a place on.
type level struct {
	media   float64
	quality int
	why     string
}

// framesTo returns how many frames the film has up to a place, where its rate changes with its
// quality.
func (a *account) framesTo(media float64) (n float64) {
	if len(a.levels) == 0 {
		return media * a.rate
	}
	for i, l := range a.levels {
		to := media
		if i+1 < len(a.levels) {
			to = min(media, a.levels[i+1].media)
		}
		if to > l.media {
			n += (to - l.media) * a.rates[l.quality]
		}
	}
	return n
}
