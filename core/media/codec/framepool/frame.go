// Package framepool manages the decoded pictures of decoders and encoders: frames that are
// reused, that several goroutines hold, and whose rows become final one after another, so that
// pictures can be decoded in parallel with their references.
package framepool

import (
	"math"
	"sync"
	"sync/atomic"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
)

// Fields is a set of fields of a frame, one bit for each.
type Fields uint8

// One field, or both. Codecs without field pictures use only WholeFrame.
const (
	TopField    Fields = 1
	BottomField Fields = 2
	WholeFrame  Fields = 3
)

// Opposite returns the other field.
func (s Fields) Opposite() Fields { return s ^ 3 }

// AllRows is the progress of a field that is complete.
const AllRows = math.MaxInt32 / 2

// Layout is how the samples of a frame are stored, and which of them are visible.
type Layout struct {
	CodedWidth, CodedHeight int // luma samples, in whole blocks of the codec
	Width, Height           int // visible size
	CropLeft, CropTop       int // luma samples before the visible part
	Depth, ChromaDepth      int // bits per sample
	Chroma                  picture.Chroma
}

// Wide reports whether samples take two bytes: if one plane needs it, all have it.
func (l *Layout) Wide() bool { return max(l.Depth, l.ChromaDepth) > 8 }

// sameStorage reports whether frames of both layouts have equal planes.
func (l *Layout) sameStorage(o *Layout) bool {
	return l.CodedWidth == o.CodedWidth && l.CodedHeight == o.CodedHeight && l.Depth == o.Depth &&
		l.ChromaDepth == o.ChromaDepth && l.Chroma == o.Chroma
}

// Frame is a decoded frame. Its users hold it; when all have dropped it, it returns to its pool.
// A codec's own frames embed it.
type Frame struct {
	Picture picture.Picture  // the planes, cropped to the visible part
	Planes  [3]picture.Plane // all coded samples
	ID      int32            // identifies the frame within its decoder
	PTS     int64
	Hidden  bool        // not to be output
	Shown   Fields      // fields that were coded, valid on output
	Damaged atomic.Bool // part of it was concealed

	layout   Layout
	holders  atomic.Int32
	released func()
	mu       sync.Mutex
	grown    sync.Cond       // rows reached wanted
	complete sync.Cond       // rows reached AllRows
	wanted   int32           // the lowest number of rows that someone waits for
	rows     [2]atomic.Int32 // rows of the top and the bottom field that are final
}

// Hold prevents reuse of the frame until Drop.
func (f *Frame) Hold() { f.holders.Add(1) }

// Drop undoes a Hold.
func (f *Frame) Drop() {
	if f.holders.Add(-1) == 0 && f.released != nil {
		f.released()
	}
}

// Holders returns how many hold the frame.
func (f *Frame) Holders() int { return int(f.holders.Load()) }

// Advance reports that the first n rows of the fields s are final.
func (f *Frame) Advance(s Fields, n int32) {
	f.mu.Lock()
	for i := range f.rows {
		if s>>i&1 != 0 {
			f.rows[i].Store(n)
		}
	}
	wake := n >= f.wanted
	if wake {
		f.wanted = nobody
	}
	f.mu.Unlock()
	if wake {
		f.grown.Broadcast()
	}
	if n == AllRows {
		f.complete.Broadcast()
	}
}

// nobody waits for that many rows.
const nobody = math.MaxInt32

// lead is how many more rows of a field a decoder waits for once it has to wait, so that it does not have to
// again for each row of blocks: waking it takes as long as decoding several blocks.
const lead = 16

// Await waits until row y of the fields s is final; for whole frames, y counts the rows of both.
func (f *Frame) Await(s Fields, y int32) {
	if s == WholeFrame {
		y >>= 1
	}
	for i := range f.rows {
		if s>>i&1 == 0 || f.rows[i].Load() > y {
			continue
		}
		rows := min(y+1+lead, AllRows)
		f.mu.Lock()
		for f.rows[i].Load() < rows {
			if rows == AllRows {
				f.complete.Wait()
				continue
			}
			f.wanted = min(f.wanted, rows)
			f.grown.Wait()
		}
		f.mu.Unlock()
	}
}

