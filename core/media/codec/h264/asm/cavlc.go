package main

import (
	"strconv"

	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"
	. "github.com/mmcloughlin/avo/reg"

	"github.com/mmcloughlin/avo/attr"

	"vividstrain/core/media/codec/avoblock"
)

// Places in cavlcRun, in block and in cavlcTables.
const (
	dataAt, posAt, limitAt, setAt, codedAt, moreAt, totalAt = 0, 8, 16, 24, 32, 40, 48
	tableAt, numbersAt, placesAt, zerosAt                   = 56, 64, 72, 80
	outAt, scanAt, sizeAt, scaleAt, roundAt                 = 8, 32, 40, 56, 80
	cacheRow                                                = 8

	rowSize    = 1024 // of the levels
	runsAt     = 9 * rowSize
	suffixesAt = runsAt + 16*8*2
	firstsAt   = suffixesAt + 16
	limitsAt   = firstsAt + 16
	tokensAt   = limitsAt + 32
	tokensOfAt = tokensAt + 6*8
	startsAt   = tokensOfAt + 136
	zeroRowsAt = startsAt + 6*256*4
)

// bitWindow is a window of the data in registers.
type bitWindow struct {
	data, pos GPVirtual // where the window begins, in bits
	window    GPVirtual
	used      GPVirtual // bits of the window
	t, c      GPVirtual // temporaries
	refills   int
}

// fill loads the window at the first bit that was not used: at least 57 bits.
func (b *bitWindow) fill() {
	ADDQ(b.used, b.pos)
	XORL(b.used.As32(), b.used.As32())
	MOVQ(b.pos, b.t)
	SHRQ(Imm(3), b.t)
	MOVQ(Mem{Base: b.data, Index: b.t, Scale: 1}, b.window)
	BSWAPQ(b.window)
	MOVL(b.pos.As32(), b.c.As32())
	ANDL(Imm(7), b.c.As32())
	SHLXQ(b.c, b.window, b.window)
}

// refill loads the window if fewer than bits may be left in it.
func (b *bitWindow) refill(bits int) {
	enough := "enough" + strconv.Itoa(b.refills)
	b.refills++
	CMPL(b.used.As32(), Imm(uint64(57-bits)))
	JBE(LabelRef(enough))
	b.fill()
	Label(enough)
}

// skip skips n bits of the window.
func (b *bitWindow) skip(n GPVirtual) {
	SHLXQ(n, b.window, b.window)
	ADDQ(n, b.used)
}

// prefix counts the leading zeros of the window into n, but no more than most.
func (b *bitWindow) prefix(n GPVirtual, most int) {
	MOVQ(b.window, b.t)
	BTSQ(Imm(uint64(63-most)), b.t)
	BSRQ(b.t, n)
	XORL(Imm(63), n.As32())
}

// lookup decodes a code of a table into value and skips it; without a code it jumps to none.
func (b *bitWindow) lookup(table, value GPVirtual, none string) {
	b.prefix(value, 15)
	LEAQ(Mem{Base: value, Disp: 1}, b.c)
	SHLXQ(b.c, b.window, b.t)
	SHRQ(Imm(61), b.t)
	LEAQ(Mem{Base: b.t, Index: value, Scale: 8}, b.t)
	MOVWLZX(Mem{Base: table, Index: b.t, Scale: 2}, value.As32())
	MOVBLZX(value.As8(), b.c.As32())
	TESTL(b.c.As32(), b.c.As32())
	JZ(LabelRef(none))
	SHRL(Imm(8), value.As32())
	b.skip(b.c)
}

