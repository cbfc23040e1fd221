package h264

import (
	mathbits "math/bits"

	"vividstrain/core/media/codec/bits"
)

var errLevels = damaged("an invalid code of coefficients")

// sureBits is how many bits of a reader's window are there for certain.
const sureBits = 57

// cavlcCoeffsGo parses the coefficients of a block (9.2) and returns how many there are. The bits
// are kept in a window, which holds coeff_token, the trailing ones and total_zeros at once.
func (d *sliceDecoder) cavlcCoeffsGo(b *block, table int) (int, error) {
	r := &d.r
	window := r.Window()
	var value, used int
	if table == 5 { // six bits: TotalCoeff-1, TrailingOnes; 000011 for none
		if value, used = int(window>>58), 6; value == 3 {
			value = 0
		} else {
			value += 4
		}
	} else if value, used = coeffTokens[table].lookup(window); used == 0 {
		return 0, errLevels
	}
	total, ones := value>>2, value&3
	if total == 0 {
		r.Skip(used)
		return 0, nil
	}
	if total > len(b.scan) || ones > total {
		return 0, errLevels
	}
	var levels [16]int32
	window <<= uint(used) & 63
	for i := range ones {
		levels[i&15] = 1 - 2*int32(window>>63)
		window <<= 1
	}
	used += ones
	if ones < total {
		r.Skip(used)
		if used = d.cavlcLevels(&levels, total, ones); used < 0 {
			return 0, errLevels
		}
		r.Skip(used)
		window, used = r.Window(), 0
	}
	if used = d.cavlcPlace(b, &levels, total, window, used); used < 0 {
		return 0, errLevels
	}
	r.Skip(used)
	return total, nil
}

// suffixLimits are the sizes of a level from which the next one has a longer suffix, by
// suffixLength (9.2.2.1).
var suffixLimits = [8]int32{3, 3, 6, 12, 24, 48, 1 << 30, 1 << 30}

// cavlcLevels parses the levels after the trailing ones, from the highest frequency down (9.2.2), and returns
// how many bits of the last window they took, -1 where a code is invalid.
func (d *sliceDecoder) cavlcLevels(levels *[16]int32, total, ones int) (used int) {
	r := &d.r
	window := r.Window()
	suffix := uint(oneIf(total > 10 && ones < 3))
	first := int32(2 * oneIf(ones < 3)) // the first level cannot be 1 then
	for i := ones; i < total; i++ {
		if used > sureBits-29 { // a prefix of 15, its one bit and a suffix of 12, or less
			r.Skip(used)
			window, used = r.Window(), 0
		}
		prefix := mathbits.LeadingZeros64(window | 1)
		window <<= uint(prefix+1) & 63
		size, code := suffix, int32(prefix)<<suffix
		if prefix >= 14 {
			if prefix > 25 {
				return -1
			}
			if code = int32(min(prefix, 15)) << suffix; prefix == 14 && suffix == 0 {
				size = 4
			} else if prefix >= 15 {
				size = uint(prefix - 3)
				code += 15 * int32(oneIf(suffix == 0))
			}
			if prefix > 15 { // longer than the window is sure to hold
				r.Skip(used + prefix + 1)
				window, used = r.Window(), -prefix-1
				code += 1<<(prefix-3) - 4096
			}
		}
		code += int32(window>>1>>((63-size)&63)) + first
		window <<= size & 63
		used += prefix + 1 + int(size)
		first = 0
		abs, sign := code>>1+1, -(code & 1)
		levels[i&15] = abs ^ sign - sign
		longer := oneIf(abs > suffixLimits[suffix&7])
		suffix = max(suffix, 1) + uint(longer)
	}
	return used
}

// runCodes are the codes of run_before of up to three bits, by zerosLeft and those bits: the code's length, and
// from bit 4 on the run.
var runCodes = func() (codes [8][8]uint8) {
	for i, table := range runBefore {
		for bits := range codes[i+1] {
			if run, length := table.lookup(uint64(bits) << 61); length > 0 && length <= 3 {
				codes[i+1][bits] = uint8(run<<4 | length)
			}
		}
	}
	return codes
}()

// cavlcPlace parses the runs of zeros and stores each level at its index (9.2.3). It returns how
// many bits of the reader's last window were used, -1 where a code is invalid.
func (d *sliceDecoder) cavlcPlace(b *block, levels *[16]int32, total int, window uint64, used int) int {
	zeros := 0
	scan, out := b.scan, b.out
	scale, half := b.scale[:len(out)], int32(1)<<b.shift>>1
	if most := len(scan); total < most {
		table := totalZeros[(total-1)&15]
		if b.cat == catChromaDC {
			table = totalZerosDC[most>>3][total-1]
		}
		value, length := table.lookup(window)
		if length == 0 || value+total > most {
			return -1
		}
		window <<= uint(length) & 63
		used += length
		zeros = value
	}
	at := total + zeros - 1
	for i := range total {
		place := scan[at]
		out[place] = (levels[i&15]*scale[place] + half) >> (b.shift & 31)
		at--
		if zeros == 0 || i == total-1 {
			continue
		}
		if used > sureBits-11 { // the longest code of run_before
			d.r.Skip(used)
			window, used = d.r.Window(), 0
		}
		run, length := 0, 0
		if code := runCodes[min(zeros, 7)][window>>61]; code != 0 {
			run, length = int(code>>4), int(code&15)
		} else if run, length = runBefore[6].lookup(window); zeros < 7 || length == 0 || run > zeros {
			return -1
		}
		window <<= uint(length) & 63
		used += length
		zeros -= run
		at -= run
	}
	return used
}

// shortDC are the chroma DC blocks of 4:2:0 with at most shortBits bits, by the bits they begin with; the length of
// others is 0.
var shortDC = func() (list [1 << shortBits]struct {
	levels        [4]int8
	length, coded uint8 // coded is 1 for a block with levels
}) {
	var d sliceDecoder
	for next := range list {
		d.r = bits.NewReader([]byte{uint8(next >> (shortBits - 8)), uint8(next << (16 - shortBits)), 0, 0, 0, 0, 0, 0})
		var out [4]int32
		b := block{catChromaDC, out[:], scansDC[0], raw[:], 0}
		total, err := d.cavlcCoeffsGo(&b, b.tableDC())
		if err != nil || d.r.Pos() > shortBits {
			continue
		}
		list[next].length, list[next].coded = uint8(d.r.Pos()), uint8(oneIf(total > 0))
		for i, level := range out {
			list[next].levels[i] = int8(level)
		}
	}
	return list
}()

const shortBits = 9

// cavlcDC420 parses both chroma DC blocks of 4:2:0 into dc and returns which have levels.
func (d *sliceDecoder) cavlcDC420() (coded uint64, err error) {
	for plane := range 2 {
		c := (*[4]int32)(d.dc[16*plane:])
		if e := &shortDC[d.r.Window()>>(64-shortBits)]; e.length > 0 {
			d.r.Skip(int(e.length))
			c[0], c[1], c[2], c[3] = int32(e.levels[0]), int32(e.levels[1]), int32(e.levels[2]), int32(e.levels[3])
			coded |= uint64(e.coded) << plane
			continue
		}
		b := block{catChromaDC, c[:], scansDC[0], raw[:], 0}
		n, err := d.cavlcCoeffs(&b, b.tableDC())
		if err != nil {
			return 0, err
		}
		coded |= uint64(oneIf(n > 0)) << plane
	}
	return coded, nil
}
