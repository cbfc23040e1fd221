package h264

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/framepool"
)

// Block categories (table 9-42).
const (
	catDC16     = 0 // DC of Intra_16x16
	catAC16     = 1
	cat4x4      = 2
	catChromaDC = 3
	catChromaAC = 4
	cat8x8      = 5
	catTallDC   = 6 // catChromaDC in 4:2:2
)

// Where the contexts of each block category start (tables 9-34 and 9-40); the first index is 1
// for field macroblocks.
var (
	sigContexts  = [2][6]int{{105, 120, 134, 149, 152, 402}, {277, 292, 306, 321, 324, 436}}
	lastContexts = [2][6]int{{166, 181, 195, 210, 213, 417}, {338, 353, 367, 382, 385, 451}}
	absContexts  = [6]int{227, 237, 247, 257, 266, 426}
)

// ctxIdxInc of significant_coeff_flag and last_significant_coeff_flag of 8x8
// blocks (table 9-43).
var (
	sig8x8 = [2][64]uint8{
		{0, 1, 2, 3, 4, 5, 5, 4, 4, 3, 3, 4, 4, 4, 5, 5, 4, 4, 4, 4, 3, 3, 6, 7, 7, 7, 8, 9, 10, 9, 8, 7,
			7, 6, 11, 12, 13, 11, 6, 7, 8, 9, 14, 10, 9, 8, 6, 11, 12, 13, 11, 6, 9, 14, 10, 9, 11, 12, 13, 11, 14, 10, 12},
		{0, 1, 1, 2, 2, 3, 3, 4, 5, 6, 7, 7, 7, 8, 4, 5, 6, 9, 10, 10, 8, 11, 12, 11, 9, 9, 10, 10, 8, 11, 12, 11,
			9, 9, 10, 10, 8, 11, 12, 11, 9, 9, 10, 10, 8, 13, 13, 9, 9, 10, 10, 8, 13, 13, 9, 9, 10, 10, 14, 14, 14, 14, 14}}
	last8x8 = [64]uint8{0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2,
		3, 3, 3, 3, 3, 3, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5, 5, 5, 6, 6, 6, 6, 7, 7, 7, 7, 8, 8, 8}
)

// block describes where the coefficients of a transform block are stored, and how they are
// scaled.
type block struct {
	cat   int
	out   []int32 // 16 or 64 coefficients in raster order
	scan  []uint8 // raster index of each coefficient in scan order
	scale []int32 // scaling factors by raster index
	shift uint    // right shift of the scaled levels, with rounding
}

// tableDC is the table of coeff_token of a chroma DC block.
func (b *block) tableDC() int { return 3 + len(b.scan)>>3 }

// raw are scaling factors that leave levels unchanged.
var raw = func() (ones [16]int32) {
	for i := range ones {
		ones[i] = 1
	}
	return ones
}()

// put scales a level and stores it (8.5.12.1, 8.5.13.1).
func (b *block) put(i int, level int32) {
	place := b.scan[i]
	b.out[place] = (level*b.scale[place] + 1<<b.shift>>1) >> b.shift
}

// residual parses all coefficients of the macroblock (7.3.5.3).
func (d *sliceDecoder) residual() error {
	few := d.mb.cbp&0x2F == 0 // only DC levels, which no later block's context counts
	switch {
	case !few:
		d.loadNonZero()
	case d.mb.kind == kind16x16:
		d.loadFirst()
		fallthrough
	default:
		d.mb.numbers = edgeNumbers{}
	}
	list := 3 * oneIf(d.mb.kind == kindInter)
	if d.mb.kind == kind16x16 || d.mb.cbp&15 != 0 {
		if err := d.residualLuma(list); err != nil {
			return err
		}
	}
	if d.mb.cbp>>4 != 0 && d.h.sps.chroma.Planes() == 3 { // some types say that there is chroma in a grey picture
		if err := d.residualChroma(list); err != nil {
			return err
		}
	}
	if !few {
		d.storeNonZero()
	}
	return nil
}

// rasterOf converts a bit set of eight 4x4 blocks from coding order to raster order.
var rasterOf = func() (table [256]uint8) {
	for coded := range table {
		for k := range 8 {
			table[coded] |= uint8(coded >> k & 1 << blockOf[k])
		}
	}
	return table
}()

