// Package neon writes assembly for arm64 with the vector instructions (Arm Architecture Reference
// Manual for A-profile, C7.2), most of which Go's assembler has no names for: they are written as
// numbers, with their names beside them. It runs when assembly is generated, never in the program.
package neon

import (
	"encoding/binary"
	"flag"
	"fmt"
	"os"
	"strings"
)

// V is a vector register, 0 to 31; R is a general one, 0 to 25; R26 is overwritten where two bytes are moved.
type (
	V uint32
	R int
)

// T is how a vector register is divided into elements.
type T struct {
	name string
	q    uint32 // 1: all 16 bytes
	size uint32 // 0: bytes, 1: halves, 2: words, 3: double words
}

// The arrangements.
var (
	B8  = T{"B8", 0, 0}
	B16 = T{"B16", 1, 0}
	H4  = T{"H4", 0, 1}
	H8  = T{"H8", 1, 1}
	S2  = T{"S2", 0, 2}
	S4  = T{"S4", 1, 2}
	D2  = T{"D2", 1, 3}
)

// Op is an instruction: its number without registers and arrangement.
type Op struct {
	name string
	bits uint32
}

func same(name string, u, code uint32) Op      { return Op{name, 0x0E200400 | u<<29 | code<<11} }
func different(name string, u, code uint32) Op { return Op{name, 0x0E200000 | u<<29 | code<<12} }
func unary(name string, u, code uint32) Op     { return Op{name, 0x0E200800 | u<<29 | code<<12} }
func shift(name string, u, code uint32) Op     { return Op{name, 0x0F000400 | u<<29 | code<<11} }
func permute(name string, code uint32) Op      { return Op{name, 0x0E000800 | code<<12} }
func byLane(name string, u, code uint32) Op    { return Op{name, 0x0F000000 | u<<29 | code<<12} }

// Instructions on three registers of the same arrangement.
var (
	ADD, SUB, MUL, ADDP    = same("ADD", 0, 16), same("SUB", 1, 16), same("MUL", 0, 19), same("ADDP", 0, 23)
	MLA, MLS               = same("MLA", 0, 18), same("MLS", 1, 18)
	UABD, UHADD, URHADD    = same("UABD", 1, 14), same("UHADD", 1, 0), same("URHADD", 1, 2)
	SMAX, SMIN, UMAX, UMIN = same("SMAX", 0, 12), same("SMIN", 0, 13), same("UMAX", 1, 12), same("UMIN", 1, 13)
	CMGT, CMHI, CMEQ       = same("CMGT", 0, 6), same("CMHI", 1, 6), same("CMEQ", 1, 17)
	UQADD, UQSUB, SQADD    = same("UQADD", 1, 1), same("UQSUB", 1, 5), same("SQADD", 0, 1)
	AND, BIC               = Op{"AND", 0x0E201C00}, Op{"BIC", 0x0E601C00}
	ORR, EOR               = Op{"ORR", 0x0EA01C00}, Op{"EOR", 0x2E201C00}
	BSL, BIT               = Op{"BSL", 0x2E601C00}, Op{"BIT", 0x2EA01C00}
	SSHL, SRSHL            = same("SSHL", 0, 8), same("SRSHL", 0, 10)
)

// Instructions on three registers that make elements twice as long; the arrangement is that of the
// short ones.
var (
	UADDL, USUBL, UABAL, UABDL = different("UADDL", 1, 0), different("USUBL", 1, 2), different("UABAL", 1, 5), different("UABDL", 1, 7)
	SADDL, SSUBL, SADDW, UADDW = different("SADDL", 0, 0), different("SSUBL", 0, 2), different("SADDW", 0, 1), different("UADDW", 1, 1)
	UMULL, UMLAL               = different("UMULL", 1, 12), different("UMLAL", 1, 8)
	SMULL, SMLAL, SMLSL        = different("SMULL", 0, 12), different("SMLAL", 0, 8), different("SMLSL", 0, 10)
)

