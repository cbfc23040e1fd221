package main

import (
	"fmt"

	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"
)

// Places in Residual, in Scan, and in its sub-blocks.
const (
	scanAt, outAt, factorAt, shiftAt, hiddenAt, allCodedAt, failedAt = 0, 8, 32, 40, 48, 64, 72

	lastXAt, lastYAt, codedSubAt, greater1At, greater2At, lastShiftAt = 128, 130, 132, 134, 136, 138
	subsAt, innerAt, subAtAt, coefAtAt, longestAt, furtherAt          = 140, 652, 684, 748, 764, 765

	placeAt, rightAt, belowAt, firstAt = 0, 1, 2, 4
)

// residual writes the decoding of a block of H.265. It goes through the sub-blocks, in each of them through the
// flags of its coefficients, then through its levels.
func residual() {
	TEXT("residualFast", attr.NOSPLIT, "func(c, r *byte, steps *byte)")
	Pragma("noescape")
	Doc("residualFast is residual with steps for binSteps.")
	d := newDecoding()
	d.load()
	var f residualFrame
	for _, v := range []*Mem{&f.lastX, &f.lastSub, &f.lastCoef, &f.sub, &f.coded, &f.greater, &f.inferred, &f.set, &f.most, &f.signed, &f.second, &f.hidden, &f.larger, &f.firstLarger, &f.rest, &f.signs, &f.rice, &f.round} {
		*v = AllocLocal(8)
	}
	r := GP64()
	Load(Param("r"), r)
	XORL(d.x.As32(), d.x.As32())
	MOVQ(d.x, f.coded)
	MOVQ(Mem{Base: r, Disp: shiftAt}, d.y)
	BTSQ(d.y, d.x)
	SHRQ(Imm(1), d.x)
	MOVQ(d.x, f.round)
	MOVL(U32(1), d.x.As32())
	MOVQ(d.x, f.greater)
	d.last(&f)

	Label("sub")
	d.subBlock(&f)
	d.levels(&f)
	Label("next")
	DECQ(f.sub)
	JNS(LabelRef("sub"))
	Load(Param("r"), r)
	MOVQ(f.coded, d.x)
	MOVQ(d.x, Mem{Base: r, Disp: allCodedAt})
	d.store()
	RET()
	d.finish()
}

// residualFrame are variables of residual in memory: where the last coefficient is; the sub-block, the sub-blocks that
// are coded, greater1Ctx after the one before, whether a level of this one is inferred, the places of its levels in scan
// order and how many of these have a greater1 flag and a sign, the context of the greater2 flag, whether a sign is
// hidden; which levels are larger than 1, the first of them, which have a remaining part, the signs, the Rice parameter,
// and what is added before the shift.
type residualFrame struct {
	lastX, lastSub, lastCoef                                         Mem
	sub, coded, greater, inferred, set, most, signed, second, hidden Mem
	larger, firstLarger, rest, signs, rice, round                    Mem
}

// entry loads the scan into scan, and the address of the entry of the sub-block into at.
func (f *residualFrame) entry(scan, at GPVirtual) {
	Load(Param("r"), scan)
	MOVQ(Mem{Base: scan, Disp: scanAt}, scan)
	MOVQ(f.sub, at)
	LEAQ(Mem{Base: scan, Index: at, Scale: 8, Disp: subsAt}, at)
}

