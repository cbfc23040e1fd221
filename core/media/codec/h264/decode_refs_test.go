package h264

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/framepool"
)

// buffer makes a buffer of reference frames: frame_num, and the order of both
// fields.
func buffer(numbers ...[2]int) *dpb {
	d := &dpb{output: func(*frame) {}}
	for i, n := range numbers {
		f := &frame{frameNum: n[0], poc: [2]int32{int32(n[1]), int32(n[1]) + 1}, coded: framepool.WholeFrame, short: framepool.WholeFrame, Frame: framepool.Frame{ID: int32(i + 1)}}
		f.Hold()
		d.frames = append(d.frames, f)
	}
	return d
}

func header(kind sliceType, s framepool.Fields, frameNum, refs int) *sliceHeader {
	return &sliceHeader{kind: kind, structure: s, frameNum: frameNum, numRefs: [2]int{refs, refs}, refIDC: 1,
		sps: &sps{frameNumBits: 4, maxRefFrames: 4}}
}

// ids returns the frames in a list, negative for bottom fields; 0 is missing.
func ids(l *refList) (list []int) {
	for _, r := range l.refs[:l.n] {
		switch {
		case r.f == nil:
			list = append(list, 0)
		case r.s == framepool.BottomField:
			list = append(list, -int(r.f.ID))
		default:
			list = append(list, int(r.f.ID))
		}
	}
	return list
}

func lists(d *dpb, h *sliceHeader, cur *frame) (a, b []int) {
	var l [2]refList
	d.wrap(h)
	d.buildLists(h, cur, &l)
	return ids(&l[0]), ids(&l[1])
}

// P frames: by falling PicNum, which wraps around, then long-term ones
// (8.2.4.2.1).
func TestListOfPFrame(t *testing.T) {
	d := buffer([2]int{14, 0}, [2]int{15, 4}, [2]int{0, 8}, [2]int{3, 12}, [2]int{2, 16})
	d.frames[3].short, d.frames[3].long, d.frames[3].longIdx = 0, framepool.WholeFrame, 2
	d.frames[4].short, d.frames[4].long, d.frames[4].longIdx = 0, framepool.WholeFrame, 1
	a, _ := lists(d, header(sliceP, framepool.WholeFrame, 1, 6), nil)
	require.Equal(t, []int{3, 2, 1, 5, 4, 0}, a)
}

// B frames: the past by falling order, then the future; list 1 the other way
// round; two equal lists differ in their first two (8.2.4.2.3).
func TestListsOfBFrame(t *testing.T) {
	d := buffer([2]int{0, 0}, [2]int{1, 16}, [2]int{2, 8}, [2]int{3, 24})
	cur := &frame{poc: [2]int32{12, 13}}
	a, b := lists(d, header(sliceB, framepool.WholeFrame, 4, 4), cur)
	require.Equal(t, []int{3, 1, 2, 4}, a)
	require.Equal(t, []int{2, 4, 3, 1}, b)
	cur.poc = [2]int32{40, 41}
	a, b = lists(d, header(sliceB, framepool.WholeFrame, 4, 3), cur)
	require.Equal(t, []int{4, 2, 3}, a)
	require.Equal(t, []int{2, 4, 3}, b)
}

// Fields take turns, the parity of the current one first; of what is left over
// the rest follows (8.2.4.2.5).
func TestListOfFields(t *testing.T) {
	d := buffer([2]int{0, 0}, [2]int{1, 8}, [2]int{2, 16})
	d.frames[1].short = framepool.BottomField
	a, _ := lists(d, header(sliceP, framepool.TopField, 3, 5), nil)
	require.Equal(t, []int{3, -3, 1, -2, -1}, a)
	// The second field may refer to the first one of its frame.
	cur := &frame{frameNum: 3, poc: [2]int32{24, math.MaxInt32}, coded: framepool.TopField, short: framepool.TopField, Frame: framepool.Frame{ID: 4}}
	d.frames = append(d.frames, cur)
	a, _ = lists(d, header(sliceP, framepool.BottomField, 3, 6), cur)
	require.Equal(t, []int{-3, 4, -2, 3, -1, 1}, a)
}

