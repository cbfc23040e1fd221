// Command asm writes the assembly twins of the arithmetic encoder's inner loop and of the decoding of
// coefficients for amd64 with BMI2. Run it with go generate in the folder above.
package main

import (
	"fmt"

	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

func main() {
	ConstraintExpr("amd64")
	encodeBins()
	coefficients()
	blocks()
	residual()
	Generate()
}

// encodeBins writes the loop of the arithmetic encoder.
func encodeBins() {
	const (
		lowAt, rngAt, pendingAt = 0, 8, 16 // in engine
		bypassed                = 510
		full                    = 40
	)
	TEXT("encodeBinsFast", attr.NOSPLIT, "func(e *byte, bins *uint16, n int, state *[512]uint8, steps *byte) (done int)")
	Pragma("noescape")
	Doc("encodeBinsFast is encodeBins with steps for binSteps.")
	e := Load(Param("e"), GP64())
	bins, end := Load(Param("bins"), GP64()), Load(Param("n"), GP64())
	state, steps := Load(Param("state"), GP64()), Load(Param("steps"), GP64())
	i := GP64() // of the bin, from the end on
	LEAQ(Mem{Base: bins, Index: end, Scale: 2}, bins)
	MOVQ(end, i)
	NEGQ(i)
	low, rng, pending := GP64(), GP64(), GP64()
	MOVQ(Mem{Base: e, Disp: lowAt}, low)
	MOVQ(Mem{Base: e, Disp: rngAt}, rng)
	MOVQ(Mem{Base: e, Disp: pendingAt}, pending)
	bin, ctx, s, lps, t, n := GP64(), GP64(), GP64(), GP64(), GP64(), GP64()

	Label("bin")
	MOVWLZX(Mem{Base: bins, Index: i, Scale: 2}, bin.As32())
	MOVL(bin.As32(), ctx.As32())
	SHRL(Imm(1), ctx.As32())
	CMPL(ctx.As32(), U32(bypassed))
	JAE(LabelRef("without"))
	MOVBLZX(Mem{Base: state, Index: ctx, Scale: 1}, s.As32())
	XORL(s.As32(), bin.As32())
	ANDL(Imm(1), bin.As32()) // whether it is the least probable symbol
	LEAQ(Mem{Base: steps, Index: s, Scale: 8}, s)
	MOVL(rng.As32(), t.As32())
	SHRL(Imm(6), t.As32()) // 4 to 7
	MOVBLZX(Mem{Base: s, Index: t, Scale: 1, Disp: -4}, lps.As32())
	MOVBLZX(Mem{Base: s, Index: bin, Scale: 1, Disp: 4}, t.As32())
	MOVB(t.As8(), Mem{Base: state, Index: ctx, Scale: 1})
	SUBL(lps.As32(), rng.As32())
	NEGL(bin.As32())
	ANDL(rng.As32(), bin.As32())
	CMOVLNE(lps.As32(), rng.As32())
	ADDQ(bin, low)

	Label("renormalise")
	BSRL(rng.As32(), t.As32())
	MOVL(U32(8), n.As32())
	SUBL(t.As32(), n.As32())
	SHLXL(n.As32(), rng.As32(), rng.As32())
	SHLXQ(n, low, low)
	ADDQ(n, pending)

	Label("check")
	CMPQ(pending, Imm(full))
	JGE(LabelRef("full"))
	INCQ(i)
	JNZ(LabelRef("bin"))
	JMP(LabelRef("leave"))

	Label("full")
	INCQ(i)
	Label("leave")
	MOVQ(low, Mem{Base: e, Disp: lowAt})
	MOVQ(rng, Mem{Base: e, Disp: rngAt})
	MOVQ(pending, Mem{Base: e, Disp: pendingAt})
	ADDQ(Load(Param("n"), GP64()), i)
	Store(i, ReturnIndex(0))
	RET()

	Label("without")
	JNE(LabelRef("terminate"))
	ANDL(Imm(1), bin.As32())
	NEGL(bin.As32())
	ANDL(rng.As32(), bin.As32())
	LEAQ(Mem{Base: bin, Index: low, Scale: 2}, low)
	INCQ(pending)
	JMP(LabelRef("check"))

	Label("terminate")
	SUBL(Imm(2), rng.As32())
	JMP(LabelRef("renormalise"))
}

// Places in Decoder and in Contexts.
const (
	offsetAt, spareAt, rngAt, posAt, dataAt, lengthAt, stateAt = 0, 8, 16, 24, 40, 48, 64
	sigAt, lastAt, oneAt, largeAt, afterOneAt, afterLargeAt    = 0, 128, 256, 272, 288, 296

	setAt, codedAt, moreAt, baseAt, numbersAt, placesAt = 0, 8, 16, 24, 32, 40 // in blockRun
	numbersRow                                          = 8
)

// decoding is the arithmetic decoder in registers: its temporaries are free between bins.
type decoding struct {
	c, offset, spare, rng, pos, steps GPVirtual
	bin                               GPVirtual // the result
	ctx, row, x, y                    GPVirtual // temporaries
	end                               Mem       // of the data
	refills                           int
	later                             []func() // code out of the way
}

// newDecoding allocates the registers.
func newDecoding() *decoding {
	return &decoding{c: GP64(), offset: GP64(), spare: GP64(), rng: GP64(), pos: GP64(), steps: GP64(), bin: GP64(), ctx: GP64(), row: GP64(), x: GP64(), y: GP64()}
}

// load loads the state of the parameter c; store writes it back.
func (d *decoding) load() {
	d.end = AllocLocal(8)
	Load(Param("c"), d.c)
	Load(Param("steps"), d.steps)
	MOVQ(Mem{Base: d.c, Disp: offsetAt}, d.offset)
	MOVQ(Mem{Base: d.c, Disp: spareAt}, d.spare)
	MOVL(Mem{Base: d.c, Disp: rngAt}, d.rng.As32())
	MOVQ(Mem{Base: d.c, Disp: dataAt}, d.pos)
	MOVQ(d.pos, d.x)
	ADDQ(Mem{Base: d.c, Disp: lengthAt}, d.x)
	MOVQ(d.x, d.end)
	ADDQ(Mem{Base: d.c, Disp: posAt}, d.pos)
}

func (d *decoding) store() {
	MOVQ(d.offset, Mem{Base: d.c, Disp: offsetAt})
	MOVQ(d.spare, Mem{Base: d.c, Disp: spareAt})
	MOVL(d.rng.As32(), Mem{Base: d.c, Disp: rngAt})
	SUBQ(Mem{Base: d.c, Disp: dataAt}, d.pos)
	MOVQ(d.pos, Mem{Base: d.c, Disp: posAt})
}

// finish writes the code that is out of the way.
func (d *decoding) finish() {
	for i := 0; i < len(d.later); i++ { // it may grow
		d.later[i]()
	}
}

// refill appends 32 bits if fewer than 16 are spare. It changes x and row.
func (d *decoding) refill() {
	k := d.refills
	d.refills++
	at := func(name string) string { return fmt.Sprintf("%s%d", name, k) }
	CMPQ(d.spare, Imm(16))
	JLT(LabelRef(at("refill")))
	Label(at("filled"))
	d.later = append(d.later, func() {
		Label(at("refill"))
		SHLQ(Imm(32), d.offset)
		ADDQ(Imm(32), d.spare)
		LEAQ(Mem{Base: d.pos, Disp: 4}, d.x)
		CMPQ(d.x, d.end)
		JA(LabelRef(at("tail")))
		MOVL(Mem{Base: d.pos}, d.x.As32())
		BSWAPL(d.x.As32())
		ORQ(d.x, d.offset)
		ADDQ(Imm(4), d.pos)
		JMP(LabelRef(at("filled")))

		Label(at("tail")) // after the end of the data there are zeros
		XORL(d.x.As32(), d.x.As32())
		for i := range 4 {
			past := fmt.Sprintf("%spast%d", at("tail"), i)
			SHLL(Imm(8), d.x.As32())
			CMPQ(d.pos, d.end)
			JAE(LabelRef(past))
			MOVBLZX(Mem{Base: d.pos}, d.row.As32())
			ORL(d.row.As32(), d.x.As32())
			Label(past)
			INCQ(d.pos)
		}
		ORQ(d.x, d.offset)
		JMP(LabelRef(at("filled")))
	})
}

// decision decodes a bin with context ctx into bin.
func (d *decoding) decision() {
	s, lps, x, y := d.bin, d.row, d.x, d.y
	MOVBLZX(Mem{Base: d.c, Index: d.ctx, Scale: 1, Disp: stateAt}, s.As32())
	MOVL(Mem{Base: d.steps, Index: s, Scale: 8}, lps.As32()) // those of four ranges
	MOVL(d.rng.As32(), x.As32())
	SHRL(Imm(3), x.As32())
	ANDL(Imm(24), x.As32())
	SHRXL(x.As32(), lps.As32(), lps.As32())
	MOVBLZX(lps.As8(), lps.As32())
	SUBL(lps.As32(), d.rng.As32())
	SHLXQ(d.spare, d.rng, x)
	MOVQ(d.offset, y)
	SUBQ(x, y) // not negative: it is the least probable symbol
	CMOVQPL(y, d.offset)
	CMOVLPL(lps.As32(), d.rng.As32())
	SHRQ(Imm(63), y)
	XORL(Imm(1), y.As32())
	LEAQ(Mem{Base: d.steps, Index: s, Scale: 8}, x)
	MOVBLZX(Mem{Base: x, Index: y, Scale: 1, Disp: 4}, x.As32())
	MOVB(x.As8(), Mem{Base: d.c, Index: d.ctx, Scale: 1, Disp: stateAt})
	ANDL(Imm(1), s.As32())
	XORL(y.As32(), s.As32())
	BSRL(d.rng.As32(), x.As32())
	MOVL(U32(8), y.As32())
	SUBL(x.As32(), y.As32())
	SHLXL(y.As32(), d.rng.As32(), d.rng.As32())
	SUBQ(y, d.spare)
	d.refill()
}

// bypass decodes a bin without a context: y is 0 for 1, -1 for 0.
func (d *decoding) bypass() {
	DECQ(d.spare)
	SHLXQ(d.spare, d.rng, d.x)
	MOVQ(d.offset, d.y)
	SUBQ(d.x, d.y)
	CMOVQPL(d.y, d.offset)
	SARQ(Imm(63), d.y)
	d.refill()
}

// coefficients writes the decoding of a block of coefficients.
func coefficients() {
	TEXT("coefficientsFast", attr.NOSPLIT, "func(c *byte, coded int, t *byte, scan *uint8, last int, out, scale *int32, round int32, shift int, steps *byte) int")
	Pragma("noescape")
	Doc("coefficientsFast is coefficients with steps for binSteps; last is len(scan)-1, and round what is added before the shift.")
	d := newDecoding()
	count := AllocLocal(8)
	d.load()
	Load(Param("coded"), d.ctx)
	TESTQ(d.ctx, d.ctx)
	JS(LabelRef("coded"))
	d.decision()
	MOVQ(d.bin, count)
	TESTL(d.bin.As32(), d.bin.As32())
	JZ(LabelRef("parsed"))
	Label("coded")
	d.block(count, func() {
		Label("parsed")
		d.store()
		MOVQ(count, d.x)
		Store(d.x, ReturnIndex(0))
		RET()
	})
}

// blocks writes the decoding of a set of blocks.
func blocks() {
	TEXT("blocksFast", attr.NOSPLIT, "func(c, r *byte, t *byte, scan *uint8, last int, out, scale *int32, round int32, shift int, steps *byte)")
	Pragma("noescape")
	Doc("blocksFast is Blocks for the blockRun r, otherwise as coefficientsFast.")
	d := newDecoding()
	count, first, number := AllocLocal(8), AllocLocal(8), AllocLocal(8)
	out := avoblock.Place("out")
	d.load()
	MOVQ(out, d.x)
	MOVQ(d.x, first)

	Label("block")
	Load(Param("r"), d.x)
	BSFQ(Mem{Base: d.x, Disp: setAt}, d.y)
	JZ(LabelRef("leave"))
	BLSRQ(Mem{Base: d.x, Disp: setAt}, d.row)
	MOVQ(d.row, Mem{Base: d.x, Disp: setAt})
	MOVQ(Mem{Base: d.x, Disp: placesAt}, d.row)
	MOVBLZX(Mem{Base: d.row, Index: d.y, Scale: 1}, d.row.As32())
	ADDQ(Mem{Base: d.x, Disp: numbersAt}, d.row)
	MOVQ(d.row, number)
	SHLQ(Imm(6), d.y)
	ADDQ(first, d.y)
	MOVQ(d.y, out)
	// The context: one more where the block to the left has coefficients, two more where the one above has.
	MOVQ(Mem{Base: d.x, Disp: baseAt}, d.ctx)
	CMPB(Mem{Base: d.row, Disp: -1}, Imm(1))
	SBBQ(I8(-1), d.ctx)
	CMPB(Mem{Base: d.row, Disp: -numbersRow}, Imm(1))
	SBBQ(I8(-1), d.ctx)
	CMPB(Mem{Base: d.row, Disp: -numbersRow}, Imm(1))
	SBBQ(I8(-1), d.ctx)
	d.decision()
	TESTL(d.bin.As32(), d.bin.As32())
	JZ(LabelRef("block"))
	d.block(count, func() {
		MOVQ(count, d.x)
		MOVQ(number, d.y)
		MOVB(d.x.As8(), Mem{Base: d.y})
		MOVQ(out, d.row) // which block it was
		MOVQ(d.row, d.y)
		SUBQ(first, d.y)
		SHRQ(Imm(6), d.y)
		Load(Param("r"), d.ctx)
		MOVQ(Mem{Base: d.ctx, Disp: codedAt}, d.bin)
		BTSQ(d.y, d.bin)
		MOVQ(d.bin, Mem{Base: d.ctx, Disp: codedAt})
		CMPQ(d.x, Imm(1))
		JNE(LabelRef("more"))
		CMPL(Mem{Base: d.row}, Imm(0))
		JNE(LabelRef("block"))
		Label("more")
		MOVQ(Mem{Base: d.ctx, Disp: moreAt}, d.bin)
		BTSQ(d.y, d.bin)
		MOVQ(d.bin, Mem{Base: d.ctx, Disp: moreAt})
		JMP(LabelRef("block"))

		Label("leave")
		d.store()
		RET()
	})
}

// block decodes the coefficients of a coded block and their number, and goes on with then.
func (d *decoding) block(count Mem, then func()) {
	places := AllocLocal(64)
	// The significance map.
	t, i, n := GP64(), GP64(), GP64()
	Load(Param("t"), t)
	XORL(i.As32(), i.As32())
	XORL(n.As32(), n.As32())
	place := places.Idx(n, 1)
	Label("significant")
	CMPQ(i, avoblock.Place("last"))
	JGE(LabelRef("inferred"))
	MOVWLZX(Mem{Base: t, Index: i, Scale: 2, Disp: sigAt}, d.ctx.As32())
	d.decision()
	TESTL(d.bin.As32(), d.bin.As32())
	JZ(LabelRef("insignificant"))
	MOVB(i.As8(), place)
	INCQ(n)
	MOVWLZX(Mem{Base: t, Index: i, Scale: 2, Disp: lastAt}, d.ctx.As32())
	d.decision()
	TESTL(d.bin.As32(), d.bin.As32())
	JNZ(LabelRef("levels"))
	Label("insignificant")
	INCQ(i)
	JMP(LabelRef("significant"))
	Label("inferred")
	MOVB(i.As8(), place)
	INCQ(n)

	// The levels, from the last one on.
	Label("levels")
	MOVQ(n, count)
	node, level := GP64(), GP64()
	XORL(node.As32(), node.As32())
	Label("level")
	Load(Param("t"), d.x)
	MOVWLZX(Mem{Base: d.x, Index: node, Scale: 2, Disp: oneAt}, d.ctx.As32())
	d.decision()
	Load(Param("t"), d.x)
	MOVL(U32(1), level.As32())
	TESTL(d.bin.As32(), d.bin.As32())
	JNZ(LabelRef("large"))
	MOVBLZX(Mem{Base: d.x, Index: node, Scale: 1, Disp: afterOneAt}, node.As32())
	Label("sign")
	d.bypass()
	NOTL(d.y.As32()) // -1: negative
	XORL(d.y.As32(), level.As32())
	SUBL(d.y.As32(), level.As32())
	DECQ(n)
	MOVBLZX(place, d.x.As32())
	Load(Param("scan"), d.y)
	MOVBLZX(Mem{Base: d.y, Index: d.x, Scale: 1}, d.x.As32())
	Load(Param("scale"), d.y)
	IMULL(Mem{Base: d.y, Index: d.x, Scale: 4}, level.As32())
	ADDL(avoblock.Place("round"), level.As32())
	Load(Param("shift"), d.row)
	SARXL(d.row.As32(), level.As32(), level.As32())
	Load(Param("out"), d.y)
	MOVL(level.As32(), Mem{Base: d.y, Index: d.x, Scale: 4})
	TESTQ(n, n)
	JNZ(LabelRef("level"))

	then()

	Label("large") // up to 14 in unary
	INCL(level.As32())
	Load(Param("t"), d.x)
	MOVWLZX(Mem{Base: d.x, Index: node, Scale: 2, Disp: largeAt}, d.ctx.As32())
	Label("unary")
	d.decision()
	TESTL(d.bin.As32(), d.bin.As32())
	JZ(LabelRef("stopped"))
	INCL(level.As32())
	CMPL(level.As32(), Imm(15))
	JNE(LabelRef("unary"))

	k := d.bin // of an Exp-Golomb code
	XORL(k.As32(), k.As32())
	Label("prefix")
	d.bypass()
	TESTL(d.y.As32(), d.y.As32())
	JNZ(LabelRef("suffix"))
	MOVL(U32(1), d.x.As32())
	SHLXL(k.As32(), d.x.As32(), d.x.As32())
	ADDL(d.x.As32(), level.As32())
	INCL(k.As32())
	CMPL(k.As32(), Imm(24))
	JBE(LabelRef("prefix"))
	JMP(LabelRef("stopped"))
	Label("suffix")
	DECL(k.As32())
	JS(LabelRef("stopped"))
	d.bypass()
	INCL(d.y.As32())
	SHLXL(k.As32(), d.y.As32(), d.y.As32())
	ADDL(d.y.As32(), level.As32())
	JMP(LabelRef("suffix"))

	Label("stopped")
	Load(Param("t"), d.x)
	MOVBLZX(Mem{Base: d.x, Index: node, Scale: 1, Disp: afterLargeAt}, node.As32())
	JMP(LabelRef("sign"))
	d.finish()
}
