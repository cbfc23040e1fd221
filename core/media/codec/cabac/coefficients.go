// Decoding of the coefficients of a block of H.264, where a routine for many bins takes less time than a bin at a
// time.

package cabac

import "math/bits"

// Contexts are the contexts of a block category of H.264, for Coefficients. They depend on the place of a
// coefficient in the scan, and on the levels before.
type Contexts struct {
	sig, last  [64]uint16 // of significant_coeff_flag and last_significant_coeff_flag, by place
	one, large [8]uint16  // of the first and of the further bins of coeff_abs_level_minus1, by node
	// Nodes say which levels there were: 0 to 3 of 1 alone, from 4 on one to four larger ones.
	afterOne, afterLarge [8]uint8
}

// NewContexts returns the contexts for blocks with as many coefficients as sig and last have entries, which
// are contexts. Those of levels begin at abs; most is the largest ctxIdxInc of the further bins, less 5
// (9.3.3.1.3).
func NewContexts(sig, last []int, abs, most int) *Contexts {
	t := &Contexts{afterOne: [8]uint8{1, 2, 3, 3, 4, 5, 6, 7}, afterLarge: [8]uint8{4, 4, 4, 4, 5, 6, 7, 7}}
	for i, ctx := range sig {
		t.sig[i], t.last[i] = uint16(ctx), uint16(last[i])
	}
	for node := range 4 {
		t.one[node], t.one[4+node] = uint16(abs+1+node), uint16(abs)
		t.large[node], t.large[4+node] = uint16(abs+5), uint16(abs+5+min(most, 1+node))
	}
	return t
}

// Coefficients parses the coefficients of a block (7.3.5.3.3) and returns how many there are. coded is the
// context of coded_block_flag, -1 where it is not sent. scan are the places in scan order of out; each level is
// multiplied by its entry of scale and shifted right, with rounding.
func (c *Decoder) Coefficients(coded int, t *Contexts, scan []uint8, out, scale []int32, shift uint) int {
	return c.coefficients(coded, t, scan, out, scale, shift)
}

func (c *Decoder) coefficientsGo(coded int, t *Contexts, scan []uint8, out, scale []int32, shift uint) int {
	if coded >= 0 && c.Decision(coded) == 0 {
		return 0
	}
	var places [64]uint8
	n, end := 0, len(scan)-1
	for i := 0; ; i++ {
		if i == end {
			places[n&63] = uint8(i)
			n++
			break
		}
		if c.Decision(int(t.sig[i&63])) == 0 {
			continue
		}
		places[n&63] = uint8(i)
		n++
		if c.Decision(int(t.last[i&63])) != 0 {
			break
		}
	}
	node := uint8(0)
	for i := n - 1; i >= 0; i-- {
		level := int32(1)
		if c.Decision(int(t.one[node&7])) == 0 {
			node = t.afterOne[node&7]
		} else {
			level = c.largeLevel(int(t.large[node&7]))
			node = t.afterLarge[node&7]
		}
		if c.Bypass() != 0 {
			level = -level
		}
		place := scan[places[i&63]]
		out[place] = (level*scale[place] + 1<<shift>>1) >> shift
	}
	return n
}

// numbersRow is how many numbers of coefficients there are in a row of those that Blocks is given.
const numbersRow = 8

// Blocks parses a set of blocks as Coefficients does, whose coefficients are 16 apart from out on, and returns those
// that have coefficients, and those that have more than the first one. Block k's number of coefficients is stored in
// numbers at places[k], where it is 0 before. That of the block to its left is just before it, that of the one above
// eight before it; its coded_block_flag depends on both, and the first of its contexts is base (9.3.3.1.1.9).
func (c *Decoder) Blocks(set uint64, base int, t *Contexts, numbers []uint8, places *[32]uint8, scan []uint8, out, scale []int32, shift uint) (coded, more uint64) {
	return c.blocks(set, base, t, numbers, places, scan, out, scale, shift)
}

func (c *Decoder) blocksGo(set uint64, base int, t *Contexts, numbers []uint8, places *[32]uint8, scan []uint8, out, scale []int32, shift uint) (coded, more uint64) {
	for ; set != 0; set &= set - 1 {
		k := bits.TrailingZeros64(set) & 31
		at, block := int(places[k]), out[16*k:][:16]
		inc := min(int(numbers[at-1]), 1) + 2*min(int(numbers[at-numbersRow]), 1)
		n := c.coefficientsGo(base+inc, t, scan, block, scale, shift)
		if numbers[at] = uint8(n); n > 0 {
			coded |= 1 << k
		}
		if n > 1 || n == 1 && block[0] == 0 {
			more |= 1 << k
		}
	}
	return coded, more
}

// largeLevel reads the rest of a level above 1: a truncated unary prefix and an Exp-Golomb suffix (9.3.2.3).
func (c *Decoder) largeLevel(ctx int) int32 {
	level := int32(2)
	for c.Decision(ctx) != 0 {
		if level++; level == 15 {
			return level + c.ExpGolomb(0)
		}
	}
	return level
}