func (d *sliceDecoder) residualLuma(list int) error {
	field := d.fieldScan()
	qp := d.qp + 6*(d.h.sps.depth-8)
	scale := &d.scale.small[list][qp]
	scan, cat := scans4[field][:], cat4x4
	if d.mb.kind == kind16x16 {
		n, err := d.read(&block{catDC16, d.dc[:16], scan, raw[:], 0}, cacheFirst)
		if err != nil {
			return err
		}
		if n > 0 {
			d.mb.dc |= 1
			d.lumaDC(scale[0], d.mb.cbp&15 == 0)
		}
		scan, cat = scan[1:], catAC16
	}
	if d.mb.cbp&15 == 0 {
		return nil
	}
	if !d.mb.transform8 {
		return d.readBlocks(&block{cat, nil, scan, scale[:], 4}, lumaBlocks[d.mb.cbp&15])
	}
	for b8 := range 4 {
		if d.mb.cbp>>b8&1 != 0 {
			if err := d.residual8x8(b8, list, qp); err != nil {
				return err
			}
		}
	}
	return nil
}

// lumaBlocks are the sets of 4x4 blocks in coding order by coded_block_pattern.
var lumaBlocks = [16]uint64{0, 0xf, 0xf0, 0xff, 0xf00, 0xf0f, 0xff0, 0xfff, 0xf000, 0xf00f, 0xf0f0, 0xf0ff, 0xff00, 0xff0f, 0xfff0, 0xffff}

// blockAt is the place of each block of a macroblock in the cache of numbers, in the order of coded.
var blockAt = func() (list [32]uint8) {
	for k, block := range blockOf {
		list[k] = uint8(cacheAt[block])
	}
	for k := range 8 {
		for plane := range 2 {
			list[chromaBlock(plane)+k] = uint8((1+plane)*cacheSize + cacheFirst + k>>1*cacheStep + k&1)
		}
	}
	return list
}()

// chromaBlock is the first block of plane 0, Cb, or 1, Cr, in the order of coded.
func chromaBlock(plane int) int { return 16 + 8*plane }

// readBlocks parses a set of 4x4 blocks, in the order of coded.
func (d *sliceDecoder) readBlocks(b *block, set uint64) error {
	coded, more, err := d.readSet(b, d.coeffs[:], set)
	if b.cat != cat4x4 {
		more = coded // DC coefficients are elsewhere
	}
	d.coded |= coded
	d.more |= more
	return err
}

// readSet parses a set of blocks, whose coefficients are 16 apart from out on, and returns those that have
// coefficients, and those that have more than the first one.
func (d *sliceDecoder) readSet(b *block, out []int32, set uint64) (coded, more uint64, err error) {
	if d.h.pps.cabac && b.cat != catChromaDC {
		coded, more = d.cabac.Blocks(set, 85+4*b.cat, coeffContexts[d.fieldScan()][b.cat], d.nz[:], &blockAt, b.scan, out, b.scale, b.shift)
		return coded, more, nil
	}
	for set != 0 {
		if !d.h.pps.cabac {
			var c, m uint64
			b.out = out
			c, m, set = d.cavlcBlocks(b, set)
			coded, more = coded|c, more|m
			if set == 0 {
				break
			}
		}
		k := mathbits.TrailingZeros64(set) & 31
		set &= set - 1
		b.out = out[16*k : 16*k+16]
		at := 1 + k
		if b.cat != catChromaDC {
			at = int(blockAt[k])
		}
		n, err := d.read(b, at)
		if err != nil {
			return coded, more, err
		}
		if b.cat != catChromaDC {
			d.nz[at] = uint8(n)
		}
		coded |= uint64(oneIf(n > 0)) << k
		more |= uint64(oneIf(n > 1 || n == 1 && b.out[0] == 0)) << k
	}
	return coded, more, nil
}

// residual8x8 parses an 8x8 block: as one with CABAC, as four interleaved blocks of 16
// coefficients with CAVLC.
func (d *sliceDecoder) residual8x8(b8, list, qp int) error {
	field := d.fieldScan()
	out := d.coeffs[64*b8 : 64*b8+64]
	scale := d.scale.large[list/3][qp][:]
	total := 0
	for i := range 4 {
		at := int(blockAt[4*b8+i])
		if d.h.pps.cabac {
			if i == 0 {
				total = d.cabacCoeffs(&block{cat8x8, out, scans8[field][:], scale, 6}, -1)
			}
			d.nz[at] = uint8(total)
			continue
		}
		n, err := d.read(&block{cat4x4, out, scans8Split[field][i][:], scale, 6}, at)
		if err != nil {
			return err
		}
		d.nz[at] = uint8(n)
		total += n
	}
	if total > 0 {
		d.coded |= 1 << (4 * b8)
		if total > 1 || out[0] == 0 {
			d.more |= 1 << (4 * b8)
		}
	}
	return nil
}

