package clip

import (
	"context"
	"fmt"
	"math"
	"path/filepath"
	"sync"
	"time"
)

// Forecast says what making clips in a folder costs. It finds out once for each codec how fast this
// computer is. The zero value is ready.
type Forecast struct {
	mu     sync.Mutex
	speeds map[string]float64 // luma samples per second, by codec
}

// Cost returns about how long making a clip takes and how large it is; nothing for one that is
// kept already, and where the speed is not known.
func (f *Forecast) Cost(ctx context.Context, dir string, o Order) (takes time.Duration, bytes int64) {
	piece, times := o.Piece()
	if Kept(dir, piece) || Kept(dir, o) {
		return 0, 0
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	speed, known := f.speeds[o.Format.Codec]
	if !known {
		if f.speeds == nil {
			f.speeds = map[string]float64{}
		}
		speed = Speed(ctx, dir, o.Format.Codec)
		f.speeds[o.Format.Codec] = speed
	}
	if speed <= 0 {
		return 0, 0
	}
	samples := float64(piece.Frames()) * float64(o.Format.Width) * float64(o.Format.Height)
	return time.Duration(samples / speed * float64(time.Second)), int64(float64(o.Format.Bitrate) * (o.Seconds + float64(min(times-1, 1))*piece.Seconds) / 8)
}

// Made returns the manifest's entry of a clip that is as it was made.
func Made(ctx context.Context, path string) (*Entry, error) {
	m, err := ReadManifest(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	entry := m.Find(filepath.Base(path))
	if entry == nil {
		return nil, fmt.Errorf("%s is not in the manifest of its folder", path)
	}
	if err := entry.Unchanged(ctx, filepath.Dir(path)); err != nil {
		return nil, fmt.Errorf("%s: %w; delete it, and it is made again", path, err)
	}
	return entry, nil
}

// nearBitrate is how far the bitrate of a clip may be from what was ordered without being
// reported.
const nearBitrate = 0.03

// OffRate returns the clip's bitrate if it is not as ordered, else 0.
func (e *Entry) OffRate(ordered int64) int64 {
	if off := float64(e.VideoBps)/float64(ordered) - 1; e.VideoBps > 0 && math.Abs(off) > nearBitrate {
		return e.VideoBps
	}
	return 0
}
