package h264

import (
	"math"

	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// frame is a decoded frame or pair of fields, with all that other pictures may need of it.
type frame struct {
	framepool.Frame
	mbs []mbMotion // of all macroblocks, by address in raster order

	halfpel *halfpelPlanes // of an encoder's reference picture, or nil

	// Written only by the goroutine that reads headers.
	poc         [2]int32         // of the top and the bottom field
	coded       framepool.Fields // fields that were coded
	short, long framepool.Fields // fields used for short-term and long-term reference
	frameNum    int
	numWrap     int // FrameNumWrap (8.2.4.1)
	longIdx     int // LongTermFrameIdx
	reference   bool
	missing     bool // inferred for a gap in frame_num (8.2.5.2), holds no samples
	waiting     bool // for output
	fieldPair   bool // coded as two fields
}

// mbMotion is what is kept of a macroblock for prediction in other pictures and
// for deblocking.
type mbMotion struct {
	ref   [2][4]int8 // reference indices by list and 8x8 block, negative for none
	intra bool
	field bool                 // a field macroblock
	id    [2][4]int32          // pictures referred to, by list and 8x8 block: frame.id<<2 | structure, or -1
	mv    [2][16]motion.Vector // by list and 4x4 block in raster order; last, since much of it is often not used
}

// pocOf is PicOrderCnt of the frame or of one field of it.
func (f *frame) pocOf(s framepool.Fields) int32 { return pocOf(f.poc, s) }

// pocOf returns PicOrderCnt of a field or a frame (8.2.1). A field that was not coded does not
// count.
func pocOf(poc [2]int32, s framepool.Fields) int32 {
	switch s {
	case framepool.TopField:
		return poc[0]
	case framepool.BottomField:
		return poc[1]
	}
	return min(poc[0], poc[1])
}

func (f *frame) isReference() bool { return f.short|f.long != 0 }

// Waiting reports whether the frame still waits for output.
func (f *frame) Waiting() bool { return f.waiting }

// OutputOrder is PicOrderCnt of the frame.
func (f *frame) OutputOrder() int32 { return f.pocOf(framepool.WholeFrame) }

// grey fills the frame with mid-grey, as a substitute for one that cannot be decoded.
func (f *frame) grey() {
	f.Fill()
	for i := range f.mbs {
		f.mbs[i] = noMotion
	}
	f.coded, f.poc = framepool.WholeFrame, [2]int32{}
	f.Advance(framepool.WholeFrame, framepool.AllRows)
}

// noMotion is the motion of macroblocks that are not predicted from another picture.
var noMotion = mbMotion{intra: true, ref: [2][4]int8{{-1, -1, -1, -1}, {-1, -1, -1, -1}},
	id: [2][4]int32{{-1, -1, -1, -1}, {-1, -1, -1, -1}}}

// framePool keeps frames for reuse.
type framePool struct{ framepool.Pool[*frame] }

// acquire returns a frame that fits pictures of the parameter set s.
func (p *framePool) acquire(s *sps) *frame {
	f, id, found := p.Take(func(f *frame) bool { return f.fits(s) })
	if !found {
		f = newFrame(s, p)
	}
	f.begin(id)
	f.Crop(s.layout())
	return f
}

// begin resets what the frame was used for.
func (f *frame) begin(id int32) {
	f.Begin(id)
	f.halfpel = nil
	f.poc, f.coded, f.short, f.long = [2]int32{math.MaxInt32, math.MaxInt32}, 0, 0, 0
	f.reference, f.missing, f.waiting, f.fieldPair = false, false, false, false
}

// newFrame allocates a frame for pictures of the parameter set s. It returns to pool when it is
// released, unless pool is nil.
func newFrame(s *sps, pool *framePool) *frame {
	f := &frame{mbs: make([]mbMotion, s.mbWidth*s.mbHeight)}
	var released func()
	if pool != nil {
		released = func() { pool.Put(f) }
	}
	f.Init(s.layout(), released)
	return f
}

func (f *frame) fits(s *sps) bool { return f.Fits(s.layout()) }

// layout is how pictures of the parameter set are stored.
func (s *sps) layout() framepool.Layout {
	return framepool.Layout{CodedWidth: s.mbWidth * 16, CodedHeight: s.mbHeight * 16, Width: s.width, Height: s.height,
		CropLeft: s.cropLeft, CropTop: s.cropTop, Depth: s.depth, ChromaDepth: s.chromaDepth, Chroma: s.chroma}
}
