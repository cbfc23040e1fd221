package h264

import (
	mathbits "math/bits"
	"unsafe"

	"golang.org/x/sys/cpu"
)

// cavlcTables are the tables of the assembly that parses a block.
type cavlcTables struct {
	// levels are the levels whose codes have up to eight bits, by row and by the next eight bits: from bit 16 on the
	// level, from bit 10 on the row of the next one, from bit 0 on the length of the code, 0 for longer ones. A row
	// is a suffixLength; 7 and 8 are the first level with fewer than three trailing ones, with suffixLength 0 and 1.
	levels [9][256]int32
	// runs are the codes of run_before of up to three bits, by zerosLeft and those bits: from bit 8 on what is left of
	// zerosLeft, from bit 4 on the run, from bit 0 on the length of the code, 0 for longer ones.
	runs     [16][8]uint16
	suffixes [16]uint8 // suffixLength of each row
	firsts   [16]uint8 // what is added to the code of a level
	limits   [8]int32  // suffixLimits
	tokens   [6]*codeTable
	tokensOf [136]uint8
	// starts are how blocks begin, by table of coeff_token and by the next eight bits. From bit 0 on there is the length
	// of the codes, 0 where they have more bits. If bit 15 is set, they are coeff_token, whose value is from bit 8 on.
	// Else they are all of a block without levels or with one of 1 or -1, which is from bit 16 on; one more than its
	// place in scan order is from bit 8 on, 0 for none.
	starts [6][256]int32
	// zeroRows are the rows of zeroCodes by TotalCoeff: from bit 8 on where one begins, from bit 0 on how many bits of a
	// window are not looked at.
	zeroRows [16]uint32
}

// The places of the fields that the assembly knows.
var _ = [1]struct{}{}[unsafe.Offsetof(codeTable{}.look)+unsafe.Offsetof(cavlcTables{}.runs)-9216+unsafe.Offsetof(cavlcTables{}.suffixes)-9472+
	unsafe.Offsetof(cavlcTables{}.firsts)-9488+unsafe.Offsetof(cavlcTables{}.limits)-9504+unsafe.Offsetof(cavlcTables{}.tokens)-9536+
	unsafe.Offsetof(cavlcTables{}.tokensOf)-9584+unsafe.Offsetof(cavlcTables{}.starts)-9720+unsafe.Offsetof(cavlcTables{}.zeroRows)-15864+
	unsafe.Offsetof(cavlcRun{}.zeros)-80+unsafe.Offsetof(block{}.shift)-80+cacheStep-8]

var fastTables = func() *cavlcTables {
	t := &cavlcTables{limits: suffixLimits, tokensOf: tokensOf()}
	copy(t.tokens[:], coeffTokens[:]) // not the last, whose codes all have six bits
	for row := range t.levels {
		suffix, first := row, 0
		if row >= 7 {
			suffix, first = row-7, 2
		}
		t.suffixes[row], t.firsts[row] = uint8(suffix), uint8(first)
		for bits := range t.levels[row] {
			prefix := mathbits.LeadingZeros8(uint8(bits))
			length := prefix + 1 + suffix
			if length > 8 {
				continue
			}
			code := prefix<<suffix + bits>>(8-length)&(1<<suffix-1) + first
			level, next := int32(code>>1+1), max(suffix, 1)
			if level > suffixLimits[suffix] {
				next++
			}
			if code&1 != 0 {
				level = -level
			}
			t.levels[row][bits] = level<<16 | int32(next<<10|length)
		}
	}
	for left := 1; left < len(t.runs); left++ {
		for bits, code := range runCodes[min(left, 7)] {
			if run := int(code >> 4); code != 0 && run <= left {
				t.runs[left][bits] = uint16((left-run)<<8) | uint16(code)
			}
		}
	}
	zeros := [5]*codeTable{totalZeros[0], totalZeros[0], totalZeros[0], totalZerosDC[0][0], totalZerosDC[1][0]}
	for i, of := range zeros {
		for bits := range t.starts[i] {
			t.starts[i][bits] = start(uint64(bits)<<56, coeffTokens[i], of)
		}
	}
	for bits := range t.starts[5] {
		switch value := bits >> 2; {
		case value == 3:
			t.starts[5][bits] = 6
		case value&3 <= value>>2+1:
			t.starts[5][bits] = int32(128|value+4)<<8 | 6
		}
	}
	t.zeroRows[1] = zeroRow1<<8 | 64 - zeroBits1
	for total := 2; total < len(t.zeroRows); total++ {
		t.zeroRows[total] = uint32((total-2)<<zeroBits<<8 | 64 - zeroBits)
	}
	return t
}()