// AwaitAll waits until the whole frame is final. If one field was never coded, the rows of the
// other replace it.
func (f *Frame) AwaitAll() {
	f.Await(WholeFrame, 2*AllRows-1)
	if f.Shown != WholeFrame {
		f.repeatRows()
	}
}

func (f *Frame) repeatRows() {
	from, to := 0, 1
	if f.Shown == BottomField {
		from, to = 1, 0
	}
	for i := range f.Planes {
		p := &f.Planes[i]
		for y := 0; p.Stride > 0 && y+1 < (max(len(p.Pix), len(p.Wide))-motion.RowPadding)/p.Stride; y += 2 {
			a, b := (y+from)*p.Stride, (y+to)*p.Stride
			if p.Wide != nil {
				copy(p.Wide[b:][:p.Stride], p.Wide[a:])
			} else {
				copy(p.Pix[b:][:p.Stride], p.Pix[a:])
			}
		}
	}
}

// Fill sets all samples to mid-grey.
func (f *Frame) Fill() {
	for i := range f.Planes {
		p := &f.Planes[i]
		motion.FillBlock(p.Pix, 0, len(p.Pix), min(len(p.Pix), 1), 1<<7)
		motion.FillBlock(p.Wide, 0, len(p.Wide), min(len(p.Wide), 1), 1<<(f.Picture.PlaneDepth(i)-1))
	}
}

// Init allocates the samples of a layout. released is called when the last holder drops the
// frame; it may be nil.
func (f *Frame) Init(l Layout, released func()) {
	f.layout, f.released = l, released
	f.InitEmpty()
	f.Picture.Depth, f.Picture.ChromaDepth, f.Picture.Chroma = l.Depth, l.ChromaDepth, l.Chroma
	for i := range f.Planes {
		w, h := l.Chroma.PlaneSize(i, l.CodedWidth, l.CodedHeight)
		if w == 0 {
			continue
		}
		f.Planes[i].Stride = w
		if l.Wide() {
			f.Planes[i].Wide = make([]uint16, w*h+motion.RowPadding)
		} else {
			f.Planes[i].Pix = make([]byte, w*h+motion.RowPadding)
		}
	}
	f.Picture.OnRelease(func(*picture.Picture) { f.Drop() })
	f.Crop(l)
}

// InitEmpty initialises a frame without samples, for parsers of headers.
func (f *Frame) InitEmpty() {
	f.grown.L, f.complete.L, f.wanted = &f.mu, &f.mu, nobody
}

// Fits reports whether the frame can hold pictures of a layout.
func (f *Frame) Fits(l Layout) bool { return f.layout.sameStorage(&l) }

// Begin resets the frame for a new use. The caller holds it.
func (f *Frame) Begin(id int32) {
	f.ID, f.PTS, f.Hidden = id, media.NoTime, false
	f.rows[0].Store(0)
	f.rows[1].Store(0)
	f.Damaged.Store(false)
	f.holders.Store(1)
}

// Crop sets Picture to the visible part of the planes.
func (f *Frame) Crop(l Layout) {
	f.Picture.Width, f.Picture.Height = l.Width, l.Height
	for i := range f.Picture.Planes {
		x, y := l.Chroma.PlaneSize(i, l.CropLeft, l.CropTop)
		plane := f.Planes[i]
		if plane.Wide != nil {
			plane.Wide = plane.Wide[y*plane.Stride+x:]
		} else if plane.Pix != nil {
			plane.Pix = plane.Pix[y*plane.Stride+x:]
		}
		f.Picture.Planes[i] = plane
	}
}
