package h264

import (
	"vividstrain/core/media/bits"
)

// job is one picture, a frame or a field, on its way to be decoded.
type job struct {
	f         *frame
	sps       *sps
	structure structure
	poc       [2]int32
	shared    bool     // other pictures are decoded at the same time
	conceal   *frame   // where samples are taken from that are missing, may be nil
	held      []*frame // to be let go at the end
	slices    []*slice
	spare     []*slice // for use again
}

// slice is one slice with the reference lists that its header leads to.
type slice struct {
	h     sliceHeader
	lists [2]refList
	scale *levelScale
	rbsp  []byte
	data  bits.Reader // from the first bit of slice data on
}

// orderOf is PicOrderCnt of the picture or of a field of it.
func (j *job) orderOf(s structure) int32 { return orderOf(j.poc, s) }

// hold keeps a frame from being used again while the picture is decoded.
func (j *job) hold(f *frame) {
	f.hold()
	j.held = append(j.held, f)
}

// newSlice lends an empty slice.
func (j *job) newSlice() *slice {
	if n := len(j.spare); n > 0 {
		s := j.spare[n-1]
		j.spare = j.spare[:n-1]
		return s
	}
	return new(slice)
}

// reset lets go of everything.
func (j *job) reset() {
	for i, f := range j.held {
		f.drop()
		j.held[i] = nil
	}
	j.held = j.held[:0]
	j.spare = append(j.spare, j.slices...)
	j.slices = j.slices[:0]
	j.f, j.conceal, j.sps = nil, nil, nil
}

// worker decodes pictures, one at a time.
type worker struct {
	d    sliceDecoder
	mbs  []mbInfo
	byte recon[uint8]
	wide recon[uint16]
}

func newWorker() *worker {
	w := new(worker)
	w.byte.k, w.wide.k = fastKernels(), goKernels[uint16]()
	return w
}

// run decodes the picture of j and lets everyone know as rows are ready.
func (w *worker) run(j *job) {
	defer j.f.advance(j.structure, allRows)
	if n := j.sps.mbWidth * j.sps.mbHeight; len(w.mbs) != n {
		w.mbs = make([]mbInfo, n)
	}
	for i := range w.mbs {
		w.mbs[i].slice = 0
	}
	if j.sps.depth > 8 {
		decodePicture(w, &w.wide, j)
	} else {
		decodePicture(w, &w.byte, j)
	}
}

// painter decodes the macroblocks of a picture and filters them a row behind,
// since intra prediction takes unfiltered samples.
type painter[T sample] struct {
	r    *recon[T]
	d    *sliceDecoder
	job  *job
	next int // the macroblock to come, by address as in slice headers
	end  int
	unit int // macroblocks in a row, or in a row of pairs
	rows int // of macroblocks, or of pairs, that are complete
}

func decodePicture[T sample](w *worker, r *recon[T], j *job) {
	d := &w.d
	d.pic, d.mbs, d.motion = j, w.mbs, j.f.mbs
	d.width, d.height = j.sps.mbWidth, j.sps.mbHeight
	r.begin(d, j.f)
	p := painter[T]{r: r, d: d, job: j, end: d.width * d.height, unit: d.width}
	if j.structure != wholeFrame {
		p.end /= 2
	}
	for i, s := range j.slices {
		if s.h.mbaff {
			p.unit = 2 * d.width
		}
		if s.h.firstMb < p.next || s.h.firstMb >= p.end {
			j.f.damaged.Store(true)
			continue
		}
		p.conceal(s.h.firstMb)
		d.h, d.number, d.lists, d.r = &s.h, int32(i+1), &s.lists, s.data
		d.scale = s.scale
		if d.decode(p.done) != nil {
			j.f.damaged.Store(true)
		}
	}
	p.conceal(p.end)
	p.filter(p.rows - 1)
}

// done makes the samples of the macroblock that was just read.
func (p *painter[T]) done() error {
	if err := p.r.macroblock(); err != nil {
		return err
	}
	p.advance()
	return nil
}

// advance counts a macroblock. When a row of them is complete, the row before
// is filtered.
func (p *painter[T]) advance() {
	p.next++
	if p.next%p.unit != 0 {
		return
	}
	p.rows++
	if p.rows > 1 {
		p.filter(p.rows - 2)
	}
	height := 16 * p.unit / p.d.width * (p.rows - 1)
	height -= 8 // the rows above an edge change once more
	if p.job.structure == wholeFrame {
		height /= 2
	}
	p.job.f.advance(p.job.structure, int32(max(0, height)))
}

// filter deblocks a row of macroblocks or of pairs.
func (p *painter[T]) filter(row int) {
	d := p.d
	h, x, y, field, mb := d.h, d.x, d.y, d.field, d.mb
	n := p.unit / d.width
	for i := range d.width {
		for k := range n {
			y := row*n + k
			if p.job.structure != wholeFrame {
				y = 2*row + int(p.job.structure>>1)
			}
			p.r.deblock(i, y)
		}
	}
	d.h, d.x, d.y, d.field, d.mb = h, x, y, field, mb
}

// conceal fills the macroblocks up to address end from another picture.
func (p *painter[T]) conceal(end int) {
	for p.next < end {
		p.job.f.damaged.Store(true)
		x, y := p.next%p.d.width, p.next/p.d.width
		if p.unit > p.d.width {
			x, y = p.next>>1%p.d.width, p.next>>1/p.d.width*2+p.next&1
		} else if p.job.structure != wholeFrame {
			y = 2*y + int(p.job.structure>>1)
		}
		p.borrow(x, y)
		p.advance()
	}
}

// borrow copies the macroblock at x, y of the picture that stands in, or makes
// it grey.
func (p *painter[T]) borrow(x, y int) {
	r := p.r
	m := &p.d.motion[y*p.d.width+x]
	*m = noMotion
	for i := range r.planes {
		w, h, step := 16, 16, 1
		if i > 0 {
			w, h = 8, 16>>r.chromaShift
		}
		top := y * h
		if p.job.structure != wholeFrame {
			top, step = y>>1*2*h+y&1, 2
		}
		stride := r.fullStride[i]
		for k := range h {
			at := (top+k*step)*stride + x*w
			row := r.full[i][at:][:w]
			if p.job.conceal != nil {
				if p.job.shared {
					p.job.conceal.await(wholeFrame, int32(16*(y|1)+15))
				}
				from, _ := samplesOf[T](&p.job.conceal.full[i])
				copy(row, from[at:][:w])
				continue
			}
			fill(row, w, w, 1, T((r.most+1)>>1))
		}
	}
}
