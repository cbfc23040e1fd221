package main

import (
	. "github.com/mmcloughlin/avo/build"
	. "github.com/mmcloughlin/avo/operand"

	"github.com/mmcloughlin/avo/attr"
)

// queueFlags writes the flags of four places at a time: the bits of the coefficients
// there say how they are put in order.
func queueFlags() {
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
	TEXT("queueFlagsFast", attr.NOSPLIT, "func(queue, flags *uint16, has uint64, end int)")
	Pragma("noescape")
	Doc("queueFlagsFast is queueFlags for an end of 1 or more.")
	waits, flags := Load(Param("queue"), GP64()), Load(Param("flags"), GP64())
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
