// Decoding of the coefficients of a block of H.265. Section numbers are those of H.265.

package cabac

import "math/bits"

// Scan is how the coefficients of a block of H.265 are coded: in which order, and with which contexts.
type Scan struct {
	// sig are the contexts of sig_coeff_flag by place in the scan of a sub-block: by whether the sub-block to the
	// right (1) and the one below (2) have coefficients, and from the fifth list on for the sub-block of the first
	// coefficient of all.
	sig   [8][16]uint8
	subs  [64]scanned // in scan order
	inner [16]uint16  // where the coefficients of a sub-block are, in scan order, after its first one
	// The first contexts of coded_sub_block_flag, coeff_abs_level_greater1_flag and greater2_flag, and what is added
	// to ctxSet of sub-blocks after the first one.
	coded, greater1, greater2, further uint16
	last                               uint16 // where the last coefficient of the block is
}

// scanned is a sub-block in a scan.
type scanned struct {
	place uint8 // 8*row + column
	// Those to the right and below, 0 where there are none: that of the first coefficient comes last.
	right, below uint8
	_            uint8
	first        uint16 // where its first coefficient is
	_            uint16
}

// NewScan returns the scan of blocks of 1 << log2 samples a side, log2 = 2 to 5. Places are x | y<<4: subs are those
// of the sub-blocks, inner those in a sub-block. sig, coded, greater1 and greater2 are contexts as in Scan.
func NewScan(log2 int, subs, inner []uint8, sig *[8][16]uint8, coded, greater1, greater2 int, luma bool) *Scan {
	s := &Scan{sig: *sig, coded: uint16(coded), greater1: uint16(greater1), greater2: uint16(greater2), last: 1<<(2*log2) - 1}
	if luma {
		s.further = 2
	}
	side := uint8(1)<<log2/4 - 1
	for i, p := range subs {
		x, y := p&15, p>>4
		sub := &s.subs[i]
		sub.place, sub.first = y<<3|x, uint16(y)<<(log2+2)|uint16(x)<<2
		if x < side {
			sub.right = sub.place + 1
		}
		if y < side {
			sub.below = sub.place + 8
		}
	}
	for i, p := range inner {
		s.inner[i] = uint16(p>>4)<<log2 | uint16(p&15)
	}
	return s
}

// Residual is a block whose coefficients are parsed (7.3.8.11), after the place of the last one.
type Residual struct {
	Scan              *Scan
	LastSub, LastCoef int     // which sub-block has the last coefficient, and which one of it that is, in scan order
	Out               []int16 // all coefficients in raster order, 0 before
	// Each level is stored as (level*Factor + 1<<Shift>>1) >> Shift, clipped to 16 bits.
	Factor int
	Shift  uint
	Hidden bool // a sign may be hidden in a sum of levels (sign_data_hiding_enabled_flag)
	// Stat is the entry of StatCoeff that adapts the Rice parameter, nil without
	// persistent_rice_adaptation_enabled_flag.
	Stat *uint8

	// Coded are the sub-blocks with coded levels, bit 8*row + column.
	Coded uint64
	// Failed says that a level has more than 16 bits.
	Failed bool
}

// Residual parses the coefficients of a block.
func (c *Decoder) Residual(r *Residual) { c.residual(r) }

func (c *Decoder) residualGo(r *Residual) {
	s, greater := r.Scan, 1
	for i := r.LastSub; i >= 0; i-- {
		sub := s.subs[i&63]
		neighbours := r.Coded>>sub.right&1 | r.Coded>>sub.below&1<<1
		inferred := i < r.LastSub && i > 0 // a sub-block that is coded has a level
		if inferred && c.Decision(int(s.coded)+int(min(neighbours, 1))) == 0 {
			continue
		}
		r.Coded |= 1 << sub.place
		contexts, further := &s.sig[neighbours&3], int(s.further)
		if i == 0 {
			contexts, further = &s.sig[4+neighbours&3], 0
		}
		first, set := 15, uint(0)
		if i == r.LastSub {
			first, set = r.LastCoef-1, 1<<r.LastCoef
		}
		for k := first; k >= 0; k-- {
			if k == 0 && inferred && set == 0 {
				set = 1
				break
			}
			set |= uint(c.Decision(int(contexts[k&15]))) << k
		}
		if set != 0 {
			greater = c.levels(r, set, further, greater, r.Out[sub.first:])
		}
	}
}

// levels parses the levels of the coefficients of a sub-block that are in set, from the last one to the first.
// further and greater determine ctxSet (9.3.4.2.6); greater is greater1Ctx after the sub-block before, or 1. It
// returns greater1Ctx after this one.
func (c *Decoder) levels(r *Residual, set uint, further, greater int, out []int16) int {
	s, n := r.Scan, bits.OnesCount(set)
	if greater == 0 {
		further++
	}
	base := int(s.greater1) + 4*further
	greater = 1
	larger := uint(0) // levels above 1, by their order
	for k := range min(8, n) {
		switch {
		case c.Decision(base+greater) != 0:
			greater = 0
			larger |= 1 << k
		case greater > 0 && greater < 3:
			greater++
		}
	}
	firstLarger := bits.TrailingZeros(larger | 1<<16)
	rest := larger&^(1<<firstLarger) | 0xFF00 // those with coeff_abs_level_remaining
	if larger != 0 && c.Decision(int(s.greater2)+further) != 0 {
		rest |= 1 << firstLarger
	}
	hidden := r.Hidden && bits.Len(set)-1-bits.TrailingZeros(set) > 3
	signs := 0
	for k := range n {
		if k < n-1 || !hidden {
			signs |= c.Bypass() << k
		}
	}
	rice, sum := 0, 0
	if r.Stat != nil {
		rice = int(*r.Stat) / 4
	}
	for k := range n {
		level := 1 + int(larger>>k&1)
		if rest>>k&1 != 0 {
			if k == firstLarger {
				level++
			}
			remaining := c.remaining(rice)
			if level += remaining; level > 1<<15 {
				r.Failed = true
			}
			if r.Stat != nil && rest&(1<<k-1) == 0 {
				adapt(r.Stat, remaining)
			}
			if level > 3<<rice && (rice < 4 || r.Stat != nil) {
				rice++
			}
		}
		if sum += level; hidden && k == n-1 {
			signs |= sum & 1 << k
		}
		if signs>>k&1 != 0 {
			level = -level
		}
		place := bits.Len(set) - 1
		set &^= 1 << place
		out[s.inner[place&15]] = int16(max(-1<<15, min((level*r.Factor+1<<r.Shift>>1)>>r.Shift, 1<<15-1)))
	}
	return greater
}

// remaining reads coeff_abs_level_remaining (9.3.3.11).
func (c *Decoder) remaining(rice int) int {
	prefix := 0
	for prefix < 32 && c.Bypass() != 0 {
		prefix++
	}
	base, n := 0, rice // of the suffix
	switch {
	case prefix <= 3:
		base = prefix
	case prefix > 3+20:
		return 0 // no valid level is that large
	default:
		base, n = 1<<(prefix-3)+3-1, prefix-3+rice
	}
	return base<<rice + int(c.Bypasses(n))
}

// adapt adapts an entry of StatCoeff by the first remaining level of a sub-block (9.3.4.2.6).
func adapt(stat *uint8, remaining int) {
	if remaining >= 3<<(*stat/4) {
		*stat++
	} else if 2*remaining < 1<<(*stat/4) && *stat > 0 {
		*stat--
	}
}