// Instructions on two registers; the arrangement is that of the short elements, if they differ.
var (
	ABS, NEG, NOT        = unary("ABS", 0, 11), unary("NEG", 1, 11), unary("NOT", 1, 5)
	XTN, SQXTN           = unary("XTN", 0, 18), unary("SQXTN", 0, 20)
	SQXTUN, UQXTN        = unary("SQXTUN", 1, 18), unary("UQXTN", 1, 20)
	USQADD, UADALP       = unary("USQADD", 1, 3), unary("UADALP", 1, 6)
	UADDLP, SADALP       = unary("UADDLP", 1, 2), unary("SADALP", 0, 6)
	CMLT0, CMGE0         = unary("CMLT0", 0, 10), unary("CMGE0", 1, 8)
	UADDLV, ADDV, SADDLV = Op{"UADDLV", 0x2E303800}, Op{"ADDV", 0x0E31B800}, Op{"SADDLV", 0x0E303800}
)

// Shifts by a number.
var (
	SSHR, USHR, SRSHR, URSHR  = shift("SSHR", 0, 0), shift("USHR", 1, 0), shift("SRSHR", 0, 4), shift("URSHR", 1, 4)
	SHL, SSHLL, USHLL         = shift("SHL", 0, 10), shift("SSHLL", 0, 20), shift("USHLL", 1, 20)
	SHRN, RSHRN, SQSHRN       = shift("SHRN", 0, 16), shift("RSHRN", 0, 17), shift("SQSHRN", 0, 18)
	SQRSHRN, SQRSHRUN, SQSHRU = shift("SQRSHRN", 0, 19), shift("SQRSHRUN", 1, 17), shift("SQSHRUN", 1, 16)
)

// Permutations.
var (
	UZP1, UZP2, TRN1 = permute("UZP1", 1), permute("UZP2", 5), permute("TRN1", 2)
	TRN2, ZIP1, ZIP2 = permute("TRN2", 6), permute("ZIP1", 3), permute("ZIP2", 7)
)

// Multiplications by one element of half words.
var (
	MULLane, MLALane, MLSLane       = byLane("MUL", 0, 8), byLane("MLA", 1, 0), byLane("MLS", 1, 4)
	SMULLLane, SMLALLane, SMLSLLane = byLane("SMULL", 0, 10), byLane("SMLAL", 0, 2), byLane("SMLSL", 0, 6)
)

// Asm is a file of assembly and the declarations of its functions.
type Asm struct {
	text, stubs strings.Builder
	labels      int
	arguments   map[string]int // bytes after the frame
}