// last writes the decoding of where the last coefficient is.
func (d *decoding) last(f *residualFrame) {
	scan, n := GP64(), GP64()
	Load(Param("r"), scan)
	MOVQ(Mem{Base: scan, Disp: scanAt}, scan)
	for i, first := range []int{lastXAt, lastYAt} {
		at := func(name string) string { return fmt.Sprintf("%s%d", name, i) }
		XORL(n.As32(), n.As32())
		Label(at("prefix"))
		MOVBLZX(Mem{Base: scan, Disp: lastShiftAt}, d.x.As32())
		SHRXQ(d.x, n, d.ctx)
		MOVWLZX(Mem{Base: scan, Disp: first}, d.x.As32())
		ADDQ(d.x, d.ctx)
		d.decision()
		TESTL(d.bin.As32(), d.bin.As32())
		JZ(LabelRef(at("prefixed")))
		INCL(n.As32())
		CMPB(n.As8(), Mem{Base: scan, Disp: longestAt})
		JNE(LabelRef(at("prefix")))
		Label(at("prefixed"))
		if i == 0 {
			MOVQ(n, f.lastX)
		}
	}
	x, y, count := GP64(), n, GP64()
	MOVQ(f.lastX, x)
	d.coordinate("x", x, count)
	d.coordinate("y", y, count)
	for _, v := range []struct {
		shift, mask, row uint64
		table            int
		to               Mem
	}{{2, 7, 3, subAtAt, f.lastSub}, {0, 3, 2, coefAtAt, f.lastCoef}} {
		MOVL(x.As32(), d.x.As32())
		MOVL(y.As32(), d.y.As32())
		SHRL(Imm(v.shift), d.x.As32())
		SHRL(Imm(v.shift), d.y.As32())
		ANDL(Imm(v.mask), d.x.As32())
		ANDL(Imm(v.mask), d.y.As32())
		SHLL(Imm(v.row), d.y.As32())
		ADDL(d.y.As32(), d.x.As32())
		MOVBLZX(Mem{Base: scan, Index: d.x, Scale: 1, Disp: v.table}, d.x.As32())
		MOVQ(d.x, v.to)
	}
	MOVQ(f.lastSub, d.x)
	MOVQ(d.x, f.sub)
}

// coordinate writes the decoding of what follows the prefix of a coordinate, which becomes the coordinate.
func (d *decoding) coordinate(name string, v, count GPVirtual) {
	whole, bin := "whole"+name, "bin"+name
	CMPL(v.As32(), Imm(3))
	JLS(LabelRef(whole))
	MOVL(v.As32(), count.As32())
	SHRL(Imm(1), count.As32())
	ANDL(Imm(1), v.As32())
	ORL(Imm(2), v.As32())
	Label(bin)
	DECL(count.As32())
	JZ(LabelRef(whole))
	d.bypass()
	LEAL(Mem{Base: d.y, Index: v, Scale: 2, Disp: 1}, v.As32())
	JMP(LabelRef(bin))
	Label(whole)
}

