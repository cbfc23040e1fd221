package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"
)

// compare begins a function that compares blocks a and b.
func compare(name, doc, more string) block {
	TEXT(name, attr.NOSPLIT, "func(a *byte, stride int, b *byte, step int, w, h int"+more+") int")
	Pragma("noescape")
	Doc(doc)
	return block{Load(Param("a"), GP64()), Load(Param("stride"), GP64()), Load(Param("b"), GP64()),
		Load(Param("step"), GP64()), Load(Param("w"), GP64()), Load(Param("h"), GP64())}
}

// sad adds absolute differences, 16 or 8 samples a row.
func sad() {
	b := compare("sadFast", "sadFast is the sum of absolute differences of blocks 16 or 8 samples wide.", "")
	sum, x := XMM(), XMM()
	VPXOR(sum, sum, sum)
	CMPQ(b.w, Imm(16))
	JNE(LabelRef("sad8"))
	b.loop("sad16", func() {
		VMOVDQU(b.dstAt(), x)
		VPSADBW(b.srcAt(0), x, x)
		VPADDQ(x, sum, sum)
	})
	y := XMM()
	VPSRLDQ(Imm(8), sum, y)
	VPADDQ(y, sum, sum)
	JMP(LabelRef("sadend"))
	b.loop("sad8", func() {
		VMOVQ(b.dstAt(), x)
		VMOVQ(b.srcAt(0), y)
		VPSADBW(y, x, x)
		VPADDQ(x, sum, sum)
	})
	Label("sadend")
	out := GP64()
	VMOVQ(sum, out)
	Store(out, ReturnIndex(0))
	RET()
}

// sadQuarters compares each quarter of 16x16 samples.
func sadQuarters() {
	TEXT("sadQuartersFast", attr.NOSPLIT, "func(a *byte, stride int, b *byte, step int, sums *[4]int)")
	Pragma("noescape")
	Doc("sadQuartersFast is sadQuarters.")
	a, stride := Load(Param("a"), GP64()), Load(Param("stride"), GP64())
	b, step := Load(Param("b"), GP64()), Load(Param("step"), GP64())
	sums := Load(Param("sums"), GP64())
	sum, x := XMM(), XMM()
	for half := range 2 {
		for row := range 8 {
			if row == 0 {
				VMOVDQU(Mem{Base: a}, sum)
				VPSADBW(Mem{Base: b}, sum, sum)
			} else {
				VMOVDQU(Mem{Base: a}, x)
				VPSADBW(Mem{Base: b}, x, x)
				VPADDQ(x, sum, sum)
			}
			ADDQ(stride, a)
			ADDQ(step, b)
		}
		VMOVDQU(sum, Mem{Base: sums, Disp: 16 * half})
	}
	RET()
}

// sadFour compares a block with four others at once.
func sadFour() {
	TEXT("sadFourFast", attr.NOSPLIT, "func(a *byte, stride int, b *byte, step int, w, h int, at, sums *[4]int)")
	Pragma("noescape")
	Doc("sadFourFast is sadFour of blocks 16 or 8 samples wide.")
	a, stride := Load(Param("a"), GP64()), Load(Param("stride"), GP64())
	b, step := Load(Param("b"), GP64()), Load(Param("step"), GP64())
	w, h := Load(Param("w"), GP64()), Load(Param("h"), GP64())
	at := Load(Param("at"), GP64())
	var from [4]Register
	var sum [4]VecVirtual
	for i := range from {
		from[i], sum[i] = GP64(), XMM()
		MOVQ(Mem{Base: at, Disp: 8 * i}, from[i])
		ADDQ(b, from[i])
		VPXOR(sum[i], sum[i], sum[i])
	}
	x, y := XMM(), XMM()
	next := func(label string) {
		ADDQ(stride, a)
		for i := range from {
			ADDQ(step, from[i])
		}
		DECQ(h)
		JNZ(LabelRef(label))
	}
	CMPQ(w, Imm(16))
	JNE(LabelRef("sadfour8"))
	Label("sadfour16")
	VMOVDQU(Mem{Base: a}, x)
	for i := range from {
		VPSADBW(Mem{Base: from[i]}, x, y)
		VPADDQ(y, sum[i], sum[i])
	}
	next("sadfour16")
	for i := range sum {
		VPSRLDQ(Imm(8), sum[i], y)
		VPADDQ(y, sum[i], sum[i])
	}
	JMP(LabelRef("sadfourend"))
	Label("sadfour8")
	VMOVQ(Mem{Base: a}, x)
	for i := range from {
		VMOVQ(Mem{Base: from[i]}, y)
		VPSADBW(y, x, y)
		VPADDQ(y, sum[i], sum[i])
	}
	next("sadfour8")
	Label("sadfourend")
	sums := Load(Param("sums"), GP64())
	for i := range sum {
		VMOVQ(sum[i], Mem{Base: sums, Disp: 8 * i})
	}
	RET()
}