func (d *sliceDecoder) residualChroma(list int) error {
	blocks := d.chromaBlocks()
	offset := 6 * (d.h.sps.chromaDepth - 8)
	alone := d.mb.cbp>>4 == 1
	var coded uint64
	var err error
	if blocks == 4 && !d.h.pps.cabac {
		coded, err = d.cavlcDC420()
	} else {
		coded, _, err = d.readSet(&block{catChromaDC, nil, scansDC[blocks>>3], raw[:], 0}, d.dc[:], 3)
	}
	if err != nil {
		return err
	}
	d.mb.dc |= uint8(coded) << 1
	for plane := range 2 {
		if coded>>plane&1 == 0 {
			continue
		}
		qp := int(d.mb.qpc[plane]) + offset
		if blocks == 4 {
			d.chromaDC420(plane, d.scale.small[list+1+plane][qp][0], alone)
		} else {
			d.chromaDC422(plane, d.scale.small[list+1+plane][qp+3][0], alone)
		}
	}
	if alone {
		return nil
	}
	b := block{cat: catChromaAC, scan: scans4[d.fieldScan()][1:], shift: 4}
	cb, cr := uint64(1<<blocks-1)<<chromaBlock(0), uint64(1<<blocks-1)<<chromaBlock(1)
	scaleCb, scaleCr := &d.scale.small[list+1][int(d.mb.qpc[0])+offset], &d.scale.small[list+2][int(d.mb.qpc[1])+offset]
	b.scale = scaleCb[:]
	if scaleCb == scaleCr {
		return d.readBlocks(&b, cb|cr)
	}
	if err := d.readBlocks(&b, cb); err != nil {
		return err
	}
	b.scale = scaleCr[:]
	return d.readBlocks(&b, cr)
}

// chromaBlocks returns the number of 4x4 blocks in each chroma plane of a macroblock.
func (d *sliceDecoder) chromaBlocks() int {
	if d.h.sps.chroma.IsTall() {
		return 8
	}
	return 4
}

// fieldScan returns 1 where the scans and contexts of fields apply, else 0.
func (d *sliceDecoder) fieldScan() int {
	if d.field || d.h.structure != framepool.WholeFrame {
		return 1
	}
	return 0
}

// read parses one block, whose place in the cache of numbers is at, and returns its number of coefficients. Of chroma
// DC blocks at is 1 for Cb, 2 for Cr.
func (d *sliceDecoder) read(b *block, at int) (int, error) {
	if d.h.pps.cabac {
		return d.cabacCoeffs(b, 85+4*b.cat+d.codedContext(b.cat, at)), nil
	}
	if b.cat == catChromaDC {
		return d.cavlcCoeffs(b, b.tableDC())
	}
	return d.cavlcCoeffs(b, int(coeffTable[d.coeffContext(at)&31]))
}

// coeffContext returns nC of a block (9.2.1).
func (d *sliceDecoder) coeffContext(at int) int {
	return contextOf(int(d.nz[at-1]) + int(d.nz[at-cacheStep]))
}

// contextOf returns nC by the sum of the numbers of both neighbours, of which one that is not there counts as 64.
func contextOf(sum int) int {
	if sum < 64 {
		sum = (sum + 1) >> 1
	}
	return sum
}

// codedContext returns ctxIdxInc of a block's coded_block_flag (9.3.3.1.1.9).
func (d *sliceDecoder) codedContext(cat, at int) int {
	switch cat {
	case catDC16:
		return d.codedDC(0)
	case catChromaDC:
		return d.codedDC(at)
	}
	return d.codedBeside(at)
}

// codedBeside returns ctxIdxInc of the coded_block_flag of a block that is no DC block.
func (d *sliceDecoder) codedBeside(at int) int {
	return min(int(d.nz[at-1]), 1) + 2*min(int(d.nz[at-cacheStep]), 1)
}

// coeffTable is the table of coeff_token for each nC; 5 is the fixed-length one.
var coeffTable = [32]uint8{0, 0, 1, 1, 2, 2, 2, 2, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5}

// codedDC returns ctxIdxInc of the coded_block_flag of a DC block.
func (d *sliceDecoder) codedDC(plane int) int {
	coded := func(i int32) int {
		if i < 0 {
			if d.mb.intra() {
				return 1
			}
			return 0
		}
		return int(d.mbs[i].dc >> plane & 1)
	}
	return coded(d.n.left[0]) + 2*coded(d.n.top)
}

// absentNumbers stand for those of a macroblock that is not there: by the value that a block counts as.
var absentNumbers = [...]edgeNumbers{filled(0), filled(1), filled(64)}

// filled returns numbers that are all n.
func filled(n uint8) (all edgeNumbers) {
	for i := range all.below {
		all.below[i] = n
	}
	for i := range all.right {
		all.right[i] = n
	}
	return all
}

// Where the caches of Cb and Cr begin in the cache of numbers.
const (
	cacheCb = cacheSize
	cacheCr = 2 * cacheSize
)

// numbersOf returns the numbers of coefficients of a neighbour, or what stands for them.
func (d *sliceDecoder) numbersOf(mb int32) *edgeNumbers {
	switch {
	case mb >= 0:
		return &d.mbs[mb].numbers
	case d.h.pps.cabac:
		return &absentNumbers[oneIf(d.mb.intra())]
	}
	return &absentNumbers[2] // CAVLC leaves it out of the average
}

