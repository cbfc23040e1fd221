// Command asm writes the assembly twins of the kernels on blocks for amd64 with AVX2. Each
// function does what the Go function of the same name without Fast does, for samples of 8 bits
// or, with Wide, of two bytes. Run it with go generate in the folder above.
package main

import (
	"strconv"

	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

func main() {
	ConstraintExpr("amd64")
	copyBlock()
	prefetch()
	fill()
	extend()
	average()
	averageWide()
	sad()
	sadQuarters()
	sadFour()
	sadWide()
	sadFourWide()
	satd()
	Generate()
}

func copyBlock() {
	b := avoblock.Begin("copyFast", attr.NOSPLIT, "copyFast copies w x h bytes.", "")
	b.ByWidth("copy", []int{16, 8, 4, 32, 64, 2}, func(w int) {
		for at := 0; at < w; at += 16 {
			x := XMM()
			switch w {
			case 8:
				VMOVQ(b.SrcAt(0), x)
			case 4:
				VMOVD(b.SrcAt(0), x)
			case 2:
				VPXOR(x, x, x)
				VPINSRW(Imm(0), b.SrcAt(0), x, x)
			default:
				VMOVDQU(b.SrcAt(at), x)
			}
			avoblock.StoreBytes(x, b.DstAt().Offset(at), min(w, 16))
		}
	})
}

func prefetch() {
	TEXT("prefetchFast", attr.NOSPLIT, "func(pix *byte, stride, h int)")
	Pragma("noescape")
	Doc("prefetchFast fetches a cache line of each of h rows.")
	pix, stride, h := Load(Param("pix"), GP64()), Load(Param("stride"), GP64()), Load(Param("h"), GP64())
	Label("prefetch")
	PREFETCHT0(Mem{Base: pix})
	ADDQ(stride, pix)
	DECQ(h)
	JNE(LabelRef("prefetch"))
	RET()
}

// byRows makes a loop for 16, 8 and 4 samples, each row after what begin does.
func byRows(name string, dst, stride, w, h Register, x VecVirtual, disp int, begin func()) {
	for _, width := range []int{16, 8, 4} {
		label := name + string(rune('a'+width))
		if width > 4 {
			CMPQ(w, Imm(uint64(width)))
			JNE(LabelRef("not" + label))
		}
		Label(label)
		begin()
		avoblock.StoreBytes(x, Mem{Base: dst, Disp: disp}, width)
		ADDQ(stride, dst)
		DECQ(h)
		JNZ(LabelRef(label))
		RET()
		if width > 4 {
			Label("not" + label)
		}
	}
}

func fill() {
	TEXT("fillFast", attr.NOSPLIT, "func(dst *byte, stride, w, h int, v uint8)")
	Pragma("noescape")
	Doc("fillFast is fillBlock of 16, 8 or 4 samples in a row.")
	dst, stride := Load(Param("dst"), GP64()), Load(Param("stride"), GP64())
	w, h, v := Load(Param("w"), GP64()), Load(Param("h"), GP64()), GP32()
	Load(Param("v"), v.As8())
	x := XMM()
	VMOVD(v, x)
	VPBROADCASTB(x, x)
	byRows("fill", dst, stride, w, h, x, 0, func() {})
}

func extend() {
	TEXT("extendFast", attr.NOSPLIT, "func(pix *byte, stride, w, h int)")
	Pragma("noescape")
	Doc("extendFast is extendBlock with pix at the sample to the left.")
	pix, stride := Load(Param("pix"), GP64()), Load(Param("stride"), GP64())
	w, h := Load(Param("w"), GP64()), Load(Param("h"), GP64())
	x := XMM()
	byRows("extend", pix, stride, w, h, x, 1, func() { VPBROADCASTB(Mem{Base: pix}, x) })
}

func average() {
	b := avoblock.Begin("averageFast", attr.NOSPLIT, "averageFast is (dst + src + 1) >> 1.", "")
	b.ByWidth("average", []int{16, 8, 4, 2}, func(w int) {
		x, y := XMM(), XMM()
		switch w {
		case 16:
			VMOVDQU(b.DstAt(), x)
			VPAVGB(b.SrcAt(0), x, x)
		case 8:
			VMOVQ(b.DstAt(), x)
			VMOVQ(b.SrcAt(0), y)
			VPAVGB(y, x, x)
		case 4:
			VMOVD(b.DstAt(), x)
			VMOVD(b.SrcAt(0), y)
			VPAVGB(y, x, x)
		case 2:
			VPXOR(x, x, x)
			VPXOR(y, y, y)
			VPINSRW(Imm(0), b.DstAt(), x, x)
			VPINSRW(Imm(0), b.SrcAt(0), y, y)
			VPAVGB(y, x, x)
		}
		avoblock.StoreBytes(x, b.DstAt(), w)
	})
}

// averageWide is average for samples of two bytes.
func averageWide() {
	b := avoblock.Begin("averageWideFast", attr.NOSPLIT, "averageWideFast is averageFast for samples of two bytes.", "")
	b.Double()
	b.ByWidth("averagewide", []int{16, 8, 4, 2}, func(w int) {
		x, y := avoblock.LoadWide(b.DstAt(), w), avoblock.LoadWide(b.SrcAt(0), w)
		VPAVGW(y, x, x)
		avoblock.StoreWide(x, b.DstAt(), w)
	})
}

// compare begins a function that compares blocks a and b.
func compare(name, doc, more string) avoblock.Block {
	TEXT(name, attr.NOSPLIT, "func(a *byte, stride int, b *byte, step int, w, h int"+more+") int")
	Pragma("noescape")
	Doc(doc)
	return avoblock.LoadBlock("a", "b")
}

// sad adds absolute differences, 16 or 8 samples a row.
func sad() {
	b := compare("sadFast", "sadFast is the sum of absolute differences of blocks 16 or 8 samples wide.", "")
	sum, x := XMM(), XMM()
	VPXOR(sum, sum, sum)
	CMPQ(b.W, Imm(16))
	JNE(LabelRef("sad8"))
	b.Loop("sad16", func() {
		VMOVDQU(b.DstAt(), x)
		VPSADBW(b.SrcAt(0), x, x)
		VPADDQ(x, sum, sum)
	})
	y := XMM()
	VPSRLDQ(Imm(8), sum, y)
	VPADDQ(y, sum, sum)
	JMP(LabelRef("sadend"))
	b.Loop("sad8", func() {
		VMOVQ(b.DstAt(), x)
		VMOVQ(b.SrcAt(0), y)
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
	a := avoblock.Block{Dst: Load(Param("a"), GP64()), Stride: Load(Param("stride"), GP64()), Step: Load(Param("step"), GP64())}
	a.Double()
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
		VMOVDQU(Mem{Base: a.Dst}, x)
		for i := range from {
			VPSUBW(Mem{Base: from[i]}, x, y)
			VPABSW(y, y)
			VPADDW(y, sum[i], sum[i])
			ADDQ(a.Step, from[i])
		}
		ADDQ(a.Stride, a.Dst)
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

// sadWide is sad of samples of two bytes.
func sadWide() {
	b := compare("sadWideFast", "sadWideFast is sadFast for samples of two bytes.", "")
	b.Double()
	for _, w := range []int{16, 8} {
		vec := YMM
		if w == 8 {
			Label("sadwidenot16")
			vec = XMM
		} else {
			CMPQ(b.W, Imm(16))
			JNE(LabelRef("sadwidenot16"))
		}
		var s satdState
		s.zero(vec)
		sum, ones, x := s.sum.(VecVirtual), s.ones.(VecVirtual), vec()
		b.Loop("sadwide"+string(rune('a'+w)), func() {
			VMOVDQU(b.DstAt(), x)
			VPSUBW(b.SrcAt(0), x, x)
			VPABSW(x, x)
			VPMADDWD(ones, x, x)
			VPADDD(x, sum, sum)
		})
		if w == 16 {
			avoblock.Fold(sum)
		}
		avoblock.Finish(sum.AsX())
	}
}

// satd adds the Hadamard transforms of the differences in blocks of 4x4.
func satd() {
	satdBytes("satdFast", "satdFast is satdBlock of blocks 16, 8 or 4 samples wide.", false)
	satdBytes("satdMeanFast", "satdMeanFast is satdMean of blocks 16, 8 or 4 samples wide.", true)
	satdWords("satdWideFast", "satdWideFast is satdFast for samples of two bytes.", false)
	satdWords("satdMeanWideFast", "satdMeanWideFast is satdMeanFast for samples of two bytes.", true)
}

// compareMean begins a function that compares with a block or, with mean, with the mean of two. The second begins other
// bytes after the first; other is nil where there is none.
func compareMean(name, doc string, wide, mean bool) (b avoblock.Block, other Register) {
	more := ""
	if mean {
		more = ", c *byte"
	}
	b = compare(name, doc, more)
	if wide {
		b.Double()
	}
	if mean {
		other = Load(Param("c"), GP64())
		SUBQ(b.Src, other)
	}
	return b, other
}

// satdBytes makes the first butterfly of each row where bytes become words: sums of neighbours in the first half of a
// vector, differences in the second, which is why a row is loaded into both.
func satdBytes(name, doc string, mean bool) {
	b, other := compareMean(name, doc, false, mean)
	signs := GLOBL(name+"Signs", attr.RODATA|attr.NOPTR)
	for i := range 48 { // of 16 and of 8 samples from byte 8 on; from byte 32 on of 4 samples
		sign := I8(1)
		if (i >= 16 && i < 32 || i >= 36) && i%2 == 1 {
			sign = -1
		}
		if i >= 40 {
			sign = 0
		}
		DATA(i, sign)
	}
	for _, w := range []struct {
		samples, signs int
		vec            func() VecVirtual
		twice          func(fromTo ...Op)
	}{{16, 0, YMM, func(o ...Op) { VBROADCASTI128(o[0], o[1]) }}, {8, 8, XMM, VPBROADCASTQ}, {4, 32, XMM, VPBROADCASTD}} {
		next, loop := name+"not"+strconv.Itoa(w.samples), name+strconv.Itoa(w.samples)
		if w.samples > 4 {
			CMPQ(b.W, Imm(uint64(w.samples)))
			JNE(LabelRef(next))
		}
		sum, even, pairs := w.vec(), w.vec(), w.vec()
		VPXOR(sum, sum, sum)
		VPCMPEQD(even, even, even)
		VPSRLD(Imm(31), even, even) // the words 1 and 0 in turns
		VMOVDQU(signs.Offset(w.signs), pairs)
		Label(loop)
		var d [4]VecVirtual
		y, z := w.vec(), w.vec()
		for i := range d {
			d[i] = w.vec()
			w.twice(b.DstAt(), d[i])
			w.twice(b.SrcAt(0), y)
			if other != nil {
				w.twice(Mem{Base: b.Src, Index: other, Scale: 1}, z)
				VPAVGB(z, y, y)
			}
			VPMADDUBSW(pairs, d[i], d[i])
			VPMADDUBSW(pairs, y, y)
			VPSUBW(y, d[i], d[i])
			ADDQ(b.Stride, b.Dst)
			ADDQ(b.Step, b.Src)
		}
		butterflies(&d, w.vec)
		for i := range d { // |p + q| + |p - q| is twice the larger of |p| and |q|, which are neighbours
			VPABSW(d[i], d[i])
			VPSRLD(Imm(16), d[i], y)
			VPMAXSW(y, d[i], d[i])
		}
		VPADDW(d[1], d[0], d[0])
		VPADDW(d[3], d[2], d[2])
		VPADDW(d[2], d[0], d[0])
		VPMADDWD(even, d[0], d[0])
		VPADDD(d[0], sum, sum)
		SUBQ(Imm(4), b.H)
		JNZ(LabelRef(loop))
		if w.samples == 16 {
			avoblock.Fold(sum)
		}
		avoblock.Finish(sum.AsX())
		if w.samples > 4 {
			Label(next)
		}
	}
}

// butterflies transforms columns of four.
func butterflies(d *[4]VecVirtual, vec func() VecVirtual) {
	a, c, e, f := vec(), vec(), vec(), vec()
	VPADDW(d[1], d[0], a)
	VPSUBW(d[1], d[0], c)
	VPADDW(d[3], d[2], e)
	VPSUBW(d[3], d[2], f)
	VPADDW(e, a, d[0])
	VPADDW(f, c, d[1])
	VPSUBW(e, a, d[2])
	VPSUBW(f, c, d[3])
}

// satdWords is satdBytes of samples of two bytes.
func satdWords(name, doc string, mean bool) {
	b, other := compareMean(name, doc, true, mean)
	sixteen := satdState{load: avoblock.LoadWords(true, false), other: other}
	CMPQ(b.W, Imm(16))
	JNE(LabelRef("satdnot16"))
	sixteen.zero(YMM)
	sixteen.loop(b, "satd16", YMM)
	avoblock.Fold(sixteen.sum.(VecVirtual))
	avoblock.Finish(sixteen.sum.(VecVirtual).AsX())

	Label("satdnot16")
	CMPQ(b.W, Imm(8))
	JNE(LabelRef("satdnot8"))
	eight := satdState{load: avoblock.LoadWords(true, false), other: other}
	eight.zero(XMM)
	eight.loop(b, "satd8", XMM)
	avoblock.Finish(eight.sum)

	Label("satdnot8")
	four := satdState{load: avoblock.LoadWords(true, true), other: other}
	four.zero(XMM)
	four.loop(b, "satd4", XMM)
	avoblock.Finish(four.sum)
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
func (s *satdState) loop(b avoblock.Block, label string, vec func() VecVirtual) {
	sum, ones := s.sum.(VecVirtual), s.ones.(VecVirtual)
	Label(label)
	var d [4]VecVirtual
	y, z := vec(), vec()
	for i := range d {
		d[i] = vec()
		s.load(b.DstAt(), d[i])
		s.load(b.SrcAt(0), y)
		if s.other != nil {
			s.load(Mem{Base: b.Src, Index: s.other, Scale: 1}, z)
			VPAVGW(z, y, y)
		}
		VPSUBW(y, d[i], d[i])
		ADDQ(b.Stride, b.Dst)
		ADDQ(b.Step, b.Src)
	}
	butterflies(&d, vec)
	x := avoblock.WordColumns(d[:])
	a, c, e, f := x[0], x[1], x[2], x[3]
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
	SUBQ(Imm(4), b.H)
	JNZ(LabelRef(label))
}
