package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/tally"
)

// film is a file to play: a clip made here, or a user's file.
type film struct {
	path     string
	timeline tally.Timeline
	frames   int
	// place returns the number, in display order, of the frame with a time in the track's units.
	place func(pts int64) int64
	// number reads the number that a picture shows; nil where pictures have none.
	number func(*picture.Picture) (int, bool)
	sum    string // SHA-256 of a clip
	marks  *tally.Marks
	bps    int64 // bitrate of a clip if it is not as ordered, else 0

	size     int64 // of the file when it was read
	modified time.Time
}

// stamp records by what the file is recognised.
func (f *film) stamp(info os.FileInfo) { f.size, f.modified = info.Size(), info.ModTime() }

// same reports whether the file is the one that was read.
func (f *film) same(info os.FileInfo) bool {
	return info.Size() == f.size && info.ModTime().Equal(f.modified)
}

// source is what a player plays.
type source struct {
	packets   media.Demuxer
	video     int // index of the track
	decoder   media.Decoder
	closeFile func() error
	frames    int // in the file
	place     func(pts int64) int64
	number    func(*picture.Picture) (int, bool)
	// droppable reports of a packet whether others can be decoded without it; nil where that is
	// true of all.
	droppable func(data []byte) bool
}

// clipFilm returns the film of a clip that was made here and is unchanged.
func clipFilm(ctx context.Context, path string, order clip.Order) (*film, error) {
	entry, err := clip.Made(ctx, path)
	if err != nil {
		return nil, err
	}
	rate := order.Format.Rate
	f := &film{path: path, frames: order.Frames(), number: scene.ReadNumber,
		timeline: tally.Constant{Num: rate.Num, Den: rate.Den}}
	f.bps, f.sum, f.marks = entry.OffRate(order.Format.Bitrate), entry.SHA256, &tally.Marks{Clip: order.Number(), Round: order.Round()}
	scale, err := timescale(path)
	ticks := scale * int64(rate.Den)
	f.place = func(pts int64) int64 { return pts * int64(rate.Num) / ticks }
	return f, err
}

// timescale returns the units per second of a file's video.
func timescale(path string) (int64, error) {
	file, err := registry.Open(path)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	video, err := file.Video()
	if err != nil {
		return 0, fmt.Errorf("%s: %w", path, err)
	}
	return file.Tracks()[video].Timescale, nil
}

// scanFile reads the times of all frames of a file.
func scanFile(ctx context.Context, path string) (*film, error) {
	file, err := registry.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	f, err := scan(ctx, file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	f.path = path
	return f, nil
}

// maxFrames is the largest number of frames in a file: ten hours at 120 frames per second.
const maxFrames = 10 * 3600 * 120

func scan(ctx context.Context, file *registry.File) (*film, error) {
	video, err := file.Video()
	if err != nil {
		return nil, err
	}
	track := file.Tracks()[video]
	codec, err := registry.Codec(track.Codec)
	if err != nil {
		return nil, err
	}
	begins := func(p *media.Packet) (bool, error) { return true, nil }
	if codec.NewParser != nil {
		begins = frameCounter(codec.NewParser(), track)
	}
	var times []int64
	var last, lasts int64
	var p media.Packet
	for {
		err := file.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		if err := errors.Join(err, ctx.Err()); err != nil {
			return nil, err
		}
		if p.Track != video {
			continue
		}
		new, err := begins(&p)
		if err != nil {
			return nil, err
		}
		if !new || p.Hidden || p.PTS == media.NoTime {
			continue
		}
		if times = append(times, p.PTS); len(times) > maxFrames {
			return nil, fmt.Errorf("it has more than %d frames", maxFrames)
		}
		if p.PTS >= last {
			last, lasts = p.PTS, p.Duration
		}
	}
	return listed(times, lasts, track.Timescale)
}

// frameCounter returns a function that reports of packets whether a frame begins with them: a
// second field may be a packet of its own.
func frameCounter(parser media.UnitParser, t media.Track) func(p *media.Packet) (bool, error) {
	err := media.At(parser.Configure(t.Config), t.ConfigOffset)
	frames := 0
	return func(p *media.Packet) (bool, error) {
		if err == nil {
			err = parser.Packet(p.Data)
		}
		parser.Shown()
		before := frames
		frames = parser.Frames()
		return frames > before, err
	}
}

// listed makes a film of frames with these times, in any order; the last frame has the given
// duration, 0 if not known.
func listed(times []int64, lasts, scale int64) (*film, error) {
	if len(times) < 2 {
		return nil, errors.New("it has fewer than two frames with times")
	}
	slices.Sort(times)
	n := int64(len(times))
	if lasts <= 0 {
		lasts = (times[n-1] - times[0]) / (n - 1)
	}
	seconds := func(units int64) time.Duration {
		return time.Duration(math.Round(float64(units) / float64(scale) * 1e9))
	}
	line := tally.Listed{Length: seconds(times[n-1] + lasts - times[0])}
	for _, t := range times {
		line.Times = append(line.Times, seconds(t-times[0]))
	}
	if line.Length <= 0 || line.Length > 1000*time.Hour {
		return nil, errors.New("the times of its frames make no sense")
	}
	return &film{timeline: line, frames: len(times), place: func(pts int64) int64 {
		i, _ := slices.BinarySearch(times, pts)
		return int64(min(i, len(times)-1))
	}}, nil
}

// source opens the film's video in a file, with a decoder.
func (f *film) source(file *registry.File, threads int) (s source, err error) {
	if s.video, err = file.Video(); err != nil {
		return s, err
	}
	track := file.Tracks()[s.video]
	codec, err := registry.Codec(track.Codec)
	if err != nil {
		return s, err
	}
	if s.decoder, err = codec.NewDecoder(track, threads); err != nil {
		return s, err
	}
	s.packets, s.closeFile, s.frames, s.place, s.number = file, file.Close, f.frames, f.place, f.number
	if codec.Disposable != nil {
		s.droppable = codec.Disposable(track)
	}
	return s, nil
}

func (s *source) close() {
	s.decoder.Close()
	_ = s.closeFile() // it was only read
}
