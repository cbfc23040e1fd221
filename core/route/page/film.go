package page

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
)

// film is a file that pages fetch.
type film struct {
	path    string
	kind    string // container
	made    bool   // it is ours, to be removed
	track   media.Track
	seconds float64
	sum     string // SHA-256 of the clip, "" of a user's file
	bps     int64  // bitrate of a clip that is not as ordered, else 0
	marks   int    // the marks of its pictures begin again after so many frames; 0: it has none
}

// clipSeconds is the usual length of clips that are made; films of them are as long as the rung.
const clipSeconds = 2.

// order returns the order for the clip of a load: one that exists already may be longer.
func (p *Page) order(l load.Load) clip.Order {
	return clip.Existing(p.options.Clips, clip.Order{Format: l.Format, Seconds: cmp.Or(p.options.ClipSeconds, clipSeconds), Threads: runtime.NumCPU()})
}

// prepareClip makes a load's clip unless it is there, and checks that it is as it was made.
func (p *Page) prepareClip(ctx context.Context, l load.Load, progress func(done, total int)) error {
	order := p.order(l)
	order.Progress = progress
	path, err := clip.Clip(ctx, p.options.Clips, order)
	if err != nil {
		return err
	}
	entry, err := clip.Made(ctx, path)
	if err != nil {
		return err
	}
	f := &film{path: path, marks: order.Frames(), bps: entry.OffRate(order.Format.Bitrate), sum: entry.SHA256}
	p.mu.Lock()
	p.clips[l.Format.String()] = f
	p.mu.Unlock()
	return nil
}

// filmFor returns a film of a load that lasts at least so long: the clip again and again in one
// file, so that nothing loops in the player; or the user's file, which must be long enough.
func (p *Page) filmFor(ctx context.Context, l load.Load, lasts time.Duration) (*film, error) {
	if l.File != "" {
		return fileFilm(ctx, l.File, lasts)
	}
	p.mu.Lock()
	f := p.clips[l.Format.String()]
	p.mu.Unlock()
	if f == nil {
		return nil, fmt.Errorf("%s was not prepared", l.Title())
	}
	made := *f
	made.kind = registry.MP4.Name
	made.path, made.made = filepath.Join(p.folder.Path, code(12)+".mp4"), true
	file, err := os.Create(made.path)
	if err != nil {
		return nil, err
	}
	made.track, made.seconds, err = repeated(ctx, file, f.path, f.marks, lasts)
	if err := errors.Join(err, file.Close()); err != nil {
		os.Remove(made.path)
		return nil, err
	}
	return &made, nil
}

// contentType returns the media type of a film with the codec of its video (RFC 6381).
func (f *film) contentType() string {
	kind := cmp.Or(map[string]string{"mkv": "video/webm", "ts": "video/mp2t"}[f.kind], "video/mp4")
	if codec := registry.CodecString(f.track); codec != "" {
		kind += `; codecs="` + codec + `"`
	}
	return kind
}

// close removes a film that was made.
func (f *film) close() {
	if f.made {
		os.Remove(f.path)
	}
}

// fileFilm returns the film of a user's file.
func fileFilm(ctx context.Context, path string, lasts time.Duration) (*film, error) {
	file, err := registry.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	track, err := registry.DescribeRate(ctx, file)
	if err != nil {
		return nil, err
	}
	if track.Duration < lasts {
		return nil, &route.UnfitError{Unfit: route.TooShort, Err: fmt.Errorf("the film lasts %.1f s and would be over before the rung, which needs %.1f s; --hold %.0fs is short enough",
			track.Duration.Seconds(), lasts.Seconds(), math.Floor((track.Duration - lasts).Seconds()))}
	}
	return &film{path: path, kind: file.Container, track: track, seconds: track.Duration.Seconds()}, nil
}

// repeated writes the pictures of a clip of so many frames to w, again and again, until they last
// long enough. It returns the track and the length in seconds.
func repeated(ctx context.Context, w io.WriteSeeker, path string, frames int, lasts time.Duration) (t media.Track, seconds float64, err error) {
	var muxer media.Muxer
	t, seconds, err = eachRound(ctx, path, frames, lasts, func(t media.Track, p *media.Packet) (err error) {
		if muxer == nil {
			rounds := roundsOf(float64(frames)/t.Format.Rate.Hz(), lasts)
			if muxer, err = registry.Write(registry.MP4, w, []media.Track{t}, rounds*frames); err != nil {
				return err
			}
		}
		return muxer.WritePacket(p)
	})
	if err != nil {
		return t, 0, err
	}
	return t, seconds, muxer.Close()
}

// roundsOf returns how often a clip of so many seconds is needed to last long enough.
func roundsOf(clip float64, lasts time.Duration) int {
	return max(1, int(math.Ceil(lasts.Seconds()/clip)))
}
