// Package clip makes clips: it draws a scene, encodes it at the ordered bitrate, and writes it
// to a file.
package clip

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/partial"
)

// Order states which clip to make.
type Order struct {
	Format    media.Format
	Seconds   float64
	Scene     string // one of scene.Names, "" for the first
	Seed      uint32 // of the random parts of the scene
	Container string // its file name extension; "" is mp4
	Coding    Coding
	Threads   int // 0: one
	// Progress is called from one goroutine at a time with the number of finished frames and
	// the total of those that are coded. It may be nil.
	Progress func(done, total int)
}

// Coding states how groups of pictures are coded. The zero value is what most films use.
type Coding struct {
	Preset     media.Preset
	KeyEvery   int // frames from one key frame to the next; 1: key frames only; 0: a second
	BFrames    int
	References int // 0: as the preset says
	Slices     int // in a picture, 0: one
	CAVLC      bool
}

// complete returns the order with defaults for what it leaves open.
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

// UsualSeconds is the length of the clips that routes make, and play again and again. A frame of one of 4 s takes a
// decoder as long: the instructions differ by 0.03 % in h264 720p25 4M, by 0.1 % in 1080p50 20M, and by 0.7 % in
// hevc 1080p25 6M.
const UsualSeconds = 2.

// MaxSeconds is the longest duration of a clip.
const MaxSeconds = 3600

// Frames returns the number of frames of the clip: at least one.
func (o Order) Frames() int {
	return max(1, int(math.Round(o.Seconds*o.Format.Rate.Hz())))
}

// Name returns the file name of the clip, which depends only on the order.
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

// leastPiece is the length in seconds of the shortest piece that a clip repeats.
const leastPiece = 4

// Piece returns the order of the piece that the clip repeats, and how often. The piece is whole groups of
// pictures and lasts at least leastPiece seconds, so that the load is the same as that of a clip that is
// coded as a whole. A clip that no such piece divides is its own piece.
func (o Order) Piece() (piece Order, times int) {
	frames, key := o.Frames(), o.complete().Coding.KeyEvery
	for times = int(o.Seconds / leastPiece); times > 1; times-- {
		if n := frames / times; n*times == frames && n%key == 0 {
			piece = o
			piece.Seconds, piece.Container = float64(n)/o.Format.Rate.Hz(), ""
			return piece, times
		}
	}
	return o, 1
}

// Round returns after how many frames the numbers that the clip's pictures carry begin again.
func (o Order) Round() int {
	piece, _ := o.Piece()
	return piece.Frames()
}

// Number returns the clip's number, 1 to 65535, which its pictures carry: a hash (FNV-1a) of the name of its
// piece, so that clips of a run differ in it, nearly always.
func (o Order) Number() int {
	piece, _ := o.Piece()
	h := fnv.New32a()
	h.Write([]byte(piece.Name()))
	return int(h.Sum32()%65535) + 1
}

// Clip makes the clip in folder dir, unless it is already there, and returns its path. The clip
// is recorded in the folder's manifest. It is written under a temporary name and renamed when
// complete. An error of type *RateError says that the bitrate cannot be reached.
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
	if _, err := ReadManifest(dir); err != nil { // a file that is not ours is not overwritten
		return "", err
	}
	path = filepath.Join(dir, o.Name())
	if Kept(dir, o) {
		if o.Progress != nil {
			o.Progress(o.Frames(), o.Frames())
		}
		return path, nil
	}
	began := time.Now()
	piece, times := o.Piece()
	if times > 1 {
		if _, err := Clip(ctx, dir, piece); err != nil {
			return "", err
		}
	}
	file, err := partial.Create(path)
	if err != nil {
		return "", err
	}
	defer file.Abort()
	var bits int64
	if times > 1 {
		bits, err = join(ctx, file.File, filepath.Join(dir, piece.Name()), o)
	} else {
		bits, err = write(ctx, file.File, o)
	}
	if err != nil {
		return "", err
	}
	e, err := o.entry(file.Name(), bits)
	if err != nil {
		return "", err
	}
	e.Took = time.Since(began).Seconds()
	if err := file.Commit(); err != nil {
		return "", err
	}
	return path, note(dir, e)
}

