package h264

import (
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/threads"
)

// pictureTask is one picture to be decoded, a frame or a field.
type pictureTask struct {
	f         *frame
	sps       *sps
	structure framepool.Fields
	poc       [2]int32
	shared    bool     // other pictures are decoded at the same time
	conceal   *frame   // the picture that replaces missing samples; may be nil
	held      []*frame // to be released when the picture is done
	slices    []*slice
	spare     []*slice // slices for reuse
}

// slice is one slice and the reference lists that its header defines.
type slice struct {
	h     sliceHeader
	lists [2]refList
	scale *levelScale
	rbsp  []byte
	data  bits.Reader // from the first bit of slice data on
}

// pocOf returns PicOrderCnt of the picture or of one of its fields.
func (j *pictureTask) pocOf(s framepool.Fields) int32 { return pocOf(j.poc, s) }

// hold keeps a frame from being reused while the picture is decoded.
func (j *pictureTask) hold(f *frame) {
	f.Hold()
	j.held = append(j.held, f)
}

// newSlice returns an empty slice.
func (j *pictureTask) newSlice() *slice {
	if n := len(j.spare); n > 0 {
		s := j.spare[n-1]
		j.spare = j.spare[:n-1]
		return s
	}
	return new(slice)
}

// reset releases every frame and slice of the task.
func (j *pictureTask) reset() {
	for i, f := range j.held {
		f.Drop()
		j.held[i] = nil
	}
	j.held = j.held[:0]
	j.spare = append(j.spare, j.slices...)
	j.slices = j.slices[:0]
	j.f, j.conceal, j.sps = nil, nil, nil
}

// worker decodes pictures, one at a time.
type worker struct {
	team    *threads.Team
	mbs     []mbInfo
	threads []*sliceThread // the first one decodes, the others help with slices
}

// sliceThread decodes slices, one at a time.
type sliceThread struct {
	d    sliceDecoder
	byte recon[uint8]
	wide recon[uint16]
}

func newWorker(t *threads.Team) *worker { return &worker{team: t} }

// thread returns the i-th slice thread.
func (w *worker) thread(i int) *sliceThread {
	for len(w.threads) <= i {
		m := new(sliceThread)
		m.byte.k, m.wide.k = fastKernels(), fastWideKernels()
		w.threads = append(w.threads, m)
	}
	return w.threads[i]
}

// run decodes the picture of j and publishes its progress row by row.
func (w *worker) run(j *pictureTask) {
	defer j.f.Advance(j.structure, framepool.AllRows)
	w.team.Add(1)
	defer w.team.Add(-1)
	if n := j.sps.mbWidth * j.sps.mbHeight; len(w.mbs) != n {
		w.mbs = newMacroblocks(n)
	}
	for i := range w.mbs {
		w.mbs[i].slice = 0
	}
	if j.sps.wide() {
		decodePicture(w, j, func(m *sliceThread) *recon[uint16] { return &m.wide })
	} else {
		decodePicture(w, j, func(m *sliceThread) *recon[uint8] { return &m.byte })
	}
}

// reconstructor decodes the macroblocks of a picture and deblocks them one row later, because
// intra prediction uses unfiltered samples.
type reconstructor[T motion.Sample] struct {
	r       *recon[T]
	d       *sliceDecoder
	job     *pictureTask
	next    int // address of the next macroblock, counted as in slice headers
	inRow   int // macroblocks done of the row that is not complete
	end     int
	rowUnit int // macroblocks in a row, or in a row of pairs
	rows    int // complete rows of macroblocks, or of pairs
}

func newReconstructor[T motion.Sample](w *worker, m *sliceThread, r *recon[T], j *pictureTask) *reconstructor[T] {
	d := &m.d
	d.pic, d.mbs, d.motion = j, w.mbs, j.f.mbs
	d.width, d.height = j.sps.mbWidth, j.sps.mbHeight
	r.begin(d, j.f)
	p := &r.reconstructor
	*p = reconstructor[T]{r: r, d: d, job: j, end: d.width * d.height, rowUnit: d.width}
	if j.structure != framepool.WholeFrame {
		p.end /= 2
	}
	if j.slices[0].h.mbaff {
		p.rowUnit = 2 * d.width
	}
	return p
}

// startSlice prepares to decode slice s.
func (d *sliceDecoder) startSlice(s *slice, number, end int) {
	d.h, d.number, d.lists, d.r, d.scale, d.end = &s.h, int32(number), &s.lists, s.data, s.scale, end
}

func decodePicture[T motion.Sample](w *worker, j *pictureTask, pick func(m *sliceThread) *recon[T]) {
	m := w.thread(0)
	p := newReconstructor(w, m, pick(m), j)
	if idle := w.team.Idle(); idle > 0 && len(j.slices) > 1 && p.inOrder() {
		decodeSlices(w, p, pick, min(idle+1, len(j.slices)))
		return
	}
	for i, s := range j.slices {
		if s.h.firstMb < p.next || s.h.firstMb >= p.end {
			j.f.Damaged.Store(true)
			continue
		}
		p.conceal(s.h.firstMb)
		p.d.startSlice(s, i+1, p.end)
		if p.d.decode(p) != nil {
			j.f.Damaged.Store(true)
		}
	}
	p.conceal(p.end)
	p.filter(p.rows - 1)
}

