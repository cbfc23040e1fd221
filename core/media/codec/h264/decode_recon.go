package h264

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/picture"
)

// recon turns the syntax of macroblocks into samples (8.3 to 8.5).
type recon[T motion.Sample] struct {
	d             *sliceDecoder
	reconstructor reconstructor[T]
	k             kernels[T]
	maxSample     [3]int32 // the largest sample of each plane
	planes        int

	full         [3][]T
	fullStride   [3]int
	luma         []T // of the picture
	chroma       [2][]T
	stride       int // from row to row of the macroblock: of a frame or a field
	chromaStride int
	chromaShift  uint8 // 1 where chroma has half the rows
	chromaRows   int   // of a macroblock
	at, chromaAt int   // the macroblock's first sample
	row          int   // of luma in the frame or field, where the macroblock begins

	from     *frame           // of the reference that was used last, or nil
	fields   framepool.Fields // and which of its fields
	origin   source[T]        // its samples
	border   border[T]
	averages averages[T]
	edge     motion.EdgeBlock[T]
	half     [16*16 + motion.RowPadding]T
	second   [3][16*16 + motion.RowPadding]T
	edges    edges[T] // of the macroblock that is being deblocked
}

// toChroma returns how many rows of chroma there are beside rows of luma.
func (r *recon[T]) toChroma(rows int) int { return rows >> (r.chromaShift & 1) }

func samplesOf[T motion.Sample](p *picture.Plane) ([]T, int) {
	var pix any = p.Pix
	if p.Wide != nil {
		pix = p.Wide
	}
	s, _ := pix.([]T)
	return s, p.Stride
}

// begin sets the picture whose samples are made.
func (r *recon[T]) begin(d *sliceDecoder, f *frame) {
	r.d = d
	r.planes = f.Picture.Chroma.Planes()
	r.chromaShift = 1
	if f.Picture.Chroma.IsTall() {
		r.chromaShift = 0
	}
	r.chromaRows = r.toChroma(16)
	for i := range r.planes {
		r.maxSample[i] = 1<<f.Picture.PlaneDepth(i) - 1
		r.full[i], r.fullStride[i] = samplesOf[T](&f.Planes[i])
	}
	r.luma, r.chroma = r.full[0], [2][]T{r.full[1], r.full[2]}
	r.edges = edges[T]{r: r}
	r.from = nil
}

// intraNeighbours tells which samples around a macroblock intra prediction may use.
type intraNeighbours struct {
	left                   uint8 // a bit for each row of 4x4 blocks
	top, topLeft, topRight bool
}

// allRows are all rows of 4x4 blocks.
const allRows = 15

// beside reports whether the samples to the left of a row of 4x4 blocks may be used.
func (n *intraNeighbours) beside(row int) bool { return n.left>>row&1 != 0 }

var errNeighbours = damaged("an intra prediction from samples that are not there")

// reconstruct makes the samples of the current macroblock.
func (r *recon[T]) reconstruct() error {
	d := r.d
	r.place()
	r.prefetch(r.luma, r.chroma[:])
	switch d.mb.kind {
	case kindPCM:
		r.pcm()
		return nil
	case kindInter:
		if r.from != nil && r.fields == framepool.WholeFrame { // the next ones are often predicted from there
			r.prefetch(r.origin.planes[0], r.origin.planes[1:])
		}
		r.inter()
		r.addLuma()
	default:
		ok := d.intraNeighbours()
		if err := r.intra(&ok); err != nil {
			return err
		}
	}
	if d.coded>>16 != 0 || d.flats>>1 != 0 {
		r.addChroma()
	}
	return nil
}

// prefetch has the cache lines fetched that come after those of this macroblock, in planes that are laid out like the
// picture: so many rows are more than a processor follows by itself.
func (r *recon[T]) prefetch(luma []T, chroma [][]T) {
	x, line := r.d.x, motion.LineOf[T]()
	if 16*x&(line-1) == 0 {
		motion.Prefetch(luma, r.at+line, r.stride, 16)
	}
	if r.planes == 3 && 8*x&(line-1) == 0 {
		for _, pix := range chroma {
			motion.Prefetch(pix, r.chromaAt+line, r.chromaStride, r.chromaRows)
		}
	}
}

// place computes where the macroblock's samples are in the picture.
func (r *recon[T]) place() {
	d := r.d
	r.stride, r.chromaStride = r.fullStride[0], r.fullStride[1]
	r.row = d.y * 16
	if d.field || d.h.structure != framepool.WholeFrame {
		r.row = d.y >> 1 * 16
		r.at = (d.y>>1*32 + d.y&1) * r.stride
		r.chromaAt = (d.y>>1*2*r.chromaRows + d.y&1) * r.chromaStride
		r.stride, r.chromaStride = 2*r.stride, 2*r.chromaStride
	} else {
		r.at = d.y * 16 * r.stride
		r.chromaAt = d.y * r.chromaRows * r.chromaStride
	}
	r.at += d.x * 16
	r.chromaAt += d.x * 8
}

