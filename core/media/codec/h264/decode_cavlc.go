package h264

import (
	mathbits "math/bits"
	"strconv"
	"strings"
)

// codeTable is a table of variable-length codes. A code is looked up by its number of leading
// zeros and the three bits after its first one bit; no code of this standard's tables has more
// than three bits there.
type codeTable struct {
	look  [16][8]struct{ value, length uint8 }
	codes [68]code // by value
}

// code is one variable-length code: its bits as a number, and how many bits it has.
type code struct {
	bits   uint16
	length uint8
}

// newCodeTable makes a table from codes written as strings of 0 and 1; a code's value is its
// index. An empty string means that the value has no code.
func newCodeTable(codes []string) *codeTable {
	var t codeTable
	for value, digits := range codes {
		number, _ := strconv.ParseUint("0"+digits, 2, 16)
		t.codes[value] = code{uint16(number), uint8(len(digits))}
	}
	for zeros := range t.look {
		for tail := range t.look[zeros] {
			pattern := strings.Repeat("0", zeros) + "1"
			for bit := 4; bit > 0; bit >>= 1 {
				pattern += string('0' + rune(min(tail&bit, 1)))
			}
			for value, digits := range codes {
				if digits != "" && strings.HasPrefix(pattern, digits) {
					t.look[zeros][tail].value, t.look[zeros][tail].length = uint8(value), uint8(len(digits))
				}
			}
		}
	}
	return &t
}

// lookup decodes the code at the head of the 32 bits v; length 0 means that there is none.
func (t *codeTable) lookup(v uint32) (value, length int) {
	zeros := min(mathbits.LeadingZeros32(v), 15)
	e := t.look[zeros][v<<(zeros+1)>>29]
	return int(e.value), int(e.length)
}

// coeffTokens are the codes of coeff_token for nC 0 to 1, 2 to 3, 4 to 7, -1 (chroma DC of
// 4:2:0) and -2 (of 4:2:2), indexed by 4*TotalCoeff+TrailingOnes (table 9-5). From nC 8 on, the
// code has a fixed length of six bits.
var coeffTokens = func() (tables [5]*codeTable) {
	for i := range tables {
		codes := make([]string, 17*4)
		for row, line := range strings.Split(strings.TrimSpace(coeffTokenCodes), "\n") {
			total, ones := coeffTokenRow(row)
			if fields := strings.Fields(line); i < len(fields) && fields[i] != "-" {
				codes[4*total+ones] = fields[i]
			}
		}
		tables[i] = newCodeTable(codes)
	}
	return tables
}()

// coeffTokenRow returns TotalCoeff and TrailingOnes of row n of table 9-5.
func coeffTokenRow(n int) (total, ones int) {
	for total = 0; n > min(total, 3); total++ {
		n -= min(total, 3) + 1
	}
	return total, n
}