// Modifications put a picture first and take it out further behind (8.2.4.3).
func TestModifiedList(t *testing.T) {
	d := buffer([2]int{0, 0}, [2]int{1, 4}, [2]int{2, 8}, [2]int{3, 12})
	d.frames[0].short, d.frames[0].long, d.frames[0].longIdx = 0, framepool.WholeFrame, 5
	h := header(sliceP, framepool.WholeFrame, 4, 4)
	h.modifications[0] = []refOp{{0, 2, 0}, {2, 5, 0}, {1, 0, 0}} // PicNum 1, long-term 5, PicNum 2
	a, _ := lists(d, h, nil)
	require.Equal(t, []int{2, 1, 3, 4}, a)
	h.modifications[0] = []refOp{{0, 9, 0}, {2, 3, 0}} // neither is there
	a, _ = lists(d, h, nil)
	require.Equal(t, []int{4, 3, 2, 1}, a)
}

func marks(d *dpb) (list [][2]framepool.Fields) {
	for _, f := range d.frames {
		list = append(list, [2]framepool.Fields{f.short, f.long})
	}
	return list
}

// The window slides over frame_num, not over the order of coming (8.2.5.3).
func TestSlidingWindow(t *testing.T) {
	d := buffer([2]int{15, 0}, [2]int{14, 4}, [2]int{0, 8}, [2]int{1, 12})
	cur := &frame{frameNum: 2}
	d.frames = append(d.frames, cur)
	h := header(sliceP, framepool.WholeFrame, 2, 1)
	d.wrap(h)
	require.False(t, d.mark(h, cur))
	require.Equal(t, [][2]framepool.Fields{{3, 0}, {0, 0}, {3, 0}, {3, 0}, {3, 0}}, marks(d))
}

// The memory management control operations (8.2.5.4).
func TestMarking(t *testing.T) {
	for name, c := range map[string]struct {
		ops   []refOp
		want  [][2]framepool.Fields
		reset bool
	}{
		"short-term unused":  {[]refOp{{1, 1, 0}}, [][2]framepool.Fields{{3, 0}, {3, 0}, {0, 0}, {3, 0}, {3, 0}}, false},
		"to long-term":       {[]refOp{{3, 3, 0}}, [][2]framepool.Fields{{0, 3}, {3, 0}, {3, 0}, {3, 0}, {3, 0}}, false},
		"long-term replaced": {[]refOp{{3, 3, 1}, {3, 2, 1}}, [][2]framepool.Fields{{0, 0}, {0, 3}, {3, 0}, {3, 0}, {3, 0}}, false},
		"long-term unused":   {[]refOp{{3, 3, 1}, {2, 1, 0}}, [][2]framepool.Fields{{0, 0}, {3, 0}, {3, 0}, {3, 0}, {3, 0}}, false},
		"fewer long-term":    {[]refOp{{3, 3, 1}, {3, 2, 0}, {4, 1, 0}}, [][2]framepool.Fields{{0, 0}, {0, 3}, {3, 0}, {3, 0}, {3, 0}}, false},
		"all unused":         {[]refOp{{5, 0, 0}}, [][2]framepool.Fields{{0, 0}, {0, 0}, {0, 0}, {0, 0}, {3, 0}}, true},
		"itself long-term":   {[]refOp{{1, 0, 0}, {6, 0, 0}}, [][2]framepool.Fields{{3, 0}, {3, 0}, {3, 0}, {0, 0}, {0, 3}}, false},
		"what is not there":  {[]refOp{{1, 12, 0}, {2, 7, 0}, {3, 12, 1}}, [][2]framepool.Fields{{3, 0}, {3, 0}, {3, 0}, {3, 0}, {3, 0}}, false},
	} {
		t.Run(name, func(t *testing.T) {
			d := buffer([2]int{0, 0}, [2]int{1, 4}, [2]int{2, 8}, [2]int{3, 12})
			cur := &frame{frameNum: 4}
			d.frames = append(d.frames, cur)
			h := header(sliceP, framepool.WholeFrame, 4, 1)
			h.sps.maxRefFrames = 5
			h.adaptiveMarking, h.marking = true, c.ops
			d.wrap(h)
			require.Equal(t, c.reset, d.mark(h, cur))
			require.Equal(t, c.want, marks(d))
		})
	}
}