// loadFirst fills the cache as far as the DC block of Intra_16x16 needs it.
func (d *sliceDecoder) loadFirst() {
	left, top := d.numbersOf(d.n.left[0]), d.numbersOf(d.n.top)
	d.nz[cacheFirst-1], d.nz[cacheFirst-cacheStep] = left.right[d.n.leftRow[0]&3], top.below[0]
}

// loadNonZero fills the borders of the cache with the numbers of coefficients of the neighbouring blocks.
func (d *sliceDecoder) loadNonZero() {
	top, nz := d.numbersOf(d.n.top), &d.nz
	*nz = [3 * cacheSize]uint8{}
	*(*[4]uint8)(nz[1:]) = [4]uint8(top.below[:4])
	*(*[2]uint8)(nz[cacheCb+1:]) = [2]uint8(top.below[4:6])
	*(*[2]uint8)(nz[cacheCr+1:]) = [2]uint8(top.below[6:])
	if d.h.mbaff {
		d.loadNonZeroPairs()
		return
	}
	left := d.numbersOf(d.n.left[0])
	for i := range 4 {
		at := cacheFirst + cacheStep*i - 1
		nz[at], nz[cacheCb+at], nz[cacheCr+at] = left.right[i], left.right[4+i], left.right[8+i]
	}
}

// loadNonZeroPairs fills the left borders where the rows beside a macroblock may be of two others.
func (d *sliceDecoder) loadNonZeroPairs() {
	tall := d.chromaBlocks() == 8
	for i := range 4 {
		left := d.numbersOf(d.n.left[i])
		at, row := cacheFirst+cacheStep*i-1, int(d.n.leftRow[i]&3)
		d.nz[at] = left.right[row]
		if !tall {
			at, row = cacheFirst+cacheStep*(i>>1)-1, row>>1
		}
		if tall || i&1 == 0 {
			d.nz[cacheCb+at], d.nz[cacheCr+at] = left.right[4+row], left.right[8+row]
		}
	}
}

// storeNonZero stores the number of coefficients for later macroblocks, and for deblocking which
// luma blocks have any.
func (d *sliceDecoder) storeNonZero() {
	coded := d.coded
	if d.mb.transform8 {
		coded |= coded << 1
		coded |= coded << 2
	}
	d.mb.luma = uint16(rasterOf[coded&255]) | uint16(rasterOf[coded>>8&255])<<8
	nz, numbers := &d.nz, &d.mb.numbers
	*(*[4]uint8)(numbers.below[:]) = [4]uint8(nz[cacheFirst+3*cacheStep:])
	last := cacheFirst + cacheStep
	if d.chromaBlocks() == 8 {
		last += 2 * cacheStep
	}
	*(*[2]uint8)(numbers.below[4:]) = [2]uint8(nz[cacheCb+last:])
	*(*[2]uint8)(numbers.below[6:]) = [2]uint8(nz[cacheCr+last:])
	for i := range 4 {
		at := cacheFirst + cacheStep*i
		numbers.right[i], numbers.right[4+i], numbers.right[8+i] = nz[at+3], nz[cacheCb+at+1], nz[cacheCr+at+1]
	}
}

// cabacCoeffs parses the coefficients of a block (7.3.5.3.3) and returns how many there are. coded is the
// context of coded_block_flag, -1 where it is not sent.
func (d *sliceDecoder) cabacCoeffs(b *block, coded int) int {
	cat := b.cat
	if cat == catChromaDC && len(b.scan) == 8 {
		cat = catTallDC
	}
	return d.cabac.Coefficients(coded, coeffContexts[d.fieldScan()][cat], b.scan, b.out, b.scale, b.shift)
}

// coeffContexts are the contexts of the coefficients of each block category (9.3.3.1.3); the first index is 1
// for field macroblocks.
var coeffContexts = func() (list [2][7]*cabac.Contexts) {
	for field := range list {
		for cat, size := range [7]int{16, 15, 16, 4, 15, 64, 8} {
			of, most := min(cat, cat8x8), 4
			if cat == catTallDC {
				of = catChromaDC
			}
			if of == catChromaDC {
				most = 3
			}
			sig, last := make([]int, size), make([]int, size)
			for i := range size {
				sigInc, lastInc := i, i
				switch of {
				case cat8x8:
					sigInc, lastInc = int(sig8x8[field][i]), int(last8x8[i])
				case catChromaDC:
					sigInc = min(i/(size/4), 2)
					lastInc = sigInc
				}
				sig[i], last[i] = sigContexts[field][of]+sigInc, lastContexts[field][of]+lastInc
			}
			list[field][cat] = cabac.NewContexts(sig, last, absContexts[of], most)
		}
	}
	return list
}()