const coeffTokenCodes = `
1 11 1111 01 1
000101 001011 001111 000111 0001111
01 10 1110 1 01
00000111 000111 001011 000100 0001110
000100 00111 01111 000110 0001101
001 011 1101 001 001
000000111 0000111 001000 000011 000000111
00000110 001010 01100 0000011 0001100
0000101 001001 01110 0000010 0001011
00011 0101 1100 000101 00001
0000000111 00000111 0001111 000010 000000110
000000110 000110 01010 00000011 000000101
00000101 000101 01011 00000010 0001010
000011 0100 1011 0000000 000001
00000000111 00000100 0001011 - 0000000111
0000000110 0000110 01000 - 0000000110
000000101 0000101 01001 - 000000100
0000100 00110 1010 - 0001001
0000000001111 000000111 0001001 - 00000000111
00000000110 00000110 001110 - 00000000110
0000000101 00000101 001101 - 0000000101
00000100 001000 1001 - 0001000
0000000001011 00000001111 0001000 - 000000000111
0000000001110 000000110 001010 - 000000000110
00000000101 000000101 001001 - 00000000101
000000100 000100 1000 - 0000000100
0000000001000 00000001011 00001111 - 0000000000111
0000000001010 00000001110 0001110 - 000000000101
0000000001101 00000001101 0001101 - 000000000100
0000000100 0000100 01101 - 00000000100
00000000001111 000000001111 00001011
00000000001110 00000001010 00001110
0000000001001 00000001001 0001010
00000000100 000000100 001100
00000000001011 000000001011 000001111
00000000001010 000000001110 00001010
00000000001101 000000001101 00001101
0000000001100 00000001100 0001100
000000000001111 000000001000 000001011
000000000001110 000000001010 000001110
00000000001001 000000001001 00001001
00000000001100 00000001000 00001100
000000000001011 0000000001111 000001000
000000000001010 0000000001110 000001010
000000000001101 0000000001101 000001101
00000000001000 000000001100 00001000
0000000000001111 0000000001011 0000001101
000000000000001 0000000001010 000000111
000000000001001 0000000001001 000001001
000000000001100 0000000001100 000001100
0000000000001011 0000000000111 0000001001
0000000000001110 00000000001011 0000001100
0000000000001101 0000000000110 0000001011
000000000001000 0000000001000 0000001010
0000000000000111 00000000001001 0000000101
0000000000001010 00000000001000 0000001000
0000000000001001 00000000001010 0000000111
0000000000001100 0000000000001 0000000110
0000000000000100 00000000000111 0000000001
0000000000000110 00000000000110 0000000100
0000000000000101 00000000000101 0000000011
0000000000001000 00000000000100 0000000010
`

// splitCodes makes one code table of each line.
func splitCodes(lines string) (tables []*codeTable) {
	for _, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		tables = append(tables, newCodeTable(strings.Fields(line)))
	}
	return tables
}

// totalZeros are the codes of total_zeros, indexed by TotalCoeff-1 (tables 9-7 and 9-8).
var totalZeros = splitCodes(totalZerosCodes)

const totalZerosCodes = `
1 011 010 0011 0010 00011 00010 000011 000010 0000011 0000010 00000011 00000010 000000011 000000010 000000001
111 110 101 100 011 0101 0100 0011 0010 00011 00010 000011 000010 000001 000000
0101 111 110 101 0100 0011 100 011 0010 00011 00010 000001 00001 000000
00011 111 0101 0100 110 101 100 0011 011 0010 00010 00001 00000
0101 0100 0011 111 110 101 100 011 0010 00001 0001 00000
000001 00001 111 110 101 100 011 010 0001 001 000000
000001 00001 101 100 011 11 010 0001 001 000000
000001 0001 00001 011 11 10 010 001 000000
000001 000000 0001 11 10 001 01 00001
00001 00000 001 11 10 01 0001
0000 0001 001 010 1 011
0000 0001 01 1 001
000 001 1 01
00 01 1
0 1
`

// totalZerosDC are the codes of total_zeros for chroma DC blocks of 4:2:0 and of 4:2:2 (table
// 9-9).
var totalZerosDC = [2][]*codeTable{splitCodes(totalZerosDC420Codes), splitCodes(totalZerosDC422Codes)}

const totalZerosDC420Codes = `
1 01 001 000
1 01 00
1 0
`

const totalZerosDC422Codes = `
1 010 011 0010 0011 0001 00001 00000
000 01 001 100 101 110 111
000 001 01 10 110 111
110 00 01 10 111
00 01 10 11
00 01 1
0 1
`

// runBefore are the codes of run_before, indexed by zerosLeft-1 (table 9-10).
var runBefore = splitCodes(runBeforeCodes)

const runBeforeCodes = `
1 0
1 01 00
11 10 01 00
11 10 01 001 000
11 10 011 010 001 000
11 000 001 011 010 101 100
111 110 101 100 011 010 001 0001 00001 000001 0000001 00000001 000000001 0000000001 00000000001
`