// subBlock writes the decoding of which coefficients of a sub-block have levels, into f.set. One without levels
// ends in next.
func (d *decoding) subBlock(f *residualFrame) {
	contexts, k, set := GP64(), GP64(), GP64()
	f.entry(contexts, d.row)
	// Which neighbours are coded.
	MOVQ(f.coded, d.bin)
	MOVBLZX(Mem{Base: d.row, Disp: rightAt}, d.x.As32())
	SHRXQ(d.x, d.bin, d.ctx)
	MOVBLZX(Mem{Base: d.row, Disp: belowAt}, d.x.As32())
	SHRXQ(d.x, d.bin, d.y)
	ANDL(Imm(1), d.ctx.As32())
	ANDL(Imm(1), d.y.As32())
	LEAQ(Mem{Base: d.ctx, Index: d.y, Scale: 2}, d.x) // 0 to 3
	ORL(d.y.As32(), d.ctx.As32())
	MOVWLZX(Mem{Base: contexts, Disp: codedSubAt}, d.y.As32())
	ADDQ(d.y, d.ctx) // of coded_sub_block_flag
	SHLQ(Imm(4), d.x)
	ADDQ(d.x, contexts) // sig is at the start of the scan
	MOVQ(f.sub, d.y)
	XORL(set.As32(), set.As32())
	MOVL(U32(15), k.As32())
	MOVQ(set, f.inferred)
	CMPQ(d.y, f.lastSub)
	JE(LabelRef("last"))
	TESTQ(d.y, d.y)
	JZ(LabelRef("first"))
	d.decision()
	TESTL(d.bin.As32(), d.bin.As32())
	JZ(LabelRef("next"))
	MOVQ(d.bin, f.inferred)
	f.mark(d)
	JMP(LabelRef("flag"))

	Label("last") // the last one with levels
	MOVQ(f.lastCoef, k)
	BTSQ(k, set)
	DECQ(k)
	TESTQ(d.y, d.y)
	JNZ(LabelRef("begin"))
	Label("first") // that of the first coefficient of all
	ADDQ(Imm(64), contexts)
	Label("begin")
	f.mark(d)
	TESTQ(k, k)
	JS(LabelRef("mapped"))

	// Most flags are the more probable one: a branch that is foretold does not wait for the state before.
	Label("flag")
	MOVBLZX(Mem{Base: contexts, Index: k, Scale: 1}, d.ctx.As32())
	MOVBLZX(Mem{Base: d.c, Index: d.ctx, Scale: 1, Disp: stateAt}, d.bin.As32())
	MOVL(Mem{Base: d.steps, Index: d.bin, Scale: 8}, d.row.As32())
	MOVL(d.rng.As32(), d.x.As32())
	SHRL(Imm(3), d.x.As32())
	ANDL(Imm(24), d.x.As32())
	SHRXL(d.x.As32(), d.row.As32(), d.row.As32())
	MOVBLZX(d.row.As8(), d.row.As32())
	SUBL(d.row.As32(), d.rng.As32())
	SHLXQ(d.spare, d.rng, d.x)
	CMPQ(d.offset, d.x)
	JAE(LabelRef("less"))
	MOVBLZX(Mem{Base: d.steps, Index: d.bin, Scale: 8, Disp: 4}, d.y.As32())
	MOVB(d.y.As8(), Mem{Base: d.c, Index: d.ctx, Scale: 1, Disp: stateAt})
	ANDL(Imm(1), d.bin.As32())
	SHLXL(k.As32(), d.bin.As32(), d.bin.As32())
	ORL(d.bin.As32(), set.As32())
	LEAL(Mem{Base: d.rng, Index: d.rng, Scale: 1}, d.x.As32())
	CMPL(d.rng.As32(), U32(256))
	CMOVLCS(d.x.As32(), d.rng.As32())
	SBBQ(Imm(0), d.spare)
	d.refill()
	Label("flagged")
	DECQ(k)
	JG(LabelRef("flag"))
	JS(LabelRef("mapped"))
	CMPQ(f.inferred, Imm(0))
	JE(LabelRef("flag"))
	TESTL(set.As32(), set.As32())
	JNZ(LabelRef("flag"))
	INCL(set.As32()) // one that is coded has a level
	Label("mapped")
	TESTL(set.As32(), set.As32())
	JZ(LabelRef("next"))
	MOVQ(set, f.set)
	JMP(LabelRef("levels"))

	Label("less")
	SUBQ(d.x, d.offset)
	MOVL(d.row.As32(), d.rng.As32())
	MOVBLZX(Mem{Base: d.steps, Index: d.bin, Scale: 8, Disp: 5}, d.y.As32())
	MOVB(d.y.As8(), Mem{Base: d.c, Index: d.ctx, Scale: 1, Disp: stateAt})
	NOTL(d.bin.As32())
	ANDL(Imm(1), d.bin.As32())
	SHLXL(k.As32(), d.bin.As32(), d.bin.As32())
	ORL(d.bin.As32(), set.As32())
	BSRL(d.rng.As32(), d.x.As32())
	MOVL(U32(8), d.y.As32())
	SUBL(d.x.As32(), d.y.As32())
	SHLXL(d.y.As32(), d.rng.As32(), d.rng.As32())
	SUBQ(d.y, d.spare)
	d.refill()
	JMP(LabelRef("flagged"))
}

// mark marks the sub-block as coded.
func (f *residualFrame) mark(d *decoding) {
	f.entry(d.row, d.x)
	MOVBLZX(Mem{Base: d.x, Disp: placeAt}, d.x.As32())
	MOVQ(f.coded, d.row)
	BTSQ(d.x, d.row)
	MOVQ(d.row, f.coded)
}