// Main writes what generate makes to the files that the flags -out and -stubs name.
func Main(generate func(a *Asm)) {
	out, stubs, pkg := flag.String("out", "", "file of assembly"), flag.String("stubs", "", "file of declarations"), flag.String("pkg", "", "package")
	flag.Parse()
	a := &Asm{}
	generate(a)
	const head = "// Code generated by the generator in asm/arm64. DO NOT EDIT.\n\n//go:build arm64\n\n"
	for path, text := range map[string]string{*out: head + "#include \"textflag.h\"\n" + a.text.String(), *stubs: head + "package " + *pkg + "\n" + a.stubs.String()} {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

// Func begins a function with a local frame of so many bytes. Arguments are written as in Go, each
// with its type; the types are int, numbers of 32 bits and pointers.
func (a *Asm) Func(name, doc, arguments, result string, frame int) {
	a.arguments = map[string]int{}
	at := 0
	for _, argument := range strings.Split(arguments, ", ") {
		word, kind, _ := strings.Cut(argument, " ")
		size := 8
		if strings.HasSuffix(kind, "32") && kind[0] != '*' {
			size = 4
		}
		at = (at + size - 1) &^ (size - 1)
		a.arguments[word] = at
		at += size
	}
	fmt.Fprintf(&a.stubs, "\n// %s %s\n//\n//go:noescape\nfunc %s(%s)", name, doc, name, arguments)
	if result != "" {
		at = (at + 7) &^ 7
		fmt.Fprintf(&a.stubs, " %s", result)
		a.arguments["ret"] = at
		at += 8
	}
	fmt.Fprintln(&a.stubs)
	flags := "NOSPLIT"
	if frame > 256 {
		flags = "0"
	}
	fmt.Fprintf(&a.text, "\n// func %s(%s) %s\nTEXT ·%s(SB), %s, $%d-%d\n", name, arguments, result, name, flags, frame, at)
}

// Go writes an instruction of Go's assembler.
func (a *Asm) Go(format string, args ...any) {
	a.text.WriteString("\t" + fmt.Sprintf(format, args...) + "\n")
}

// Load loads arguments into general registers.
func (a *Asm) Load(name string, to R) { a.load("MOVD", name, to) }

// Load32 loads an argument of type uint32.
func (a *Asm) Load32(name string, to R) { a.load("MOVWU", name, to) }

func (a *Asm) load(move, name string, to R) {
	a.Go("%s %s+%d(FP), %v", move, name, a.arguments[name], to)
}

// Return ends a function, with a result where it has one.
func (a *Asm) Return(result ...R) {
	for _, r := range result {
		a.Go("MOVD %v, ret+%d(FP)", r, a.arguments["ret"])
	}
	a.Go("RET")
}

// NewLabel returns a label that nothing else has.
func (a *Asm) NewLabel() string {
	a.labels++
	return fmt.Sprintf("l%d", a.labels)
}

// Label is where jumps to it go.
func (a *Asm) Label(name string) { a.text.WriteString(name + ":\n") }

// Loop repeats body as many times as a register says, which must be positive.
func (a *Asm) Loop(count R, body func()) {
	label := a.NewLabel()
	a.Label(label)
	body()
	a.Go("SUBS $1, %v", count)
	a.Go("BNE %s", label)
}

// ByWidth writes body for each of the widths that a register may have.
func (a *Asm) ByWidth(w R, widths []int, body func(w int)) {
	for i, width := range widths {
		next := a.NewLabel()
		if i < len(widths)-1 {
			a.Go("CMP $%d, %v", width, w)
			a.Go("BNE %s", next)
		}
		body(width)
		if i < len(widths)-1 {
			a.Label(next)
		}
	}
}

func (a *Asm) word(bits uint32, comment string, args ...any) {
	a.Go("WORD $0x%08x // %s", bits, fmt.Sprintf(comment, args...))
}

// Do writes an instruction on three registers: d = n op m.
func (a *Asm) Do(o Op, t T, d, n, m V) {
	bits := o.bits | t.q<<30 | uint32(m)<<16 | uint32(n)<<5 | uint32(d)
	if o.bits&0x0000FC00 != 0x1C00 { // not by bits
		bits |= t.size << 22
	}
	a.word(bits, "%s %s %v, %v, %v", o.name, t.name, d, n, m)
}

// Un writes an instruction on two registers: d = op n.
func (a *Asm) Un(o Op, t T, d, n V) {
	a.word(o.bits|t.q<<30|t.size<<22|uint32(n)<<5|uint32(d), "%s %s %v, %v", o.name, t.name, d, n)
}

// Left and Right shift by a number of bits; t is that of the short elements where the lengths
// differ.
func (a *Asm) Left(o Op, t T, d, n V, by uint32) { a.shift(o, t, d, n, by, 8<<t.size+by) }

// Right shifts right, see Left.
func (a *Asm) Right(o Op, t T, d, n V, by uint32) { a.shift(o, t, d, n, by, 16<<t.size-by) }

func (a *Asm) shift(o Op, t T, d, n V, by, coded uint32) {
	a.word(o.bits|t.q<<30|coded<<16|uint32(n)<<5|uint32(d), "%s %s %v, %v, #%d", o.name, t.name, d, n, by)
}

// Lane multiplies by element i of half words of m, which is one of the first 16 registers.
func (a *Asm) Lane(o Op, t T, d, n, m V, i uint32) {
	if m > 15 {
		panic("neon: elements are of V0 to V15")
	}
	a.word(o.bits|t.q<<30|1<<22|(i>>1&1)<<21|(i&1)<<20|i>>2<<11|uint32(m)<<16|uint32(n)<<5|uint32(d), "%s %s %v, %v, %v[%d]", o.name, t.name, d, n, m, i)
}

// Extract makes d of the bytes from number at on of n, followed by m.
func (a *Asm) Extract(d, n, m V, at uint32) {
	a.word(0x6E000000|at<<11|uint32(m)<<16|uint32(n)<<5|uint32(d), "EXT B16 %v, %v, %v, #%d", d, n, m, at)
}

// Table makes d of the bytes of n that m names; 0 where there is none.
func (a *Asm) Table(d, n, m V) {
	a.word(0x4E000000|uint32(m)<<16|uint32(n)<<5|uint32(d), "TBL B16 %v, %v, %v", d, n, m)
}

// Dup copies a general register to all elements.
func (a *Asm) Dup(t T, d V, r R) {
	a.word(0x0E000C00|t.q<<30|1<<t.size<<16|uint32(r)<<5|uint32(d), "DUP %s %v, %v", t.name, d, r)
}

// Const sets all elements to a number; tmp is overwritten.
func (a *Asm) Const(t T, d V, value int, tmp R) {
	a.Go("MOVD $%d, %v", value, tmp)
	a.Dup(t, d, tmp)
}

// Move copies a register.
func (a *Asm) Move(d, n V) { a.Do(ORR, B16, d, n, n) }

// ReadLane loads element i of a register, of four or eight bytes, and leaves the others.
func (a *Asm) ReadLane(t T, d V, i int, base R) { a.Go("VLD1 (%v), V%d.%c[%d]", base, d, t.name[0], i) }

// WriteLane stores element i of a register.
func (a *Asm) WriteLane(t T, d V, i int, base R) {
	a.Go("VST1 V%d.%c[%d], (%v)", d, t.name[0], i, base)
}

// Bytes sets a register to 16 bytes, the first one the lowest; tmp is overwritten.
func (a *Asm) Bytes(d V, bytes [16]uint8, tmp R) {
	for i := range 2 {
		a.Go("MOVD $0x%016x, %v", binary.LittleEndian.Uint64(bytes[8*i:]), tmp)
		a.Go("VMOV %v, V%d.D[%d]", tmp, d, i)
	}
}

// Zero clears a register.
func (a *Asm) Zero(d V) { a.Do(EOR, B16, d, d, d) }

// Read loads so many bytes, 2 to 16, into the low end of a register.
func (a *Asm) Read(bytes int, d V, base R, offset int) {
	if bytes == 2 {
		a.Go("MOVHU %d(%v), R26", offset, base)
		a.Go("FMOVS R26, F%d", d)
		return
	}
	a.Go("%s %d(%v), F%d", moves[bytes], offset, base, d)
}

// Write stores so many bytes of the low end of a register.
func (a *Asm) Write(bytes int, d V, base R, offset int) {
	if bytes == 2 {
		a.Go("FMOVS F%d, R26", d)
		a.Go("MOVH R26, %d(%v)", offset, base)
		return
	}
	a.Go("%s F%d, %d(%v)", moves[bytes], d, offset, base)
}

var moves = map[int]string{4: "FMOVS", 8: "FMOVD", 16: "FMOVQ"}

// String is the register's name in Go's assembler.
func (v V) String() string { return fmt.Sprintf("V%d", uint32(v)) }

// String is the register's name in Go's assembler.
func (r R) String() string { return fmt.Sprintf("R%d", int(r)) }

// Halves calls body for the low and the high eight bytes of sixteen.
func Halves(body func(t T, high bool)) {
	body(B8, false)
	body(B16, true)
}
