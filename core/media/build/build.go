// Package build makes clips: it draws a scene, codes it so that the bitrate
// that was ordered comes out, and writes it into a file.
package build

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/formats"
	"vividstrain/core/media/mp4"
)

// Order says which clip to make.
type Order struct {
	Format  media.Format
	Seconds float64
	Threads int // 0: one
	// Progress is called from one goroutine at a time with the number of
	// frames done, of so many. It may be nil.
	Progress func(done, total int)
}

// MaxSeconds is the longest clip that is made.
const MaxSeconds = 3600

// Frames is how many frames the clip has: at least one.
func (o Order) Frames() int {
	return max(1, int(math.Round(o.Seconds*o.Format.Rate.Hz())))
}

// Name is the file name of the clip, which follows from the order.
func (o Order) Name() string {
	line := load.Load{Format: o.Format, Streams: 1}.String()
	line = strings.NewReplacer(" ", "-", ":", "").Replace(line)
	return fmt.Sprintf("%s-%gs.mp4", line, o.Seconds)
}

// Clip makes the clip in folder dir, unless a whole one is there already, and
// returns its path. It is written under a temporary name and renamed when
// whole. An error of type *RateError says that the bitrate cannot be reached.
func Clip(ctx context.Context, dir string, o Order) (path string, err error) {
	if err := formats.Carries(o.Format); err != nil {
		return "", err
	}
	if o.Seconds <= 0 || o.Seconds > MaxSeconds {
		return "", fmt.Errorf("a clip lasts more than 0 and at most %d seconds, not %g", MaxSeconds, o.Seconds)
	}
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return "", err
	}
	path = filepath.Join(dir, o.Name())
	if whole(path, o.Frames()) {
		if o.Progress != nil {
			o.Progress(o.Frames(), o.Frames())
		}
		return path, nil
	}
	// The number of the process keeps two runs that make the same clip apart.
	part := filepath.Join(dir, fmt.Sprintf(".%s.%d.part", o.Name(), os.Getpid()))
	temporary, err := os.Create(part)
	if err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			temporary.Close()
			os.Remove(part)
		}
	}()
	if err := write(ctx, temporary, o); err != nil {
		return "", err
	}
	if err := errors.Join(temporary.Sync(), temporary.Close()); err != nil {
		return "", err
	}
	return path, os.Rename(part, path)
}

// whole tells whether there is a readable file with so many frames at path.
func whole(path string, frames int) bool {
	f, err := formats.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	video, err := f.Video()
	return err == nil && f.Tracks()[video].Packets == frames
}

// write makes the film and writes it to file.
func write(ctx context.Context, file *os.File, o Order) error {
	film, err := newFilm(ctx, o)
	if err != nil {
		return err
	}
	rate := o.Format.Rate
	muxer, err := mp4.Container.Create(file, []media.Track{{
		Codec: o.Format.Codec, Timescale: int64(rate.Num), Format: o.Format,
		Duration: time.Duration(o.Seconds * float64(time.Second)),
	}}, o.Frames())
	if err != nil {
		return err
	}
	at := int64(0)
	err = film.code(ctx, func(data []byte) error {
		p := media.Packet{Data: data, PTS: at, DTS: at, Duration: int64(rate.Den), Key: true}
		at += p.Duration
		return muxer.WritePacket(&p)
	})
	if err != nil {
		return err
	}
	return muxer.Close()
}