// Existing returns the order of the shortest clip in a folder that is like o and at least as long,
// or o itself if there is none; of a clip that repeats a piece that of the piece, for those who repeat it
// anyway.
func Existing(dir string, o Order) Order {
	m, err := ReadManifest(dir)
	if err != nil {
		return o
	}
	found := o
	for _, e := range m.Clips {
		longer := o
		if longer.Seconds = e.Seconds; e.File != longer.Name() || e.Seconds < o.Seconds || !Kept(dir, longer) {
			continue
		}
		if found.Seconds == o.Seconds && !Kept(dir, o) || longer.Seconds < found.Seconds {
			found = longer
		}
	}
	piece, _ := found.Piece()
	return piece
}

// Speed returns how many luma samples per second clips of a codec are made at on this computer:
// as those in a folder were, or else as a short one is that is made now and not kept. It is 0
// where that fails.
func Speed(ctx context.Context, dir, codec string) float64 {
	samples, took := 0., 0.
	if m, err := ReadManifest(dir); err == nil {
		for _, e := range m.Clips {
			words := strings.Fields(e.Load)
			if f, err := media.ParseFormat(words, []string{codec}); err == nil && e.Took > 0 && e.Piece == 0 {
				samples, took = samples+float64(e.Frames)*float64(f.Width)*float64(f.Height), took+e.Took
			}
		}
	}
	if took > 0 {
		return samples / took
	}
	folder, err := partial.NewFolder("vividstrain-speed-")
	if err != nil {
		return 0
	}
	defer folder.Close()
	o := Order{Format: media.Format{Codec: codec, Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Transfer: media.SDR, Bitrate: 1_600_000},
		Threads: runtime.NumCPU()}
	var began time.Time
	for _, seconds := range []float64{0.2, float64(min(runtime.NumCPU(), ahead))} { // to warm up, then a group for each thread
		o.Seconds, began = seconds, time.Now()
		if _, err := Clip(ctx, folder.Path, o); err != nil {
			return 0
		}
	}
	return float64(o.Frames()) * 640 * 360 / time.Since(began).Seconds()
}

// Kept reports whether the folder has the complete clip, as it would be made now.
func Kept(dir string, o Order) bool {
	e := At(filepath.Join(dir, o.Name()))
	return e != nil && e.Made == made(o.Format.Codec) && e.Frames == o.Frames() && e.Round() == o.Round()
}

// At returns the entry of a file in the manifest of its folder, nil where it is no clip or has another
// size.
func At(path string) *Entry {
	m, err := ReadManifest(filepath.Dir(path))
	if err != nil {
		return nil
	}
	e := m.Find(filepath.Base(path))
	if info, err := os.Stat(path); e == nil || err != nil || info.Size() != e.Bytes {
		return nil
	}
	return e
}

// encoder encodes a film.
type encoder interface {
	encode(ctx context.Context, out func(p *media.Packet) error) error
}

// write encodes the film into file and returns the bits of its video.
func write(ctx context.Context, file *os.File, o Order) (bits int64, err error) {
	o = o.complete()
	c, track, err := newEncoder(ctx, o)
	if err != nil {
		return 0, err
	}
	muxer, err := o.muxer(file, track)
	if err != nil {
		return 0, err
	}
	err = c.encode(ctx, func(p *media.Packet) error {
		bits += 8 * int64(len(p.Data))
		return muxer.WritePacket(p)
	})
	return bits, errors.Join(err, muxer.Close())
}

// muxer starts the clip's file.
func (o Order) muxer(file *os.File, track media.Track) (media.Muxer, error) {
	container, err := registry.ContainerFor(o.Name())
	if err != nil {
		return nil, err
	}
	track.Duration = time.Duration(o.Seconds * float64(time.Second))
	return registry.Write(container, file, []media.Track{track}, o.Frames())
}

// newEncoder returns the encoder for an order.
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
