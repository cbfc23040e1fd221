package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

// smoothing averages neighbours along a border, which begins at place 0.
type smoothing struct {
	border Register
	ones   VecVirtual
	load   func(m Mem, to VecVirtual)
}

func (s *smoothing) at(place int) VecVirtual {
	v := avoblock.Alike(s.ones)
	s.load(Mem{Base: s.border, Disp: place}, v)
	return v
}

// average is that of each place from one on with the next.
func (s *smoothing) average(place int) VecVirtual {
	v, next := s.at(place), s.at(place+1)
	VPAVGB(next, v, v)
	return v
}

// weigh is the weighted average around each place from one on. VPAVGB rounds up, so that
// what is odd is taken off between the two.
func (s *smoothing) weigh(place int) VecVirtual {
	before, v, after, odd := s.at(place-1), s.at(place), s.at(place+1), avoblock.Alike(s.ones)
	VPXOR(before, after, odd)
	VPAND(s.ones, odd, odd)
	VPAVGB(before, after, before)
	VPSUBB(odd, before, before)
	VPAVGB(before, v, v)
	return v
}

// newSmoothing loads the border of the function that is written.
func newSmoothing(vec func() VecVirtual, load func(m Mem, to VecVirtual)) *smoothing {
	s := &smoothing{border: Load(Param("border"), GP64()), ones: vec(), load: load}
	VPCMPEQB(s.ones, s.ones, s.ones)
	VPABSB(s.ones, s.ones)
	return s
}

func smooth() {
	TEXT("smoothFast", attr.NOSPLIT, "func(border *byte, out *byte)")
	Pragma("noescape")
	Doc("smoothFast is smoothBorder.")
	s := newSmoothing(YMM, func(m Mem, to VecVirtual) { VMOVDQU(m, to) })
	out := Load(Param("out"), GP64())
	VMOVDQU(s.average(0), Mem{Base: out})
	VMOVDQU(s.weigh(1), Mem{Base: out, Disp: 32 + 1})
	VZEROUPPER()
	RET()
}

// plane keeps a row of words and adds to it from row to row.
func plane() {
	TEXT("planeFast", attr.NOSPLIT, "func(dst *byte, stride, w, h int, v, across, down int16)")
	Pragma("noescape")
	Doc("planeFast is planeBlock of blocks 16 or 8 samples wide, of 8-bit samples.")
	b := avoblock.Block{Dst: Load(Param("dst"), GP64()), Stride: Load(Param("stride"), GP64()), W: Load(Param("w"), GP64()), H: Load(Param("h"), GP64())}
	words := func(param string) VecVirtual {
		x, v := XMM(), YMM()
		r := GP32()
		Load(Param(param), r.As16())
		VMOVD(r, x)
		VPBROADCASTW(x, v)
		return v
	}
	row, across, down := words("v"), words("across"), words("down")
	places := GLOBL("places", attr.RODATA|attr.NOPTR)
	for i := range 16 {
		DATA(2*i, U16(i))
	}
	VPMULLW(places, across, across)
	VPADDW(across, row, row)
	low, high := XMM(), XMM()
	next := func(label string, write func()) {
		Label(label)
		VPSRAW(Imm(5), row, across)
		VEXTRACTI128(Imm(1), across, high)
		VPACKUSWB(high, across.AsX(), low)
		write()
		VPADDW(down, row, row)
		ADDQ(b.Stride, b.Dst)
		DECQ(b.H)
		JNZ(LabelRef(label))
		VZEROUPPER()
		RET()
	}
	CMPQ(b.W, Imm(16))
	JNE(LabelRef("plane8"))
	next("plane16", func() { VMOVDQU(low, b.DstAt()) })
	next("plane8", func() { VMOVQ(low, b.DstAt()) })
}

// broadcast loads 16 bytes into both halves of a vector.
func broadcast(m Mem, to VecVirtual) { VBROADCASTI128(m, to) }