// A stream that marks more frames than it may keeps no more than it said.
func TestMarkingIsBounded(t *testing.T) {
	d := buffer([2]int{0, 0}, [2]int{1, 4}, [2]int{2, 8}, [2]int{3, 12})
	cur := &frame{frameNum: 4}
	d.frames = append(d.frames, cur)
	h := header(sliceP, framepool.WholeFrame, 4, 1)
	h.adaptiveMarking = true // and says nothing
	d.wrap(h)
	d.mark(h, cur)
	n := 0
	for _, f := range d.frames {
		if f.isReference() {
			n++
		}
	}
	require.Equal(t, 4, n)
}

// Frames are shown in their order as soon as no more than some wait.
func TestBumping(t *testing.T) {
	d := buffer()
	var shown []int32
	d.output = func(f *frame) { shown = append(shown, f.poc[0]) }
	for _, order := range []int32{0, 8, 4, 2, 6, 16, 12} {
		f := &frame{poc: [2]int32{order, order + 1}, waiting: true}
		f.Hold()
		d.frames = append(d.frames, f)
		d.bump(2, 16)
	}
	require.Equal(t, []int32{0, 2, 4, 6, 8}, shown)
	d.clear()
	require.Equal(t, []int32{0, 2, 4, 6, 8, 12, 16}, shown)
	require.Empty(t, d.frames)
}

// The three types of picture order count (8.2.1).
func TestPictureOrder(t *testing.T) {
	next := func(o *pocState, h *sliceHeader) [2]int32 {
		poc := o.next(h)
		o.update(h, &frame{poc: poc})
		return poc
	}
	set := &sps{pocLSBBits: 4, frameNumBits: 4}
	o := &pocState{}
	var got []int32
	for _, lsb := range []int{0, 6, 12, 2, 14, 8} { // after 12, 2 is 18; 14 then lies before it
		h := &sliceHeader{sps: set, pocLSB: lsb, refIDC: 1, nalType: nalSlice, structure: framepool.WholeFrame, deltaPOCBottom: 1}
		if len(got) == 0 {
			h.nalType = nalIDR
		}
		poc := next(o, h)
		require.Equal(t, poc[0]+1, poc[1])
		got = append(got, poc[0])
	}
	require.Equal(t, []int32{0, 6, 12, 18, 14, 8}, got)

	set = &sps{pocType: 1, frameNumBits: 4, offsetForRefFrame: []int32{2, 4}, offsetForNonRef: -1, offsetForTopToBottom: 1}
	o, got = &pocState{}, nil
	for i, frameNum := range []int{0, 1, 2, 3, 3} {
		h := &sliceHeader{sps: set, frameNum: frameNum, refIDC: 1, nalType: nalSlice, structure: framepool.WholeFrame}
		if i == 0 {
			h.nalType = nalIDR
		}
		if i == 4 {
			h.refIDC = 0
		}
		got = append(got, next(o, h)[0])
	}
	require.Equal(t, []int32{0, 2, 6, 8, 5}, got)

	set = &sps{pocType: 2, frameNumBits: 4}
	o, got = &pocState{}, nil
	for i, frameNum := range []int{0, 1, 2, 2, 15, 0} {
		h := &sliceHeader{sps: set, frameNum: frameNum, refIDC: 1, nalType: nalSlice, structure: framepool.WholeFrame}
		if i == 0 {
			h.nalType = nalIDR
		}
		if i == 2 {
			h.refIDC = 0
		}
		got = append(got, next(o, h)[0])
	}
	require.Equal(t, []int32{0, 2, 3, 4, 30, 32}, got)
}