func (r *recon[T]) intra(ok *intraNeighbours) error {
	d := r.d
	left := ok.left == allRows
	all := left && ok.top && ok.topLeft
	if d.mb.kind == kind16x16 {
		if d.mode16 == 0 && !ok.top || d.mode16 == 1 && !left || d.mode16 == 3 && !all {
			return errNeighbours
		}
		r.intra16(r.at, d.mode16, ok)
		r.addLuma()
	} else if err := r.intraBlocks(ok); err != nil {
		return err
	}
	if r.planes == 1 {
		return nil
	}
	mode := int(d.mb.chromaMode)
	if mode == 1 && !left || mode == 2 && !ok.top || mode == 3 && !all {
		return errNeighbours
	}
	for i := range r.chroma {
		r.intraChroma(1+i, mode, ok)
	}
	return nil
}

// The neighbouring samples that each intra mode of 4x4 and 8x8 blocks needs.
const (
	needLeft   = 1
	needTop    = 2
	needCorner = 4
)

var needs = [9]int{needTop, needLeft, 0, needTop, 7, 7, 7, needTop, needLeft}

func (r *recon[T]) intraBlocks(ok *intraNeighbours) error {
	d := r.d
	step := 1
	if d.mb.transform8 {
		step = 4
	}
	for k := 0; k < 16; k += step {
		block := blockOf[k]
		mode := d.mb.modes[block]
		left, top := block&3 > 0 || ok.beside(block>>2), block > 3 || ok.top
		if step == 4 && block&3 == 0 {
			left = left && ok.beside(block>>2+1)
		}
		need := needs[mode]
		if need&needLeft != 0 && !left || need&needTop != 0 && !top || need&needCorner != 0 && !cornerOf(block, ok) {
			return errNeighbours
		}
		at := r.at + block>>2*4*r.stride + block&3*4
		if step == 4 {
			r.intra8(at, k>>2, mode, ok)
		} else {
			r.intra4(at, block, mode, ok)
		}
		if d.coded>>k&1 != 0 {
			r.addLumaBlock(k, at)
		}
	}
	return nil
}

// addLuma adds the residual of luma.
func (r *recon[T]) addLuma() {
	if r.d.flats&1 != 0 {
		r.addFlat(0)
		return
	}
	coded := r.d.coded & 0xFFFF
	if plain := coded &^ r.d.more; plain&(plain-1) != 0 && !r.d.mb.transform8 {
		r.d.flattenBlocks(0, plain, r.d.coeffs[:256], &blockOf)
		r.addFlat(0)
		coded &^= plain
	}
	if !r.d.mb.transform8 {
		if coded != 0 {
			r.k.addBlocks(r.luma[r.at:], r.stride, 16, 16, r.d.coeffs[:256], coded, r.maxSample[0])
		}
		return
	}
	for ; coded != 0; coded &= coded - 1 {
		k := mathbits.TrailingZeros64(coded)
		block := blockOf[k&15]
		r.addLumaBlock(k, r.at+block>>2*4*r.stride+block&3*4)
	}
}

// addFlat adds residuals that are the same for each whole 4x4 block of a plane.
func (r *recon[T]) addFlat(plane int) {
	pix, stride, w, h := r.luma[r.at:], r.stride, 16, 16
	if plane > 0 {
		pix, stride, w, h = r.chroma[plane-1][r.chromaAt:], r.chromaStride, 8, r.chromaRows
	}
	r.k.addDCs(pix, stride, w, h, &r.d.flat[plane], r.maxSample[plane])
}

func (r *recon[T]) addLumaBlock(k, at int) {
	c := r.d.coeffs[16*k:]
	size := 4
	if r.d.mb.transform8 {
		size = 8
	}
	if r.d.more>>k&1 == 0 {
		r.k.addDC(r.luma[at:], r.stride, size, &c[0], r.maxSample[0])
	} else if size == 8 {
		r.k.add8(r.luma[at:], r.stride, (*[64]int32)(c), r.maxSample[0])
	} else {
		r.k.add4(r.luma[at:], r.stride, (*[16]int32)(c), r.maxSample[0])
	}
}

// chromaOrder is the raster index of each 4x4 block of a chroma plane: they are coded in that order.
var chromaOrder = [16]int{0, 1, 2, 3, 4, 5, 6, 7}

func (r *recon[T]) addChroma() {
	for plane := 1; plane < 3; plane++ {
		if r.d.flats>>plane&1 != 0 {
			r.addFlat(plane)
			continue
		}
		first := chromaBlock(plane - 1)
		coded, c := r.d.coded>>first&0xFF, r.d.coeffs[16*first:][:128]
		if plain := coded &^ (r.d.more >> first); plain != 0 {
			r.d.flattenBlocks(plane, plain, c, &chromaOrder)
			r.addFlat(plane)
			coded &^= plain
		}
		if coded != 0 {
			r.k.addBlocks(r.chroma[plane-1][r.chromaAt:], r.chromaStride, 8, r.chromaRows, c, coded, r.maxSample[plane])
		}
	}
}

// pcm copies the samples of an I_PCM macroblock.
func (r *recon[T]) pcm() {
	s, in := r.d.h.sps, bits.NewReader(r.d.pcm)
	put := func(dst []T, stride, w, h, depth int) {
		for y := range h {
			for x := range w {
				dst[y*stride+x] = T(in.U(depth))
			}
		}
	}
	put(r.luma[r.at:], r.stride, 16, 16, s.depth)
	if r.planes == 3 {
		put(r.chroma[0][r.chromaAt:], r.chromaStride, 8, r.chromaRows, s.chromaDepth)
		put(r.chroma[1][r.chromaAt:], r.chromaStride, 8, r.chromaRows, s.chromaDepth)
	}
}