// levels writes the decoding of the levels of a sub-block.
func (d *decoding) levels(f *residualFrame) {
	Label("levels")
	n, base := GP64(), GP64()
	MOVQ(f.set, d.x)
	POPCNTQ(d.x, n)
	BSRQ(d.x, d.y)
	BSFQ(d.x, d.row)
	SUBQ(d.row, d.y)
	Load(Param("r"), base)
	MOVBLZX(Mem{Base: base, Disp: hiddenAt}, d.row.As32())
	CMPQ(d.y, Imm(4))
	SBBQ(d.x, d.x)
	ANDNQ(d.row, d.x, d.row) // no sign is hidden between places that are near
	MOVQ(d.row, f.hidden)
	MOVQ(n, d.x)
	SUBQ(d.row, d.x)
	MOVQ(d.x, f.signed)
	MOVL(U32(8), d.x.As32())
	CMPQ(n, d.x)
	CMOVQLT(n, d.x)
	MOVQ(d.x, f.most)
	MOVQ(Mem{Base: base, Disp: scanAt}, base)
	XORL(d.y.As32(), d.y.As32())
	CMPQ(f.sub, Imm(0))
	JE(LabelRef("contexts"))
	MOVBLZX(Mem{Base: base, Disp: furtherAt}, d.y.As32())
	Label("contexts")
	CMPQ(f.greater, Imm(1)) // 0: one more
	ADCQ(Imm(0), d.y)
	MOVWLZX(Mem{Base: base, Disp: greater2At}, d.x.As32())
	ADDQ(d.y, d.x)
	MOVQ(d.x, f.second)
	MOVWLZX(Mem{Base: base, Disp: greater1At}, base.As32())
	LEAQ(Mem{Base: base, Index: d.y, Scale: 4}, base)
	d.larger(f, base)
	d.signs(f)
	d.values(f)
}

// larger writes the decoding of which levels are larger than 1, and whether the first of these is larger than 2;
// base is their context for greater1Ctx 0.
func (d *decoding) larger(f *residualFrame, base GPVirtual) {
	greater, k := GP64(), GP64()
	MOVL(U32(1), greater.As32())
	XORL(k.As32(), k.As32())
	MOVQ(k, f.larger)
	Label("greater")
	LEAQ(Mem{Base: base, Index: greater, Scale: 1}, d.ctx)
	d.decision()
	SHLXQ(k, d.bin, d.x)
	ORQ(d.x, f.larger)
	// 0 after a larger one, otherwise 0, 2, 3, 3 after 0 to 3.
	MOVL(U32(0x3320), d.x.As32())
	MOVQ(greater, d.y)
	SHLQ(Imm(2), d.y)
	SHRXQ(d.y, d.x, greater)
	ANDL(Imm(3), greater.As32())
	DECQ(d.bin)
	ANDQ(d.bin, greater)
	INCQ(k)
	CMPQ(k, f.most)
	JLT(LabelRef("greater"))
	MOVQ(greater, f.greater)

	MOVL(U32(16), d.x.As32())
	MOVQ(f.larger, d.y)
	BSFQ(d.y, d.row)
	CMOVQEQ(d.x, d.row) // none
	MOVQ(d.row, f.firstLarger)
	BLSRQ(d.y, d.x)
	ORL(U32(0xFF00), d.x.As32()) // from the ninth one on
	MOVQ(d.x, f.rest)
	TESTQ(d.y, d.y)
	JZ(LabelRef("signs"))
	MOVQ(f.second, d.ctx)
	d.decision()
	MOVQ(f.firstLarger, d.x)
	SHLXQ(d.x, d.bin, d.bin)
	ORQ(d.bin, f.rest)
}

// signs writes the decoding of the signs of levels.
func (d *decoding) signs(f *residualFrame) {
	signs, k := GP64(), GP64()
	Label("signs")
	XORL(signs.As32(), signs.As32())
	XORL(k.As32(), k.As32())
	Label("sign")
	d.bypass()
	INCQ(d.y)
	SHLXQ(k, d.y, d.y)
	ORQ(d.y, signs)
	INCQ(k)
	CMPQ(k, f.signed)
	JLT(LabelRef("sign"))
	MOVQ(signs, f.signs)
}

