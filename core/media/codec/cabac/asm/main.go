// Command asm writes the assembly twin of the arithmetic encoder's inner loop for amd64 with
// BMI2. Run it with go generate in the folder above.
package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"

	"github.com/mmcloughlin/avo/attr"
)

func main() {
	ConstraintExpr("amd64")
	encodeBins()
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
