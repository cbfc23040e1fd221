package hevc

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
)

// blockMotion is the motion of a prediction block: a vector and a reference for each list; a reference of
// -1 means that the list is not used.
type blockMotion struct {
	mv  [2]motion.Vector
	ref [2]int8
}

// forgetMotion leaves all blocks without motion.
func (f *frame) forgetMotion() {
	for i := range f.motion {
		f.motion[i] = noMotion
	}
}

// intra reports whether a block has no motion.
func (m *blockMotion) intra() bool { return m.ref[0] < 0 && m.ref[1] < 0 }

// equals compares field by field, which is quicker than a call that compares memory.
func (m *blockMotion) equals(o *blockMotion) bool {
	return m.mv[0] == o.mv[0] && m.mv[1] == o.mv[1] && m.ref[0] == o.ref[0] && m.ref[1] == o.ref[1]
}

var noMotion = blockMotion{ref: [2]int8{-1, -1}}

// frame is a decoded picture with what later pictures need of it.
type frame struct {
	framepool.Frame
	poc       int
	reference bool // short-term or long-term
	long      bool
	kept      bool // by the reference picture set that is being carried out
	waiting   bool // for output
	sps       *sps
	motion    []blockMotion // of 4x4 blocks
	stride4   int           // 4x4 blocks in a row
	// slices are the lists of each slice, by the number that sliceOf has for each coding tree block.
	lists   [][2]refList
	sliceOf []uint16
}

// Waiting implements [framepool.Waiter].
func (f *frame) Waiting() bool { return f.waiting }

// OutputOrder implements [framepool.Waiter].
func (f *frame) OutputOrder() int32 { return int32(f.poc) }

// refList is a reference picture list (8.3.4).
type refList struct {
	n    int
	refs [maxDPB]*frame
	poc  [maxDPB]int32
	long [maxDPB]bool
}

// slice is a slice segment of a picture under way.
type slice struct {
	h      sliceHeader
	data   bits.Reader // after the header
	rbsp   []byte
	number int   // of its slice in the picture
	starts []int // of the substreams after the first one, in what is left of data
}

// substream returns the data of a substream; where their places are not known, all the data.
func (sl *slice) substream(i int) []byte {
	data := sl.data.Rest()
	from, to := 0, len(data)
	if i > 0 {
		from = sl.starts[i-1]
	}
	if i < len(sl.starts) {
		to = sl.starts[i]
	}
	return data[from:to]
}

// layout derives from a pair of parameter sets what is the same for all their pictures: the order of
// coding tree blocks in tiles (6.5.1).
type layout struct {
	sps            *sps
	pps            *pps
	rsToTs, tsToRs []int32
	tileOf         []int32 // by raster address
	tileX          []int32 // first column of the tile of a column
}

func newLayout(s *sps, p *pps) (*layout, error) {
	n := s.ctbWidth * s.ctbHeight
	l := &layout{sps: s, pps: p, rsToTs: make([]int32, n), tsToRs: make([]int32, n), tileOf: make([]int32, n), tileX: make([]int32, s.ctbWidth)}
	columns, err := boundaries(p.columns, s.ctbWidth, p.uniform || !p.tiles, p.columnWidths)
	if err != nil {
		return nil, err
	}
	rows, err := boundaries(p.rows, s.ctbHeight, p.uniform || !p.tiles, p.rowHeight)
	if err != nil {
		return nil, err
	}
	ts := int32(0)
	for r := range p.rows {
		for c := range p.columns {
			for y := rows[r]; y < rows[r+1]; y++ {
				for x := columns[c]; x < columns[c+1]; x++ {
					rs := y*s.ctbWidth + x
					l.rsToTs[rs], l.tsToRs[ts], l.tileOf[rs] = ts, int32(rs), int32(r*p.columns+c)
					l.tileX[x] = int32(columns[c])
					ts++
				}
			}
		}
	}
	return l, nil
}

// boundaries returns where tiles begin, in coding tree blocks, with the end.
func boundaries(n, size int, uniform bool, sizes []int) ([]int, error) {
	list := make([]int, n+1)
	for i := range n {
		if uniform {
			list[i+1] = (i + 1) * size / n
		} else if i < n-1 {
			list[i+1] = list[i] + sizes[i]
		} else {
			list[i+1] = size
		}
		if list[i+1] <= list[i] || list[i+1] > size {
			return nil, damaged("the tiles do not fit the picture")
		}
	}
	return list, nil
}

// state is what is kept of a picture while it is decoded, by the smallest coding block (8x8 or
// larger), or by blocks of 4x4 samples.
type state struct {
	f            *frame
	layout       *layout
	headers      []*sliceHeader // of slices, by their number
	minCbStride  int
	skip         []bool
	depth        []uint8
	intraCU      []bool
	bypass       []bool // lossless, or PCM that is not filtered
	qp           []int8
	stride4      int
	intraMode    []uint8 // of 4x4 blocks
	cbf          []bool  // the luma transform block at a 4x4 block has coefficients
	edgeV, edgeH []uint8 // edges at the left and the top of a 4x4 block: 1 of a prediction block, 3 of a transform block
	sliceAddr    []int32 // of coding tree blocks: SliceAddrRs; -1: not decoded
	sao          []saoParams
	endStates    [contexts]uint8 // at the end of the last slice segment
	endStats     [4]uint8
}

// begin prepares for a picture. Its motion is set block by block.
func (st *state) begin(f *frame, l *layout) {
	s := l.sps
	st.f, st.layout = f, l
	st.minCbStride = s.width >> s.minCb
	n := st.minCbStride * (s.height >> s.minCb)
	st.stride4 = (s.width + 3) >> 2
	n4 := st.stride4 * ((s.height + 3) >> 2)
	ctbs := s.ctbWidth * s.ctbHeight
	st.skip, st.depth, st.intraCU, st.bypass, st.qp = sized(st.skip, n), sized(st.depth, n), sized(st.intraCU, n), sized(st.bypass, n), sized(st.qp, n)
	st.intraMode, st.cbf, st.edgeV, st.edgeH = sized(st.intraMode, n4), sized(st.cbf, n4), sized(st.edgeV, n4), sized(st.edgeH, n4)
	st.sliceAddr, st.sao = sized(st.sliceAddr, ctbs), sized(st.sao, ctbs)
	for i := range st.sliceAddr {
		st.sliceAddr[i] = -1
	}
	clear(f.sliceOf) // blocks that never come are as if of the first slice
}

// sized returns a cleared list of a length.
func sized[E any](list []E, n int) []E {
	if cap(list) < n {
		return make([]E, n)
	}
	list = list[:n]
	clear(list)
	return list
}