// directions4 predicts a block of 4x4 samples in all modes but DC. All places of the
// border lie in one vector.
func directions4() {
	TEXT("directions4Fast", attr.NOSPLIT, "func(border *byte, shuffles *[6][2][64]uint8, preds *byte)")
	Pragma("noescape")
	Doc("directions4Fast is directions for 4x4 samples.")
	s := newSmoothing(XMM, func(m Mem, to VecVirtual) { VMOVDQU(m, to) })
	shuffles, preds := Load(Param("shuffles"), GP64()), Load(Param("preds"), GP64())
	beside := bytesOf("beside4", 16, func(i int) int { return 4 - i/4 })
	v, w := XMM(), XMM()
	VPBROADCASTD(Mem{Base: s.border, Disp: 6}, v)
	VMOVDQU(v, Mem{Base: preds})
	VPSHUFB(beside, s.at(0), v)
	VMOVDQU(v, Mem{Base: preds, Disp: 16})
	average, weighted := s.average(0), s.weigh(1)
	for i := range 6 {
		VPSHUFB(Mem{Base: shuffles, Disp: 128*i + 64}, weighted, w)
		if i > 1 {
			VPSHUFB(Mem{Base: shuffles, Disp: 128 * i}, average, v)
			VPOR(v, w, w)
		}
		VMOVDQU(w, Mem{Base: preds, Disp: 16 * (3 + i)})
	}
	RET()
}

// directions8 does the same for 8x8 samples, where each direction has its own windows of 16 places.
func directions8() {
	TEXT("directions8Fast", attr.NOSPLIT, "func(border *byte, shuffles *[6][2][64]uint8, preds *byte)")
	Pragma("noescape")
	Doc("directions8Fast is directions for 8x8 samples.")
	s := newSmoothing(YMM, broadcast)
	shuffles, preds := Load(Param("shuffles"), GP64()), Load(Param("preds"), GP64())
	beside := bytesOf("beside8", 64, func(i int) int { return 8 - i/8 })
	v, w, left := YMM(), YMM(), s.at(0)
	VPBROADCASTQ(Mem{Base: s.border, Disp: 10}, v)
	for half := range 2 {
		VMOVDQU(v, Mem{Base: preds, Disp: 32 * half})
		VPSHUFB(beside.Offset(32*half), left, w)
		VMOVDQU(w, Mem{Base: preds, Disp: 64 + 32*half})
	}
	write := func(direction int, average, weighted VecVirtual) {
		for half := range 2 {
			at := Mem{Base: shuffles, Disp: 128*direction + 32*half}
			VPSHUFB(at.Offset(64), weighted, w)
			if average != nil {
				VPSHUFB(at, average, v)
				VPOR(v, w, w)
			}
			VMOVDQU(w, Mem{Base: preds, Disp: 64*(3+direction) + 32*half})
		}
	}
	weighted := s.weigh(10)
	write(0, nil, weighted)
	write(4, s.average(10), weighted)
	weighted = s.weigh(1)
	write(1, nil, weighted)
	average := s.average(1)
	write(2, average, weighted)
	write(3, average, weighted)
	write(5, s.average(0), weighted)
	VZEROUPPER()
	RET()
}

// bytesOf is a table of n bytes.
func bytesOf(name string, n int, value func(i int) int) Mem {
	table := GLOBL(name, attr.RODATA|attr.NOPTR)
	for i := range n {
		DATA(i, U8(value(i)))
	}
	return table
}

// each begins a function that compares a block with its predictions.
func each(name, doc string) (src, stride, preds, costs Register) {
	TEXT(name, attr.NOSPLIT, "func(src *byte, stride int, preds *byte, costs *[10]int32)")
	Pragma("noescape")
	Doc(doc)
	return Load(Param("src"), GP64()), Load(Param("stride"), GP64()), Load(Param("preds"), GP64()), Load(Param("costs"), GP64())
}

// both are the sums and the differences of neighbours in two vectors.
func both(a, b VecVirtual) (sums, differences VecVirtual) {
	sums, differences = YMM(), YMM()
	VPHADDW(b, a, sums)
	VPHSUBW(b, a, differences)
	return sums, differences
}

