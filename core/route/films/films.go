// Package films keeps clips, and makes films of them that last for a whole rung, so that nothing
// loops in the player.
package films

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/partial"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// Margin is how much longer a film is than what is played of it.
const Margin = 3 * time.Second

// Film is a file to be played.
type Film struct {
	Path    string
	Kind    string // container
	Made    bool   // it is ours, to be removed
	Track   media.Track
	Seconds float64
	Sum     string // SHA-256 of the clip, "" of a user's file
	BPS     int64  // bitrate of a clip that is not as ordered, else 0
	Marks   int    // the marks of its pictures begin again after so many frames; 0: it has none
	Number  int    // of the clip, in the marks of its pictures
}

// ContentType returns the media type of a film with the codec of its video (RFC 6381).
func (f *Film) ContentType() string {
	kind := cmp.Or(map[string]string{"mkv": "video/webm", "ts": "video/mp2t"}[f.Kind], "video/mp4")
	if codec := registry.CodecString(f.Track); codec != "" {
		kind += `; codecs="` + codec + `"`
	}
	return kind
}

// Shows returns what the marks of the film's pictures say; nil: they have none.
func (f *Film) Shows() *tally.Marks {
	if f.Marks == 0 {
		return nil
	}
	return &tally.Marks{Clip: f.Number, Round: f.Marks}
}

// Close removes a film that was made.
func (f *Film) Close() {
	if f.Made {
		os.Remove(f.Path)
	}
}

// Maker makes films. It is safe for several goroutines.
type Maker struct {
	Folder *partial.Folder // of films that are made

	dir      string // of clips
	seconds  float64
	forecast clip.Forecast

	mu    sync.Mutex
	clips map[string]*Film // by format
}

// New returns a maker that keeps clips of so many seconds, 0: the usual ones, in a folder.
func New(clips string, seconds float64) (*Maker, error) {
	folder, err := partial.NewFolder("vividstrain-films-")
	if err != nil {
		return nil, err
	}
	return &Maker{Folder: folder, dir: clips, seconds: cmp.Or(seconds, clip.UsualSeconds), clips: map[string]*Film{}}, nil
}

// Close removes all films that were made.
func (m *Maker) Close() error { return m.Folder.Close() }

// Seconds returns the length of the clips that are made.
func (m *Maker) Seconds() float64 { return m.seconds }

// Check returns an error unless films of a load can be made.
func Check(l load.Load) error {
	if l.File != "" {
		return nil
	}
	if err := registry.CanEncode(l.Format); err != nil {
		return fmt.Errorf("load line %q: %w", l, err)
	}
	return nil
}

// order returns the order for the clip of a load: one that exists already may be longer.
func (m *Maker) order(l load.Load) clip.Order {
	return clip.Existing(m.dir, clip.Order{Format: l.Format, Seconds: m.seconds, Threads: runtime.NumCPU()})
}

// Cost returns about how long making the clip of a load takes, and how large it is.
func (m *Maker) Cost(ctx context.Context, l load.Load) (takes time.Duration, bytes int64) {
	if l.File != "" || Check(l) != nil {
		return 0, 0
	}
	return m.forecast.Cost(ctx, m.dir, m.order(l))
}

// Prepare makes a load's clip unless it is there, and checks that it is as it was made; or it looks
// whether the user's file is there.
func (m *Maker) Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error {
	if l.File != "" {
		_, err := os.Stat(l.File)
		return err
	}
	order := m.order(l)
	order.Progress = progress
	path, err := clip.Clip(ctx, m.dir, order)
	if err != nil {
		return err
	}
	entry, err := clip.Made(ctx, path)
	if err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.clips[l.Format.String()] = &Film{Path: path, Marks: order.Round(), Number: order.Number(), BPS: entry.OffRate(order.Format.Bitrate), Sum: entry.SHA256}
	return nil
}

// Clip returns the clip that was prepared for a load.
func (m *Maker) Clip(l load.Load) (*Film, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	f := m.clips[l.Format.String()]
	if f == nil {
		return nil, fmt.Errorf("%s was not prepared", l.Title())
	}
	return f, nil
}

// Film returns a film of a load that lasts at least so long: the clip again and again in one file,
// or the user's file, which must be long enough.
func (m *Maker) Film(ctx context.Context, l load.Load, lasts time.Duration) (*Film, error) {
	if l.File != "" {
		return fileFilm(ctx, l.File, lasts)
	}
	f, err := m.Clip(l)
	if err != nil {
		return nil, err
	}
	made := *f
	made.Kind, made.Made = registry.MP4.Name, true
	file, err := os.CreateTemp(m.Folder.Path, "film-*.mp4")
	if err != nil {
		return nil, err
	}
	made.Path = filepath.Clean(file.Name())
	made.Track, made.Seconds, err = clip.Repeat(ctx, file, f.Path, f.Marks, lasts)
	if err := errors.Join(err, file.Close()); err != nil {
		os.Remove(made.Path)
		return nil, err
	}
	return &made, nil
}

// fileFilm returns the film of a user's file.
func fileFilm(ctx context.Context, path string, lasts time.Duration) (*Film, error) {
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
	return &Film{Path: path, Kind: file.Container, Track: track, Seconds: track.Duration.Seconds()}, nil
}