// cavlc writes the parsing of blocks.
func cavlc() {
	TEXT("cavlcFast", attr.NOSPLIT, "func(r, b, tables *byte)")
	Pragma("noescape")
	Doc("cavlcFast parses the blocks of a set, which are laid out like b, and takes them out of it, up to one that begins after the limit, or in",
		"which a code is invalid or a long escape.")
	b := bitWindow{data: GP64(), pos: GP64(), window: GP64(), used: GP64(), t: GP64(), c: GP64()}
	levels, shift, half, number, out := AllocLocal(80), AllocLocal(8), AllocLocal(8), AllocLocal(8), AllocLocal(8)
	total, ones, table := GP64(), GP64(), GP64()
	r := table
	Load(Param("r"), r)
	MOVQ(Mem{Base: r, Disp: dataAt}, b.data)
	MOVQ(Mem{Base: r, Disp: posAt}, b.pos)
	XORL(b.used.As32(), b.used.As32())
	like := ones
	Load(Param("b"), like)
	MOVQ(Mem{Base: like, Disp: roundAt}, b.c)
	MOVQ(b.c, shift)
	MOVL(U32(1), b.t.As32())
	SHLXL(b.c.As32(), b.t.As32(), b.t.As32())
	SHRL(Imm(1), b.t.As32())
	MOVL(b.t.As32(), half)
	b.fill()

	Label("block")
	Load(Param("r"), r)
	k := ones
	LEAQ(Mem{Base: b.pos, Index: b.used, Scale: 1}, b.t)
	MOVQ(b.t, Mem{Base: r, Disp: posAt})
	XORL(k.As32(), k.As32()) // so that it needs no register before
	BSFQ(Mem{Base: r, Disp: setAt}, k)
	JZ(LabelRef("leave"))
	CMPQ(b.t, Mem{Base: r, Disp: limitAt})
	JA(LabelRef("leave"))
	Load(Param("b"), b.c)
	MOVQ(k, b.t)
	SHLQ(Imm(6), b.t)
	ADDQ(Mem{Base: b.c, Disp: outAt}, b.t)
	MOVQ(b.t, out)
	MOVQ(Mem{Base: r, Disp: tableAt}, total)
	TESTQ(total, total)
	JNS(LabelRef("chosen"))
	MOVQ(Mem{Base: r, Disp: placesAt}, b.c)
	MOVBLZX(Mem{Base: b.c, Index: k, Scale: 1}, b.c.As32())
	ADDQ(Mem{Base: r, Disp: numbersAt}, b.c)
	MOVQ(b.c, number)
	MOVBLZX(Mem{Base: b.c, Disp: -1}, total.As32())
	MOVBLZX(Mem{Base: b.c, Disp: -cacheRow}, b.t.As32())
	ADDL(b.t.As32(), total.As32())
	ADDQ(avoblock.Place("tables"), total)
	MOVBLZX(Mem{Base: total, Disp: tokensOfAt}, total.As32())
	Label("chosen")
	Load(Param("tables"), b.t)
	MOVQ(Mem{Base: b.t, Index: total, Scale: 8, Disp: tokensAt}, table)
	b.refill(16)
	start := ones
	MOVQ(b.window, start)
	b.fill() // more often than not it is needed, and what is looked up in the old window need not wait for it
	SHRQ(Imm(56), start)
	SHLL(Imm(8), total.As32())
	ADDQ(total, start)
	Load(Param("tables"), b.t)
	MOVL(Mem{Base: b.t, Index: start, Scale: 4, Disp: startsAt}, start.As32())
	MOVBLZX(start.As8(), b.c.As32())
	TESTL(b.c.As32(), b.c.As32())
	JZ(LabelRef("token"))
	b.skip(b.c)
	SARL(Imm(8), start.As32())
	MOVL(start.As32(), total.As32())
	ANDL(Imm(127), start.As32())
	TESTB(Imm(128), total.As8())
	JZ(LabelRef("single"))
	Label("total")
	MOVL(ones.As32(), total.As32())
	SHRL(Imm(2), total.As32())
	JZ(LabelRef("parsed"))
	ANDL(Imm(3), ones.As32())
	Load(Param("r"), r)
	Load(Param("b"), b.t)
	CMPQ(total, Mem{Base: b.t, Disp: sizeAt})
	JA(LabelRef("leave"))

	// Three trailing ones are always stored: others replace those that are none.
	for k := range 3 {
		MOVQ(b.window, b.t)
		if k > 0 {
			SHLQ(Imm(uint64(k)), b.t)
		}
		SARQ(Imm(63), b.t)
		ORL(Imm(1), b.t.As32())
		MOVL(b.t.As32(), levels.Offset(4*k))
	}
	b.skip(ones)
	CMPQ(ones, total)
	JE(LabelRef("levelled"))
	i, row, entry := GP64(), GP64(), GP64()
	Load(Param("tables"), row)
	MOVQ(ones, i)
	CMPL(ones.As32(), Imm(3))
	JE(LabelRef("level"))
	ADDQ(U32(7*rowSize), row)
	CMPL(total.As32(), Imm(10))
	JBE(LabelRef("level"))
	ADDQ(U32(rowSize), row)

	Label("level")
	MOVQ(b.window, b.t)
	SHRQ(Imm(56), b.t)
	MOVLQSX(Mem{Base: row, Index: b.t, Scale: 4}, entry)
	MOVL(entry.As32(), b.c.As32())
	ANDL(Imm(15), b.c.As32())
	JZ(LabelRef("large"))
	b.skip(b.c)
	MOVL(entry.As32(), row.As32())
	ANDL(U32(15*rowSize), row.As32())
	ADDQ(avoblock.Place("tables"), row)
	SARQ(Imm(16), entry)
	Label("store")
	MOVL(entry.As32(), levels.Idx(i, 4))
	b.refill(20) // a prefix of 13, its one bit and a suffix of 6
	INCL(i.As32())
	CMPL(i.As32(), total.As32())
	JB(LabelRef("level"))

	Label("levelled")
	b.refill(9 + 11) // the number of zeros and a run
	// The number of zeros, and the place of the last coefficient.
	at, zeros := GP64(), GP64()
	XORL(zeros.As32(), zeros.As32())
	Load(Param("b"), b.t)
	MOVQ(Mem{Base: b.t, Disp: sizeAt}, at)
	CMPQ(total, at)
	JE(LabelRef("counted"))
	Load(Param("tables"), b.t)
	MOVL(Mem{Base: b.t, Index: total, Scale: 4, Disp: zeroRowsAt}, b.c.As32())
	MOVL(b.c.As32(), b.t.As32())
	SHRL(Imm(8), b.t.As32())
	Load(Param("r"), r)
	ADDQ(Mem{Base: r, Disp: zerosAt}, b.t)
	SHRXQ(b.c, b.window, b.c)
	MOVBLZX(Mem{Base: b.t, Index: b.c, Scale: 1}, zeros.As32())
	MOVL(zeros.As32(), b.c.As32())
	ANDL(Imm(15), b.c.As32())
	JZ(LabelRef("leave"))
	SHRL(Imm(4), zeros.As32())
	b.skip(b.c)
	Label("counted")
	LEAQ(Mem{Base: total, Index: zeros, Scale: 1}, b.t)
	CMPQ(b.t, at)
	JA(LabelRef("leave"))
	LEAQ(Mem{Base: b.t, Disp: -1}, at)

	scan, to, scale, level := GP64(), GP64(), GP64(), GP64()
	Load(Param("b"), b.t)
	MOVQ(Mem{Base: b.t, Disp: scanAt}, scan)
	MOVQ(out, to)
	MOVQ(Mem{Base: b.t, Disp: scaleAt}, scale)
	XORL(i.As32(), i.As32())
	place := func() {
		MOVBLZX(Mem{Base: scan, Index: at, Scale: 1}, b.t.As32())
		MOVL(levels.Idx(i, 4), level.As32())
		IMULL(Mem{Base: scale, Index: b.t, Scale: 4}, level.As32())
		MOVQ(shift, b.c)
		ADDL(half, level.As32())
		SARXL(b.c.As32(), level.As32(), level.As32())
		MOVL(level.As32(), Mem{Base: to, Index: b.t, Scale: 4})
		DECQ(at)
		INCL(i.As32())
		CMPL(i.As32(), total.As32())
	}
	TESTL(zeros.As32(), zeros.As32())
	JZ(LabelRef("without"))
	tables := table
	Load(Param("tables"), tables)
	Label("run")
	place()
	JE(LabelRef("placed"))
	MOVQ(b.window, b.t)
	SHRQ(Imm(61), b.t)
	LEAQ(Mem{Base: b.t, Index: zeros, Scale: 8}, b.t)
	MOVWLZX(Mem{Base: tables, Index: b.t, Scale: 2, Disp: runsAt}, level.As32())
	MOVL(level.As32(), b.c.As32())
	ANDL(Imm(15), b.c.As32())
	JZ(LabelRef("long"))
	b.skip(b.c)
	MOVL(level.As32(), zeros.As32())
	SHRL(Imm(8), zeros.As32())
	SHRL(Imm(4), level.As32())
	ANDL(Imm(15), level.As32())
	SUBQ(level, at)
	TESTL(zeros.As32(), zeros.As32())
	JZ(LabelRef("without"))
	Label("next")
	b.refill(11)
	JMP(LabelRef("run"))
	Label("without")
	place()
	JNE(LabelRef("without"))

	Label("placed")
	Load(Param("r"), r)
	XORL(k.As32(), k.As32())
	BSFQ(Mem{Base: r, Disp: setAt}, k)
	MOVQ(Mem{Base: r, Disp: codedAt}, b.t)
	BTSQ(k, b.t)
	MOVQ(b.t, Mem{Base: r, Disp: codedAt})
	CMPL(total.As32(), Imm(1))
	JA(LabelRef("more"))
	MOVQ(out, b.t)
	CMPL(Mem{Base: b.t}, Imm(0))
	JNE(LabelRef("number"))
	Label("more") // than a DC coefficient
	MOVQ(Mem{Base: r, Disp: moreAt}, b.t)
	BTSQ(k, b.t)
	MOVQ(b.t, Mem{Base: r, Disp: moreAt})
	Label("number")
	MOVQ(total, Mem{Base: r, Disp: totalAt})
	CMPQ(Mem{Base: r, Disp: tableAt}, Imm(0))
	JGE(LabelRef("parsed"))
	MOVQ(number, b.t)
	MOVB(total.As8(), Mem{Base: b.t})
	Label("parsed")
	Load(Param("r"), r)
	BLSRQ(Mem{Base: r, Disp: setAt}, b.t)
	MOVQ(b.t, Mem{Base: r, Disp: setAt})
	JMP(LabelRef("block"))

	Label("token") // of more bits, or none
	TESTQ(table, table)
	JZ(LabelRef("leave"))
	b.lookup(table, ones, "leave")
	JMP(LabelRef("total"))

	Label("single") // no level, or one of 1 or -1
	{
		like, level := i, total
		MOVL(start.As32(), at.As32())
		SUBL(Imm(1), at.As32())
		JB(LabelRef("parsed"))
		Load(Param("b"), like)
		CMPQ(at, Mem{Base: like, Disp: sizeAt})
		JAE(LabelRef("leave"))
		SARL(Imm(8), level.As32())
		MOVQ(Mem{Base: like, Disp: scanAt}, b.t)
		MOVBLZX(Mem{Base: b.t, Index: at, Scale: 1}, b.t.As32())
		MOVQ(Mem{Base: like, Disp: scaleAt}, b.c)
		IMULL(Mem{Base: b.c, Index: b.t, Scale: 4}, level.As32())
		MOVQ(shift, b.c)
		ADDL(half, level.As32())
		SARXL(b.c.As32(), level.As32(), level.As32())
		MOVQ(out, b.c)
		MOVL(level.As32(), Mem{Base: b.c, Index: b.t, Scale: 4})
		MOVL(U32(1), total.As32())
		JMP(LabelRef("placed"))
	}

	Label("leave")
	RET()

	Label("large") // a level of more than eight bits: code is that of its size and sign
	code, suffix := entry, row
	Load(Param("tables"), tables)
	SUBQ(tables, row)
	SHRL(Imm(10), row.As32())
	ADDQ(tables, row)
	b.prefix(code, 14)
	CMPL(code.As32(), Imm(13))
	JA(LabelRef("leave"))
	LEAQ(Mem{Base: code, Disp: 1}, b.c)
	b.skip(b.c)
	MOVBLZX(Mem{Base: row, Disp: firstsAt}, b.c.As32())
	MOVBLZX(Mem{Base: row, Disp: suffixesAt}, suffix.As32())
	SHLXL(suffix.As32(), code.As32(), code.As32())
	ADDL(b.c.As32(), code.As32())
	MOVL(U32(63), b.c.As32())
	SUBL(suffix.As32(), b.c.As32())
	MOVQ(b.window, b.t)
	SHRQ(Imm(1), b.t)
	SHRXQ(b.c, b.t, b.t)
	b.skip(suffix)
	ADDL(b.t.As32(), code.As32())
	abs, sign := b.t, code
	MOVL(code.As32(), abs.As32())
	SHRL(Imm(1), abs.As32())
	INCL(abs.As32())
	// The next row: a longer suffix after a level above the limit.
	XORL(b.c.As32(), b.c.As32())
	CMPL(abs.As32(), Mem{Base: tables, Index: suffix, Scale: 4, Disp: limitsAt})
	SETHI(b.c.As8())
	TESTL(suffix.As32(), suffix.As32())
	JNZ(LabelRef("suffix"))
	INCL(suffix.As32())
	Label("suffix")
	ADDL(b.c.As32(), suffix.As32())
	SHLL(Imm(10), suffix.As32())
	ADDQ(tables, suffix)
	ANDL(Imm(1), sign.As32())
	NEGL(sign.As32())
	XORL(sign.As32(), abs.As32())
	SUBL(sign.As32(), abs.As32())
	MOVLQSX(abs.As32(), entry)
	JMP(LabelRef("store"))

	Label("long") // a run of 7 or more
	CMPL(zeros.As32(), Imm(7))
	JB(LabelRef("leave"))
	b.prefix(level, 11)
	LEAQ(Mem{Base: level, Disp: 1}, b.c)
	ADDL(Imm(4), level.As32())
	CMPL(level.As32(), Imm(14))
	JA(LabelRef("leave"))
	CMPL(level.As32(), zeros.As32())
	JA(LabelRef("leave"))
	b.skip(b.c)
	SUBQ(level, at)
	SUBL(level.As32(), zeros.As32())
	JZ(LabelRef("without"))
	JMP(LabelRef("next"))
}