// satdEach4 compares a block of 4x4 samples with two predictions at once.
func satdEach4() {
	src, stride, preds, costs := each("satdEach4Fast", "satdEach4Fast is satdEach for 4x4 samples.")
	apart := bytesOf("apart", 16, func(i int) int { return i%8/2*4 + i/8*2 + i%2 })
	x, y, block, ones := XMM(), XMM(), YMM(), XMM()
	at := GP64()
	LEAQ(Mem{Base: src, Index: stride, Scale: 2}, at)
	VMOVD(Mem{Base: src}, x)
	VPINSRD(Imm(1), Mem{Base: src, Index: stride, Scale: 1}, x, x)
	VMOVD(Mem{Base: at}, y)
	VPINSRD(Imm(1), Mem{Base: at, Index: stride, Scale: 1}, y, y)
	VPUNPCKLQDQ(y, x, x)
	VPMOVZXBW(x, block)
	VPCMPEQW(ones, ones, ones)
	VPABSW(ones, ones)
	count := GP64()
	MOVQ(U32(5), count)
	Label("each4")
	var d [2]VecVirtual
	for i := range d {
		d[i] = YMM()
		VPMOVZXBW(Mem{Base: preds, Disp: 16 * i}, d[i])
		VPSUBW(d[i], block, d[i])
	}
	// Along rows twice, then rows 0 with 1 and 2 with 3, which lie side by side then.
	a, b := both(d[0], d[1])
	a, b = both(a, b)
	a, b = both(a, b)
	sum := XMM()
	for i, v := range []VecVirtual{a, b} {
		// |p + q| + |p - q| is twice the larger of |p| and |q|.
		VPABSW(v, v)
		VEXTRACTI128(Imm(1), v, x)
		if i == 0 {
			VPMAXSW(v.AsX(), x, sum)
			continue
		}
		VPMAXSW(v.AsX(), x, x)
		VPADDW(x, sum, sum)
	}
	VPSHUFB(apart, sum, sum)
	VPMADDWD(ones, sum, sum)
	VPHADDD(sum, sum, sum)
	VMOVQ(sum, Mem{Base: costs})
	ADDQ(Imm(32), preds)
	ADDQ(Imm(8), costs)
	DECQ(count)
	JNZ(LabelRef("each4"))
	VZEROUPPER()
	RET()
}

// satdEach8 compares a block of 8x8 samples with one prediction after another. Even rows lie in
// the lower halves of vectors, odd ones in the upper halves.
func satdEach8() {
	src, stride, preds, costs := each("satdEach8Fast", "satdEach8Fast is satdEach for 8x8 samples.")
	var block [4]VecVirtual
	x, ones := XMM(), YMM()
	for i := range block {
		block[i] = YMM()
		VMOVQ(Mem{Base: src}, x)
		VPINSRQ(Imm(1), Mem{Base: src, Index: stride, Scale: 1}, x, x)
		VPMOVZXBW(x, block[i])
		LEAQ(Mem{Base: src, Index: stride, Scale: 2}, src)
	}
	VPCMPEQW(ones, ones, ones)
	VPABSW(ones, ones)
	count := GP64()
	MOVQ(U32(9), count)
	Label("each8")
	var sum VecVirtual
	for i := 0; i < 4; i += 2 {
		d, e, a, b := YMM(), YMM(), YMM(), YMM()
		VPMOVZXBW(Mem{Base: preds, Disp: 16 * i}, d)
		VPMOVZXBW(Mem{Base: preds, Disp: 16*i + 16}, e)
		VPSUBW(d, block[i], d)
		VPSUBW(e, block[i+1], e)
		VPADDW(e, d, a)
		VPSUBW(e, d, b)
		a, b = both(a, b)
		a, b = both(a, b)
		VPABSW(a, a)
		VPABSW(b, b)
		VPERM2I128(Imm(0x20), b, a, d)
		VPERM2I128(Imm(0x31), b, a, e)
		VPMAXSW(e, d, d)
		if sum == nil {
			sum = d
		} else {
			VPADDW(d, sum, sum)
		}
	}
	VPMADDWD(ones, sum, sum)
	VEXTRACTI128(Imm(1), sum, x)
	low := sum.AsX().(VecVirtual)
	VPADDD(x, low, low)
	VPHADDD(low, low, low)
	VPHADDD(low, low, low)
	VMOVD(low, Mem{Base: costs})
	ADDQ(Imm(64), preds)
	ADDQ(Imm(4), costs)
	DECQ(count)
	JNZ(LabelRef("each8"))
	VZEROUPPER()
	RET()
}
