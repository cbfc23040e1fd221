// Package clip makes clips: it draws a scene, codes it so that the bitrate
// that was ordered comes out, and writes it into a file.
package clip

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/partial"
)

// Order says which clip to make.
type Order struct {
	Format    media.Format
	Seconds   float64
	Scene     string // one of scene.Names, "" for the first
	Seed      uint32 // of what is random in the scene
	Container string // its file name extension; "" is mp4
	Coding    Coding
	Threads   int // 0: one
	// Progress is called from one goroutine at a time with the number of
	// frames done, of so many. It may be nil.
	Progress func(done, total int)
}

// Coding says how groups of pictures are coded. The zero value is what most films are like.
type Coding struct {
	Preset     media.Preset
	KeyEvery   int // frames from one key frame to the next, 1: key frames alone; 0: a second
	BFrames    int
	References int // 0: as the preset has it
	Slices     int // in a picture, 0: one
	CAVLC      bool
}

// complete fills in what an order leaves open.
func (o Order) complete() Order {
	if o.Coding.KeyEvery == 0 {
		o.Coding.KeyEvery = max(1, int(o.Format.Rate.Hz()+0.5))
	}
	if o.Scene == "" {
		o.Scene = scene.Names()[0]
	}
	if o.Container == "" {
		o.Container = "mp4"
	}
	return o
}

// MaxSeconds is the longest clip that is made.
const MaxSeconds = 3600

// Frames is how many frames the clip has: at least one.
func (o Order) Frames() int {
	return max(1, int(math.Round(o.Seconds*o.Format.Rate.Hz())))
}

// Name is the file name of the clip, which follows from the order.
func (o Order) Name() string {
	name := fmt.Sprintf("%s-%gs", o.Format.Word(), o.Seconds)
	for _, part := range []struct {
		differs bool
		text    string
	}{
		{o.Scene != "" && o.Scene != scene.Names()[0], "-" + o.Scene},
		{o.Seed != 0, fmt.Sprintf("-seed%d", o.Seed)},
		{o.Coding.Preset == media.Good, "-good"},
		{o.Coding.KeyEvery == 1, "-intra"},
		{o.Coding.KeyEvery > 1, fmt.Sprintf("-key%d", o.Coding.KeyEvery)},
		{o.Coding.BFrames > 0, fmt.Sprintf("-b%d", o.Coding.BFrames)},
		{o.Coding.References > 0, fmt.Sprintf("-ref%d", o.Coding.References)},
		{o.Coding.Slices > 1, fmt.Sprintf("-slices%d", o.Coding.Slices)},
		{o.Coding.CAVLC, "-cavlc"},
	} {
		if part.differs {
			name += part.text
		}
	}
	return name + "." + cmp.Or(o.Container, "mp4")
}

// Clip makes the clip in folder dir, unless a whole one is there already, and
// returns its path. What it is goes into the folder's manifest. It is written under a temporary name and renamed when
// whole. An error of type *RateError says that the bitrate cannot be reached.
func Clip(ctx context.Context, dir string, o Order) (path string, err error) {
	if err := registry.CanEncode(o.Format); err != nil {
		return "", err
	}
	if o.Seconds <= 0 || o.Seconds > MaxSeconds {
		return "", fmt.Errorf("a clip lasts more than 0 and at most %d seconds, not %g", MaxSeconds, o.Seconds)
	}
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return "", err
	}
	if _, err := ReadManifest(dir); err != nil { // what is not ours is not written over
		return "", err
	}
	path = filepath.Join(dir, o.Name())
	if Kept(dir, o) {
		if o.Progress != nil {
			o.Progress(o.Frames(), o.Frames())
		}
		return path, nil
	}
	file, err := partial.Create(path)
	if err != nil {
		return "", err
	}
	defer file.Abort()
	bits, err := write(ctx, file.File, o)
	if err != nil {
		return "", err
	}
	e, err := o.entry(file.Name(), bits)
	if err != nil {
		return "", err
	}
	if err := file.Commit(); err != nil {
		return "", err
	}
	return path, note(dir, e)
}

// Kept tells whether the folder has the clip whole, made as it would be now.
func Kept(dir string, o Order) bool {
	m, err := ReadManifest(dir)
	if err != nil {
		return false
	}
	e := m.Find(o.Name())
	if e == nil || e.Made != made(o.Format.Codec) || e.Frames != o.Frames() {
		return false
	}
	info, err := os.Stat(filepath.Join(dir, e.File))
	return err == nil && info.Size() == e.Bytes
}

// encoder makes the packets of a film.
type encoder interface {
	encode(ctx context.Context, out func(p *media.Packet) error) error
}

// write makes the film, writes it to file, and counts the bits of its video.
func write(ctx context.Context, file *os.File, o Order) (bits int64, err error) {
	o = o.complete()
	container, err := registry.ContainerFor(o.Name())
	if err != nil {
		return 0, err
	}
	c, track, err := newEncoder(ctx, o)
	if err != nil {
		return 0, err
	}
	track.Duration = time.Duration(o.Seconds * float64(time.Second))
	muxer, err := registry.Write(container, file, []media.Track{track}, o.Frames())
	if err != nil {
		return 0, err
	}
	err = c.encode(ctx, func(p *media.Packet) error {
		bits += 8 * int64(len(p.Data))
		return muxer.WritePacket(p)
	})
	return bits, errors.Join(err, muxer.Close())
}

// newEncoder prepares to encode what is ordered.
func newEncoder(ctx context.Context, o Order) (encoder, media.Track, error) {
	codec, err := registry.Encoder(o.Format.Codec)
	if err != nil {
		return nil, media.Track{}, err
	}
	if codec.NewEncoder != nil {
		g, err := newGroupFilm(o, codec)
		if err != nil {
			return nil, media.Track{}, err
		}
		return g, g.track, nil
	}
	f, err := newStillFilm(ctx, o, codec)
	return f, media.Track{Codec: o.Format.Codec, Timescale: int64(o.Format.Rate.Num), Format: o.Format}, err
}
