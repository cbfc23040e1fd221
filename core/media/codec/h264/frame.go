package h264

import (
	"math"
	"sync"
	"sync/atomic"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
)

// frame is a decoded frame or pair of fields with all that other pictures may
// need of it. The pictures that use it and the one who watches it hold it;
// when all have let go it returns to its pool.
type frame struct {
	pic  picture.Picture // what is shown: the planes, cropped
	full [3]picture.Plane
	mbs  []mbMotion // of all macroblocks, by address in raster order

	halves *halves // of an encoder's reference picture, or nil

	// Set by the goroutine that reads headers.
	poc         [2]int32  // of the top and the bottom field
	coded       structure // fields that are there
	short, long structure // fields used for short-term and long-term reference
	frameNum    int
	numWrap     int // FrameNumWrap (8.2.4.1)
	longIdx     int // LongTermFrameIdx
	reference   bool
	missing     bool // inferred for a gap in frame_num (8.2.5.2), holds no samples
	waiting     bool // for output
	fieldPair   bool // coded as two fields
	id          int32
	shown       structure // fields that are there when it is handed out
	pts         int64
	hidden      bool // is not to be shown

	holders atomic.Int32
	pool    *framePool

	mu      sync.Mutex
	changed sync.Cond
	rows    [2]atomic.Int32 // rows of the top and the bottom field that are final
	damaged atomic.Bool
}

// allRows is the progress of a field that is complete.
const allRows = math.MaxInt32 / 2

// mbMotion is what is kept of a macroblock for prediction in other pictures and
// for deblocking.
type mbMotion struct {
	mv    [2][16]motion.Vector // by list and 4x4 block in raster order
	id    [2][4]int32          // pictures referred to, by list and 8x8 block: frame.id<<2 | structure, or -1
	ref   [2][4]int8           // reference indices, negative for none
	intra bool
	field bool // a field macroblock
}

// orderOf is PicOrderCnt of the frame or of one field of it.
func (f *frame) orderOf(s structure) int32 { return orderOf(f.poc, s) }

// orderOf picks PicOrderCnt of a field or a frame (8.2.1). A field that is not
// there does not count.
func orderOf(poc [2]int32, s structure) int32 {
	switch s {
	case topField:
		return poc[0]
	case bottomField:
		return poc[1]
	}
	return min(poc[0], poc[1])
}

func (f *frame) isReference() bool { return f.short|f.long != 0 }

func (f *frame) hold() { f.holders.Add(1) }

func (f *frame) drop() {
	if f.holders.Add(-1) == 0 && f.pool != nil {
		f.pool.put(f)
	}
}

// advance says that the first n rows of the fields s are final.
func (f *frame) advance(s structure, n int32) {
	f.mu.Lock()
	for i := range f.rows {
		if s>>i&1 != 0 {
			f.rows[i].Store(n)
		}
	}
	f.mu.Unlock()
	f.changed.Broadcast()
}

// await waits until row y of what s names is final.
func (f *frame) await(s structure, y int32) {
	if s == wholeFrame {
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

// awaitAll waits until the whole frame is final. Where one field never came,
// the other one's rows take its place.
func (f *frame) awaitAll() {
	f.await(wholeFrame, 2*allRows-1)
	if f.shown != wholeFrame {
		f.repeatRows()
	}
}

func (f *frame) repeatRows() {
	from, to := 0, 1
	if f.shown == bottomField {
		from, to = 1, 0
	}
	for i := range f.full {
		p := &f.full[i]
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

// grey makes a frame of one colour that needs no decoding.
func (f *frame) grey() {
	for i := range f.full {
		p := &f.full[i]
		motion.FillBlock(p.Pix, 0, len(p.Pix), min(len(p.Pix), 1), 1<<7)
		motion.FillBlock(p.Wide, 0, len(p.Wide), min(len(p.Wide), 1), 1<<(f.pic.PlaneDepth(i)-1))
	}
	for i := range f.mbs {
		f.mbs[i] = noMotion
	}
	f.coded, f.poc = wholeFrame, [2]int32{}
	f.advance(wholeFrame, allRows)
}

// noMotion is of macroblocks that are not predicted from another picture.
var noMotion = mbMotion{intra: true, ref: [2][4]int8{{-1, -1, -1, -1}, {-1, -1, -1, -1}},
	id: [2][4]int32{{-1, -1, -1, -1}, {-1, -1, -1, -1}}}

// framePool lends frames of one size.
type framePool struct {
	mu    sync.Mutex
	free  []*frame
	total int32 // frames lent so far
}

// get lends a frame that fits the pictures of s.
func (l *framePool) get(s *sps) *frame {
	l.mu.Lock()
	var f *frame
	for n := len(l.free); n > 0 && f == nil; n = len(l.free) {
		if last := l.free[n-1]; last.fits(s) {
			f = last
		}
		l.free[n-1] = nil
		l.free = l.free[:n-1]
	}
	l.total++
	id := l.total & (1<<28 - 1)
	l.mu.Unlock()
	if f == nil {
		f = newFrame(s, l)
	}
	f.begin(id)
	f.crop(s)
	return f
}

// begin forgets what the frame was used for.
func (f *frame) begin(id int32) {
	f.id, f.pts, f.halves = id, media.NoTime, nil
	f.poc, f.coded, f.short, f.long = [2]int32{math.MaxInt32, math.MaxInt32}, 0, 0, 0
	f.reference, f.missing, f.waiting, f.fieldPair, f.hidden = false, false, false, false, false
	f.rows[0].Store(0)
	f.rows[1].Store(0)
	f.damaged.Store(false)
	f.holders.Store(1)
}

func (l *framePool) put(f *frame) {
	l.mu.Lock()
	l.free = append(l.free, f)
	l.mu.Unlock()
}

func newFrame(s *sps, pool *framePool) *frame {
	f := &frame{pool: pool}
	f.changed.L = &f.mu
	f.pic.Depth, f.pic.ChromaDepth, f.pic.Chroma = s.depth, s.chromaDepth, s.chroma
	for i := range f.full {
		w, h := s.chroma.PlaneSize(i, s.mbWidth*16, s.mbHeight*16)
		if w == 0 {
			continue
		}
		f.full[i].Stride = w
		if s.wide() {
			f.full[i].Wide = make([]uint16, w*h+motion.RowPadding)
		} else {
			f.full[i].Pix = make([]byte, w*h+motion.RowPadding)
		}
	}
	f.mbs = make([]mbMotion, s.mbWidth*s.mbHeight)
	f.pic.OnRelease(func(*picture.Picture) { f.drop() })
	return f
}

func (f *frame) fits(s *sps) bool {
	return f.pic.Depth == s.depth && f.pic.ChromaDepth == s.chromaDepth && f.pic.Chroma == s.chroma && f.full[0].Stride == s.mbWidth*16 &&
		len(f.mbs) == s.mbWidth*s.mbHeight
}

// crop points the picture at what is to be shown.
func (f *frame) crop(s *sps) {
	f.pic.Width, f.pic.Height = s.width, s.height
	for i := range f.pic.Planes {
		x, y := s.chroma.PlaneSize(i, s.cropLeft, s.cropTop)
		plane := f.full[i]
		if plane.Wide != nil {
			plane.Wide = plane.Wide[y*plane.Stride+x:]
		} else if plane.Pix != nil {
			plane.Pix = plane.Pix[y*plane.Stride+x:]
		}
		f.pic.Planes[i] = plane
	}
}
