// Package framepool keeps the decoded pictures of decoders and encoders: frames that are used
// again, that several goroutines hold, and whose rows become final one after the other, so that
// pictures which refer to each other are decoded at the same time.
package framepool

import (
	"math"
	"sync"
	"sync/atomic"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
)

// Fields says which fields of a frame are meant: a bit for each.
type Fields uint8

// A field, or both. Codecs without field pictures use WholeFrame alone.
const (
	TopField    Fields = 1
	BottomField Fields = 2
	WholeFrame  Fields = 3
)

// Opposite is the other field.
func (s Fields) Opposite() Fields { return s ^ 3 }

// AllRows is the progress of a field that is complete.
const AllRows = math.MaxInt32 / 2

// Layout is how the samples of a frame are stored and which of them are shown.
type Layout struct {
	CodedWidth, CodedHeight int // luma samples, in whole blocks of the codec
	Width, Height           int // of what is shown
	CropLeft, CropTop       int // luma samples before it
	Depth, ChromaDepth      int // bits a sample
	Chroma                  picture.Chroma
}

// Wide tells whether samples take two bytes: those of all planes do if those of one must.
func (l *Layout) Wide() bool { return max(l.Depth, l.ChromaDepth) > 8 }

// sameStorage tells whether frames of both layouts are stored alike.
func (l *Layout) sameStorage(o *Layout) bool {
	return l.CodedWidth == o.CodedWidth && l.CodedHeight == o.CodedHeight && l.Depth == o.Depth &&
		l.ChromaDepth == o.ChromaDepth && l.Chroma == o.Chroma
}

// Frame is a decoded frame. Whoever uses it holds it; when all have dropped it, it returns to
// its pool. A codec's own frames embed it.
type Frame struct {
	Picture picture.Picture  // what is shown: the planes, cropped
	Planes  [3]picture.Plane // all that is coded
	ID      int32            // tells the frames of a decoder apart
	PTS     int64
	Hidden  bool        // is not to be shown
	Shown   Fields      // fields that are there when it is handed out
	Damaged atomic.Bool // a part of it was concealed

	layout   Layout
	holders  atomic.Int32
	released func()
	mu       sync.Mutex
	changed  sync.Cond
	rows     [2]atomic.Int32 // rows of the top and the bottom field that are final
}

// Hold keeps the frame from being used again until Drop.
func (f *Frame) Hold() { f.holders.Add(1) }

// Drop undoes a Hold.
func (f *Frame) Drop() {
	if f.holders.Add(-1) == 0 && f.released != nil {
		f.released()
	}
}

// Holders is how many hold the frame.
func (f *Frame) Holders() int { return int(f.holders.Load()) }

// Advance says that the first n rows of the fields s are final.
func (f *Frame) Advance(s Fields, n int32) {
	f.mu.Lock()
	for i := range f.rows {
		if s>>i&1 != 0 {
			f.rows[i].Store(n)
		}
	}
	f.mu.Unlock()
	f.changed.Broadcast()
}

// Await waits until row y of the fields s is final; of whole frames y counts the rows of both.
func (f *Frame) Await(s Fields, y int32) {
	if s == WholeFrame {
		y >>= 1
	}
	for i := range f.rows {
		if s>>i&1 == 0 || f.rows[i].Load() > y {
			continue
		}
		f.mu.Lock()
		for f.rows[i].Load() <= y {
			f.changed.Wait()
		}
		f.mu.Unlock()
	}
}

// AwaitAll waits until the whole frame is final. Where one field never came, the other one's
// rows take its place.
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

// Fill makes all samples grey.
func (f *Frame) Fill() {
	for i := range f.Planes {
		p := &f.Planes[i]
		motion.FillBlock(p.Pix, 0, len(p.Pix), min(len(p.Pix), 1), 1<<7)
		motion.FillBlock(p.Wide, 0, len(p.Wide), min(len(p.Wide), 1), 1<<(f.Picture.PlaneDepth(i)-1))
	}
}

// Init makes room for the samples of a layout. released is called when the last holder drops the
// frame; it may be nil.
func (f *Frame) Init(l Layout, released func()) {
	f.layout, f.released = l, released
	f.changed.L = &f.mu
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

// InitEmpty makes a frame without samples, for those that only follow headers.
func (f *Frame) InitEmpty() { f.changed.L = &f.mu }

// Fits tells whether the frame has room for pictures of a layout.
func (f *Frame) Fits(l Layout) bool { return f.layout.sameStorage(&l) }

// Begin forgets what the frame was used for. The caller holds it.
func (f *Frame) Begin(id int32) {
	f.ID, f.PTS, f.Hidden = id, media.NoTime, false
	f.rows[0].Store(0)
	f.rows[1].Store(0)
	f.Damaged.Store(false)
	f.holders.Store(1)
}

// Crop points the picture at what is to be shown.
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
