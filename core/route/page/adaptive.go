package page

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/route/films"
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
func (p *Page) qualities(ctx context.Context, loads []load.Load, lasts time.Duration) (list []quality, films []*films.Film, err error) {
	for _, l := range loads {
		clip, err := p.maker.Clip(l)
		if err != nil {
			return nil, films, err
		}
		q, f, err := p.segmented(ctx, clip, lasts)
		if err != nil {
			return nil, films, err
		}
		films = append(films, f)
		q.Name, q.Bitrate, q.Rate = filepath.Base(f.Path), l.Bitrate, f.Track.Format.Rate.Hz()
		list = append(list, q)
	}
	return list, films, nil
}

// segmented writes a clip again and again in segments, until they last long enough.
func (p *Page) segmented(ctx context.Context, source *films.Film, lasts time.Duration) (q quality, f *films.Film, err error) {
	made := *source
	made.Kind, made.Made, made.Path = registry.MP4.Name, true, filepath.Join(p.maker.Folder.Path, code(12))
	file, err := os.Create(made.Path)
	if err != nil {
		return q, nil, err
	}
	defer func() {
		if err = errors.Join(err, file.Close()); err != nil {
			os.Remove(made.Path)
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
	track, seconds, err := clip.EachRound(ctx, source.Path, source.Marks, lasts, func(t media.Track, pkt *media.Packet) error {
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
	made.Track, made.Seconds = track, seconds
	q.Type = made.ContentType()
	return q, &made, cut(seconds)
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
