package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"

	"github.com/mmcloughlin/avo/attr"
)

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

// noteFlags writes the flags of four places at a time: the bits of the coefficients
// there say how they are put in order.
func noteFlags() {
	const size = 32 // bytes for each four bits: where words come from, and what is set in them
	orders := GLOBL("flagOrders", attr.RODATA|attr.NOPTR)
	for has := range 16 {
		var from, set [8]int
		n := 0
		for k := range 4 {
			from[n], set[n] = k, has>>k&1
			n++
			if has>>k&1 != 0 {
				from[n] = 4 + k
				n++
			}
		}
		for i, word := range from {
			DATA(size*has+2*i, U16((2*word+1)<<8|2*word))
		}
		for i, bit := range set {
			DATA(size*has+16+2*i, U16(bit))
		}
	}
	TEXT("noteFlagsFast", attr.NOSPLIT, "func(waits, flags *uint16, has uint64, end int)")
	Pragma("noescape")
	Doc("noteFlagsFast is noteFlags for an end of 1 or more.")
	waits, flags := Load(Param("waits"), GP64()), Load(Param("flags"), GP64())
	has, end := Load(Param("has"), GP64()), Load(Param("end"), GP64())
	table, four, at, x := GP64(), GP64(), GP64(), XMM()
	LEAQ(orders, table)
	Label("flags")
	MOVQ(has, four)
	ANDL(Imm(15), four.As32())
	MOVL(four.As32(), at.As32())
	SHLL(Imm(5), at.As32())
	VMOVDQU(Mem{Base: flags}, x)
	VPSHUFB(Mem{Base: table, Index: at, Scale: 1}, x, x)
	VPOR(Mem{Base: table, Index: at, Scale: 1, Disp: 16}, x, x)
	VMOVDQU(x, Mem{Base: waits})
	POPCNTL(four.As32(), four.As32())
	LEAQ(Mem{Base: waits, Index: four, Scale: 2, Disp: 8}, waits)
	ADDQ(Imm(16), flags)
	SHRQ(Imm(4), has)
	SUBQ(Imm(4), end)
	JG(LabelRef("flags"))
	RET()
}