// inOrder reports whether the slices begin at rising addresses.
func (p *reconstructor[T]) inOrder() bool {
	last := -1
	for _, s := range p.job.slices {
		if s.h.firstMb <= last || s.h.firstMb >= p.end {
			return false
		}
		last = s.h.firstMb
	}
	return true
}

// decodeSlices decodes the slices of a picture in parallel on n idle slice threads, and deblocks
// when all are decoded.
func decodeSlices[T motion.Sample](w *worker, p *reconstructor[T], pick func(m *sliceThread) *recon[T], n int) {
	for i := range n {
		w.thread(i) // made here, not by several goroutines at once
	}
	j, last := p.job, p.end // the first thread's reconstructor, where p is, is made anew
	w.team.Each(n, len(j.slices), func(i int) func(task int) {
		m := w.thread(i)
		own := newReconstructor(w, m, pick(m), j)
		return func(i int) {
			end := last
			if i+1 < len(j.slices) {
				end = j.slices[i+1].h.firstMb
			}
			own.d.startSlice(j.slices[i], i+1, end)
			if own.d.decode(own.r) != nil {
				j.f.Damaged.Store(true)
			}
		}
	})
	p.d.h = &p.job.slices[0].h
	for addr := range p.end {
		if x, y := p.position(addr); w.mbs[y*p.d.width+x].slice == 0 {
			p.job.f.Damaged.Store(true)
			p.concealMacroblock(x, y)
		}
	}
	for row := range p.end / p.rowUnit {
		p.filter(row)
	}
}

// reconstruct makes the samples of the macroblock that was just parsed.
func (p *reconstructor[T]) reconstruct() error {
	if err := p.r.reconstruct(); err != nil {
		return err
	}
	p.advance()
	return nil
}

// advance counts one more macroblock. When a row is complete, the row before it is deblocked.
func (p *reconstructor[T]) advance() {
	p.next++
	if p.inRow++; p.inRow < p.rowUnit {
		return
	}
	p.inRow = 0
	p.rows++
	if p.rows > 1 {
		p.filter(p.rows - 2)
	}
	height := 16 * p.rowUnit / p.d.width * (p.rows - 1)
	height -= 8 // the edge below still changes these rows
	if p.job.structure == framepool.WholeFrame {
		height /= 2
	}
	p.job.f.Advance(p.job.structure, int32(max(0, height)))
}

// filter deblocks a row of macroblocks or of pairs.
func (p *reconstructor[T]) filter(row int) {
	d := p.d
	h, x, y, field, mb := d.h, d.x, d.y, d.field, d.mb
	n := p.rowUnit / d.width
	for i := range d.width {
		for k := range n {
			y := row*n + k
			if p.job.structure != framepool.WholeFrame {
				y = 2*row + int(p.job.structure>>1)
			}
			p.r.deblock(i, y)
		}
	}
	d.h, d.x, d.y, d.field, d.mb = h, x, y, field, mb
}

// conceal fills the macroblocks up to address end from the substitute picture.
func (p *reconstructor[T]) conceal(end int) {
	for p.next < end {
		p.job.f.Damaged.Store(true)
		p.concealMacroblock(p.position(p.next))
		p.advance()
	}
}

// position returns where the macroblock of an address is in the picture.
func (p *reconstructor[T]) position(addr int) (x, y int) {
	x, y = addr%p.d.width, addr/p.d.width
	if p.rowUnit > p.d.width {
		return addr >> 1 % p.d.width, addr>>1/p.d.width*2 + addr&1
	}
	if p.job.structure != framepool.WholeFrame {
		y = 2*y + int(p.job.structure>>1)
	}
	return x, y
}

// concealMacroblock copies the macroblock at x, y from the substitute picture, or fills it with
// grey.
func (p *reconstructor[T]) concealMacroblock(x, y int) {
	r := p.r
	m := &p.d.motion[y*p.d.width+x]
	*m = noMotion
	for i := range r.planes {
		w, h, step := 16, 16, 1
		if i > 0 {
			w, h = 8, r.chromaRows
		}
		top := y * h
		if p.job.structure != framepool.WholeFrame {
			top, step = y>>1*2*h+y&1, 2
		}
		stride := r.fullStride[i]
		for k := range h {
			at := (top+k*step)*stride + x*w
			row := r.full[i][at:][:w]
			if p.job.conceal != nil {
				if p.job.shared {
					p.job.conceal.Await(framepool.WholeFrame, int32(16*(y|1)+15))
				}
				from, _ := samplesOf[T](&p.job.conceal.Planes[i])
				copy(row, from[at:][:w])
				continue
			}
			motion.FillBlock(row, w, w, 1, T((r.maxSample[i]+1)>>1))
		}
	}
}