// sadFourWide keeps the sums of each place as words: those of 16 rows of 10 bits fit.
func sadFourWide() {
	TEXT("sadFourWideFast", attr.NOSPLIT, "func(a *byte, stride int, b *byte, step int, w, h int, at, sums *[4]int)")
	Pragma("noescape")
	Doc("sadFourWideFast is sadFourFast for samples of two bytes.")
	a := block{dst: Load(Param("a"), GP64()), stride: Load(Param("stride"), GP64()), step: Load(Param("step"), GP64())}
	a.double()
	b, at, h := Load(Param("b"), GP64()), Load(Param("at"), GP64()), Load(Param("h"), GP64())
	var from [4]Register
	for i := range from {
		from[i] = GP64()
		MOVQ(Mem{Base: at, Disp: 8 * i}, from[i])
		LEAQ(Mem{Base: b, Index: from[i], Scale: 2}, from[i])
	}
	sums := Load(Param("sums"), GP64())
	rows := func(label string, vec func() VecVirtual) {
		var sum [4]VecVirtual
		for i := range sum {
			sum[i] = vec()
			VPXOR(sum[i], sum[i], sum[i])
		}
		x, y, ones := vec(), vec(), vec()
		Label(label)
		VMOVDQU(Mem{Base: a.dst}, x)
		for i := range from {
			VPSUBW(Mem{Base: from[i]}, x, y)
			VPABSW(y, y)
			VPADDW(y, sum[i], sum[i])
			ADDQ(a.step, from[i])
		}
		ADDQ(a.stride, a.dst)
		DECQ(h)
		JNZ(LabelRef(label))
		VPCMPEQW(ones, ones, ones)
		VPABSW(ones, ones)
		for i := range sum {
			VPMADDWD(ones, sum[i], sum[i])
			if x.Size() == 32 {
				VEXTRACTI128(Imm(1), sum[i], y.AsX())
				VPADDD(y.AsX(), sum[i].AsX(), sum[i].AsX())
			}
			VPHADDD(sum[i].AsX(), sum[i].AsX(), sum[i].AsX())
			VPHADDD(sum[i].AsX(), sum[i].AsX(), sum[i].AsX())
			VPMOVZXDQ(sum[i].AsX(), sum[i].AsX())
			VMOVQ(sum[i].AsX(), Mem{Base: sums, Disp: 8 * i})
		}
		VZEROUPPER()
		RET()
	}
	CMPQ(Load(Param("w"), GP64()), Imm(16))
	JNE(LabelRef("sadfourwide8"))
	rows("sadfourwide16", YMM)
	Label("sadfourwide8")
	rows("sadfourwiderows8", XMM)
}

// double turns strides in samples of two bytes into bytes.
func (b block) double() {
	SHLQ(Imm(1), b.stride)
	SHLQ(Imm(1), b.step)
}

// sadWide is sad of samples of two bytes.
func sadWide() {
	b := compare("sadWideFast", "sadWideFast is sadFast for samples of two bytes.", "")
	b.double()
	for _, w := range []int{16, 8} {
		vec := YMM
		if w == 8 {
			Label("sadwidenot16")
			vec = XMM
		} else {
			CMPQ(b.w, Imm(16))
			JNE(LabelRef("sadwidenot16"))
		}
		var s satdState
		s.zero(vec)
		sum, ones, x := s.sum.(VecVirtual), s.ones.(VecVirtual), vec()
		b.loop("sadwide"+string(rune('a'+w)), func() {
			VMOVDQU(b.dstAt(), x)
			VPSUBW(b.srcAt(0), x, x)
			VPABSW(x, x)
			VPMADDWD(ones, x, x)
			VPADDD(x, sum, sum)
		})
		if w == 16 {
			fold(sum)
		}
		finish(sum.AsX())
	}
}

// fold adds the upper half of a vector of double words to the lower one.
func fold(sum VecVirtual) {
	half, low := XMM(), sum.AsX()
	VEXTRACTI128(Imm(1), sum, half)
	VPADDD(half, low, low)
	VZEROUPPER()
}

// satd adds the Hadamard transforms of the differences in blocks of 4x4.
func satd() {
	satdOf("satdFast", "satdFast is satdBlock of blocks 16, 8 or 4 samples wide.", false, false)
	satdOf("satdMeanFast", "satdMeanFast is satdMean of blocks 16, 8 or 4 samples wide.", false, true)
	satdOf("satdWideFast", "satdWideFast is satdFast for samples of two bytes.", true, false)
	satdOf("satdMeanWideFast", "satdMeanWideFast is satdMeanFast for samples of two bytes.", true, true)
}

// loadWords loads samples into a vector of words, or half a one.
func loadWords(wide, half bool) func(m Mem, to VecVirtual) {
	switch {
	case wide && half:
		return func(m Mem, to VecVirtual) { VMOVQ(m, to) }
	case wide:
		return func(m Mem, to VecVirtual) { VMOVDQU(m, to) }
	case half:
		return func(m Mem, to VecVirtual) {
			VMOVD(m, to)
			VPMOVZXBW(to, to)
		}
	}
	return func(m Mem, to VecVirtual) { VPMOVZXBW(m, to) }
}

