// Package avoblock is what generators of assembly for blocks of samples share. It runs when
// assembly is generated, never in the program.
package avoblock

import (
	"strconv"

	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"
)

// Block holds the arguments that all functions on blocks have; strides are in bytes.
type Block struct{ Dst, Stride, Src, Step, W, H Register }

const signature = "func(dst *byte, stride int, src *byte, step int, w, h int"

// Begin begins a function that computes one block from another, and loads its arguments.
// Functions with a large stack frame have no attributes, others are NOSPLIT.
func Begin(name string, attributes attr.Attribute, doc, more string) Block {
	TEXT(name, attributes, signature+more+")")
	Pragma("noescape")
	Doc(doc)
	return LoadBlock("dst", "src")
}

// LoadBlock loads the arguments where the two blocks have other names.
func LoadBlock(dst, src string) Block {
	return Block{Load(Param(dst), GP64()), Load(Param("stride"), GP64()), Load(Param(src), GP64()),
		Load(Param("step"), GP64()), Load(Param("w"), GP64()), Load(Param("h"), GP64())}
}

// DstAt returns the address of the row of the destination.
func (b Block) DstAt() Mem { return Mem{Base: b.Dst} }

// SrcAt returns the address offset bytes after the start of the row of the source.
func (b Block) SrcAt(offset int) Mem { return Mem{Base: b.Src, Disp: offset} }

// Loop runs body for every row.
func (b Block) Loop(label string, body func()) {
	Label(label)
	body()
	ADDQ(b.Stride, b.Dst)
	ADDQ(b.Step, b.Src)
	DECQ(b.H)
	JNZ(LabelRef(label))
}

// ByWidth emits one loop for each width, in bytes or samples.
func (b Block) ByWidth(name string, widths []int, body func(w int)) {
	b.ByWidthAfter(name, widths, func(int) {}, body)
}

// ByWidthAfter is ByWidth with what comes before each loop.
func (b Block) ByWidthAfter(name string, widths []int, begin, body func(w int)) {
	for i, w := range widths {
		if i < len(widths)-1 {
			CMPQ(b.W, Imm(uint64(w)))
			JNE(LabelRef(name + "not" + strconv.Itoa(w)))
		}
		begin(w)
		b.Loop(name+strconv.Itoa(w), func() { body(w) })
		VZEROUPPER()
		RET()
		if i < len(widths)-1 {
			Label(name + "not" + strconv.Itoa(w))
		}
	}
}

// StoreBytes writes w bytes of x.
func StoreBytes(x VecVirtual, m Mem, w int) {
	switch w {
	case 16:
		VMOVDQU(x, m)
	case 8:
		VMOVQ(x, m)
	case 4:
		VMOVD(x, m)
	case 2:
		VPEXTRW(Imm(0), x, m)
	}
}

// Words broadcasts the low 16 bits of a register.
func Words(r Register) VecVirtual {
	x := XMM()
	VMOVD(r.(GPVirtual).As32(), x)
	VPBROADCASTW(x, x)
	return x
}

// WordConstant broadcasts a number of 16 bits.
func WordConstant(v int) VecVirtual {
	g := GP64()
	MOVQ(I64(int64(v)), g)
	return Words(g)
}

// Double turns strides in samples of two bytes into bytes.
func (b Block) Double() {
	SHLQ(Imm(1), b.Stride)
	SHLQ(Imm(1), b.Step)
}

// Fold adds the upper half of a vector of double words to the lower half.
func Fold(sum VecVirtual) {
	half, low := XMM(), sum.AsX()
	VEXTRACTI128(Imm(1), sum, half)
	VPADDD(half, low, low)
	VZEROUPPER()
}

// LoadWords returns a function that loads samples into a vector of words, or into half of one.
func LoadWords(wide, half bool) func(m Mem, to VecVirtual) {
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

// Finish adds the four numbers of x and returns them.
func Finish(x Register) {
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

// LoadWide reads w samples of two bytes into a vector that has room for them.
func LoadWide(m Mem, w int) VecVirtual {
	switch w {
	case 16:
		y := YMM()
		VMOVDQU(m, y)
		return y
	case 8:
		x := XMM()
		VMOVDQU(m, x)
		return x
	case 4:
		x := XMM()
		VMOVQ(m, x)
		return x
	}
	x := XMM()
	VMOVD(m, x)
	return x
}

// StoreWide writes w samples of two bytes.
func StoreWide(v VecVirtual, m Mem, w int) {
	switch w {
	case 16, 8:
		VMOVDQU(v, m)
	case 4:
		VMOVQ(v, m)
	default:
		VMOVD(v, m)
	}
}

// Alike is another register of the size of v.
func Alike(v VecVirtual) VecVirtual {
	if v.Size() == 32 {
		return YMM()
	}
	return XMM()
}

// Elements are what vectors are joined by: how the lower halves are, and the upper ones.
type Elements struct{ low, high func(ops ...Op) }

// The elements of two sizes.
var (
	ByteElements = Elements{func(ops ...Op) { VPUNPCKLBW(ops[0], ops[1], ops[2]) }, func(ops ...Op) { VPUNPCKHBW(ops[0], ops[1], ops[2]) }}
	WordElements = Elements{func(ops ...Op) { VPUNPCKLWD(ops[0], ops[1], ops[2]) }, func(ops ...Op) { VPUNPCKHWD(ops[0], ops[1], ops[2]) }}
)

// Transposed joins vectors that are half their number apart, element by element, and does the same with the
// lower and the upper halves of that until single ones are left.
func Transposed(list []VecVirtual, by Elements) []VecVirtual {
	n := len(list) / 2
	if n == 0 {
		return list
	}
	var low, high []VecVirtual
	for k := range n {
		l, h := Alike(list[k]), Alike(list[k])
		by.low(list[k+n], list[k], l)
		by.high(list[k+n], list[k], h)
		low, high = append(low, l), append(high, h)
	}
	return append(Transposed(low, by), Transposed(high, by)...)
}

// WordColumns turns four rows of words into columns, of each 4x4 block: there are two in each half of a vector.
func WordColumns(rows []VecVirtual) (columns [4]VecVirtual) {
	t := Transposed(rows, WordElements) // two columns of the first block, its other two, and those of the second block
	for i := range columns {
		columns[i] = Alike(rows[0])
	}
	VPUNPCKLQDQ(t[2], t[0], columns[0])
	VPUNPCKHQDQ(t[2], t[0], columns[1])
	VPUNPCKLQDQ(t[3], t[1], columns[2])
	VPUNPCKHQDQ(t[3], t[1], columns[3])
	return columns
}

// Place returns where a parameter of the function is in memory.
func Place(name string) Mem {
	b, err := Param(name).Resolve()
	if err != nil {
		panic(err)
	}
	return b.Addr
}