// values writes the rest of the decoding of levels, and how they are scaled and stored.
func (d *decoding) values(f *residualFrame) {
	level, place, r := d.bin, d.ctx, d.row
	set, k, sum, count := GP64(), GP64(), GP64(), GP64()
	MOVQ(f.set, set)
	XORL(k.As32(), k.As32())
	XORL(sum.As32(), sum.As32())
	MOVQ(k, f.rice)

	Label("level")
	MOVQ(f.larger, level)
	SHRXQ(k, level, level)
	ANDL(Imm(1), level.As32())
	INCL(level.As32())
	MOVQ(f.rest, d.x)
	BTQ(k, d.x)
	JCS(LabelRef("remaining"))
	Label("known")
	ADDL(level.As32(), sum.As32())
	BSRQ(set, place)
	BTRQ(place, set)
	MOVQ(f.signs, d.y)
	TESTL(set.As32(), set.As32())
	JNZ(LabelRef("signed"))
	MOVQ(f.hidden, d.x) // the last sign may be that of the sum
	ANDL(sum.As32(), d.x.As32())
	SHLXQ(k, d.x, d.x)
	ORQ(d.x, d.y)
	Label("signed")
	SHRXQ(k, d.y, d.y)
	ANDL(Imm(1), d.y.As32())
	NEGQ(d.y)
	XORQ(d.y, level)
	SUBQ(d.y, level)
	Load(Param("r"), r)
	IMULQ(Mem{Base: r, Disp: factorAt}, level)
	ADDQ(f.round, level)
	MOVQ(Mem{Base: r, Disp: shiftAt}, d.x)
	SARXQ(d.x, level, level)
	MOVL(U32(1<<15-1), d.x.As32())
	CMPQ(level, d.x)
	CMOVQGT(d.x, level)
	NOTQ(d.x)
	CMPQ(level, d.x)
	CMOVQLT(d.x, level)
	MOVQ(Mem{Base: r, Disp: scanAt}, d.x)
	MOVWLZX(Mem{Base: d.x, Index: place, Scale: 2, Disp: innerAt}, place.As32())
	MOVQ(f.sub, d.y)
	MOVWLZX(Mem{Base: d.x, Index: d.y, Scale: 8, Disp: subsAt + firstAt}, d.y.As32())
	ADDQ(d.y, place)
	MOVQ(Mem{Base: r, Disp: outAt}, d.x)
	MOVW(level.As16(), Mem{Base: d.x, Index: place, Scale: 2})
	INCQ(k)
	TESTL(set.As32(), set.As32())
	JNZ(LabelRef("level"))

	d.later = append(d.later, func() { d.remaining(f, level, k, count) })
}

// remaining writes the decoding of what a level has more than its flags say, for levels.
func (d *decoding) remaining(f *residualFrame, level, k, count GPVirtual) {
	value, prefix := d.ctx, d.ctx
	Label("remaining")
	CMPQ(k, f.firstLarger)
	JNE(LabelRef("begun"))
	INCL(level.As32())
	Label("begun")
	XORL(prefix.As32(), prefix.As32())
	Label("prefix")
	d.bypass()
	TESTL(d.y.As32(), d.y.As32())
	JNZ(LabelRef("prefixed"))
	INCL(prefix.As32())
	CMPL(prefix.As32(), Imm(32))
	JB(LabelRef("prefix"))
	Label("prefixed")
	MOVQ(f.rice, count)
	CMPL(prefix.As32(), Imm(3))
	JLS(LabelRef("suffix"))
	SUBL(Imm(3), prefix.As32())
	CMPL(prefix.As32(), Imm(20))
	JHI(LabelRef("invalid")) // no valid level is that large
	MOVL(U32(1), d.x.As32())
	SHLXL(prefix.As32(), d.x.As32(), d.x.As32())
	ADDL(Imm(2), d.x.As32())
	SHLXL(count.As32(), d.x.As32(), d.x.As32())
	ADDL(d.x.As32(), level.As32())
	ADDL(prefix.As32(), count.As32())
	XORL(value.As32(), value.As32())
	Label("suffix")
	DECL(count.As32())
	JS(LabelRef("whole"))
	d.bypass()
	LEAL(Mem{Base: d.y, Index: value, Scale: 2, Disp: 1}, value.As32())
	JMP(LabelRef("suffix"))
	Label("invalid")
	XORL(value.As32(), value.As32())
	Label("whole")
	ADDL(value.As32(), level.As32())
	CMPL(level.As32(), U32(1<<15))
	JLE(LabelRef("fits"))
	Load(Param("r"), d.x)
	MOVB(U8(1), Mem{Base: d.x, Disp: failedAt})
	Label("fits")
	MOVL(U32(3), d.x.As32())
	MOVQ(f.rice, d.y)
	SHLXL(d.y.As32(), d.x.As32(), d.x.As32())
	CMPL(level.As32(), d.x.As32())
	JLE(LabelRef("known"))
	CMPL(d.y.As32(), Imm(4))
	JGE(LabelRef("known"))
	INCQ(f.rice)
	JMP(LabelRef("known"))
}