// satdOf compares with a block, or with the mean of two.
func satdOf(name, doc string, wide, mean bool) {
	more := ""
	if mean {
		more = ", c *byte"
	}
	b := compare(name, doc, more)
	if wide {
		b.double()
	}
	var other Register
	if mean {
		other = Load(Param("c"), GP64())
		SUBQ(b.src, other)
	}
	sixteen := satdState{load: loadWords(wide, false), other: other}
	CMPQ(b.w, Imm(16))
	JNE(LabelRef("satdnot16"))
	sixteen.zero(YMM)
	sixteen.loop(b, "satd16", YMM)
	fold(sixteen.sum.(VecVirtual))
	finish(sixteen.sum.(VecVirtual).AsX())

	Label("satdnot16")
	CMPQ(b.w, Imm(8))
	JNE(LabelRef("satdnot8"))
	eight := satdState{load: loadWords(wide, false), other: other}
	eight.zero(XMM)
	eight.loop(b, "satd8", XMM)
	finish(eight.sum)

	Label("satdnot8")
	four := satdState{load: loadWords(wide, true), other: other}
	four.zero(XMM)
	four.loop(b, "satd4", XMM)
	finish(four.sum)
}

// finish adds the four numbers of x and returns them.
func finish(x Register) {
	v := x.(VecVirtual)
	y := XMM()
	VPSHUFD(Imm(0x4E), v, y)
	VPADDD(y, v, v)
	VPSHUFD(Imm(0xB1), v, y)
	VPADDD(y, v, v)
	out := GP64()
	VMOVD(v, out.As32()) // clears the upper half
	Store(out, ReturnIndex(0))
	RET()
}

// satdState is what one width needs.
type satdState struct {
	load      func(m Mem, to VecVirtual)
	other     Register // how far from b another block begins, or nil
	sum, ones Register
}

func (s *satdState) zero(vec func() VecVirtual) {
	sum, ones := vec(), vec()
	VPXOR(sum, sum, sum)
	VPCMPEQW(ones, ones, ones)
	VPABSW(ones, ones)
	s.sum, s.ones = sum, ones
}

// loop goes through the rows four at a time.
func (s *satdState) loop(b block, label string, vec func() VecVirtual) {
	sum, ones := s.sum.(VecVirtual), s.ones.(VecVirtual)
	Label(label)
	var d [4]VecVirtual
	y, z := vec(), vec()
	for i := range d {
		d[i] = vec()
		s.load(b.dstAt(), d[i])
		s.load(b.srcAt(0), y)
		if s.other != nil {
			s.load(Mem{Base: b.src, Index: s.other, Scale: 1}, z)
			VPAVGW(z, y, y)
		}
		VPSUBW(y, d[i], d[i])
		ADDQ(b.stride, b.dst)
		ADDQ(b.step, b.src)
	}
	a, c, e, f := vec(), vec(), vec(), vec()
	VPADDW(d[1], d[0], a)
	VPSUBW(d[1], d[0], c)
	VPADDW(d[3], d[2], e)
	VPSUBW(d[3], d[2], f)
	VPADDW(e, a, d[0])
	VPADDW(f, c, d[1])
	VPSUBW(e, a, d[2])
	VPSUBW(f, c, d[3])
	// Rows to columns, in each 4x4 block.
	VPUNPCKLWD(d[1], d[0], a)
	VPUNPCKHWD(d[1], d[0], c)
	VPUNPCKLWD(d[3], d[2], e)
	VPUNPCKHWD(d[3], d[2], f)
	VPUNPCKLDQ(e, a, d[0])
	VPUNPCKHDQ(e, a, d[1])
	VPUNPCKLDQ(f, c, d[2])
	VPUNPCKHDQ(f, c, d[3])
	VPUNPCKLQDQ(d[2], d[0], a)
	VPUNPCKHQDQ(d[2], d[0], c)
	VPUNPCKLQDQ(d[3], d[1], e)
	VPUNPCKHQDQ(d[3], d[1], f)
	VPADDW(c, a, d[0])
	VPSUBW(c, a, d[1])
	VPADDW(f, e, d[2])
	VPSUBW(f, e, d[3])
	// |p + q| + |p - q| is twice the larger of |p| and |q|.
	for i := range d {
		VPABSW(d[i], d[i])
	}
	VPMAXSW(d[2], d[0], d[0])
	VPMAXSW(d[3], d[1], d[1])
	VPADDW(d[1], d[0], d[0])
	VPMADDWD(ones, d[0], d[0])
	VPADDD(d[0], sum, sum)
	SUBQ(Imm(4), b.h)
	JNZ(LabelRef(label))
}