// start returns the entry of starts for the eight bits at the top of window.
func start(window uint64, tokens, zeros *codeTable) int32 {
	token, length := tokens.lookup(window)
	if length == 0 || length > 8 {
		return 0
	}
	if token == 0 {
		return int32(length)
	}
	window <<= uint(length) & 63
	if place, more := zeros.lookup(window << 1); token == 4+1 && more > 0 && length+1+more <= 8 {
		return (1-2*int32(window>>63))<<16 | int32(place+1)<<8 | int32(length+1+more)
	}
	return int32(128|token)<<8 | int32(length)
}

// zeroCodes are the codes of total_zeros of up to zeroBits bits by TotalCoeff from 2 on and by those bits, and of
// zeroBits1 bits for TotalCoeff 1 from zeroRow1 on: from bit 4 on the value, from bit 0 on the length, 0 for none.
type zeroCodes [zeroRow1 + 1<<zeroBits1]uint8

const (
	zeroBits  = 6
	zeroBits1 = 9
	zeroRow1  = 14 << zeroBits
)

// fastZeros are the codes of totalZeros, and of both of totalZerosDC.
var fastZeros = [3]*zeroCodes{newZeroCodes(totalZeros), newZeroCodes(totalZerosDC[0]), newZeroCodes(totalZerosDC[1])}

func newZeroCodes(tables []*codeTable) *zeroCodes {
	var codes zeroCodes
	for i, table := range tables {
		row, width := codes[zeroRow1:], zeroBits1
		if i > 0 {
			row, width = codes[(i-1)<<zeroBits:][:1<<zeroBits], zeroBits
		}
		for bits := range row {
			if value, length := table.lookup(uint64(bits) << (64 - width)); length <= width {
				row[bits] = uint8(value<<4 | length)
			}
		}
	}
	return &codes
}

// tokensOf are the tables of coeff_token by the sum of the numbers of coefficients of both neighbours.
func tokensOf() (list [136]uint8) {
	for sum := range list {
		list[sum] = coeffTable[contextOf(sum)&31]
	}
	return list
}

// cavlcRun is the state of the assembly that parses blocks.
type cavlcRun struct {
	data        *byte
	pos, limit  int    // in bits: the place in the data, and the last one at which a block may begin
	set         uint64 // of the blocks to parse
	coded, more uint64 // results as of cavlcBlocks
	total       int    // number of coefficients of the last block that has any
	table       int    // of coeff_token; -1 for that of the numbers of the neighbours, which are kept then
	numbers     *uint8 // cache of the numbers
	at          *uint8 // places of the blocks in it
	zeros       *zeroCodes
}

// longestBlock is more than the bits of a block that the assembly parses, and of the window after it.
const longestBlock = 800

// parse runs the assembly for blocks that are laid out like b, and reports whether it parsed anything.
func (r *cavlcRun) parse(d *sliceDecoder, b *block) bool {
	data, pos := d.r.Data(), d.r.Pos()
	if r.limit = 8*len(data) - longestBlock; pos > r.limit || !cpu.X86.HasBMI1 || !cpu.X86.HasBMI2 {
		return false
	}
	r.data, r.pos, r.zeros = &data[0], pos, fastZeros[0]
	if b.cat == catChromaDC {
		r.zeros = fastZeros[1+len(b.scan)>>3]
	}
	cavlcFast((*byte)(unsafe.Pointer(r)), (*byte)(unsafe.Pointer(b)), (*byte)(unsafe.Pointer(fastTables)))
	d.r.Skip(r.pos - pos)
	return r.pos > pos
}

// cavlcCoeffs is cavlcCoeffsGo, or its twin in assembly.
func (d *sliceDecoder) cavlcCoeffs(b *block, table int) (int, error) {
	_, _ = b.out[len(b.scan)-1], b.scale[len(b.scan)-1]
	r := cavlcRun{set: 1, table: table}
	if r.parse(d, b) {
		return r.total, nil
	}
	return d.cavlcCoeffsGo(b, table)
}

// cavlcBlocks parses blocks of a set, whose coefficients are 16 apart from b.out on, up to one that the assembly
// leaves to cavlcCoeffsGo. It returns those that have coefficients, those that have more than the first one, and those
// that are left.
func (d *sliceDecoder) cavlcBlocks(b *block, set uint64) (coded, more, left uint64) {
	_, _ = b.out[16*(mathbits.Len64(set)-1)+len(b.scan)-1], b.scale[len(b.scan)-1]
	r := cavlcRun{set: set, table: -1, numbers: &d.nz[0], at: &blockAt[0]}
	if b.cat == catChromaDC {
		r.table = b.tableDC()
	}
	r.parse(d, b)
	return r.coded, r.more, r.set
}
