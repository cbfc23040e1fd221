// Decoding of the coefficients of a block of H.265. Section numbers are those of H.265.

package cabac

import "math/bits"

// Scan is how the coefficients of a block of H.265 are coded: in which order, and with which contexts.
type Scan struct {
	ScanContexts
	subs  [64]scanned // in scan order
	inner [16]uint16  // where the coefficients of a sub-block are, in scan order, after its first one
	// The inverse: the number of the sub-block at 8*row + column, and of the coefficient at 4*row + column of one.
	subAt   [64]uint8
	coefAt  [16]uint8
	longest uint8  // prefix of a coordinate
	further uint8  // what is added to ctxSet of sub-blocks after the first one
	last    uint16 // where the last coefficient of the block is
}

// ScanContexts are contexts of syntax elements.
type ScanContexts struct {
	// Sig are those of sig_coeff_flag by place in the scan of a sub-block: by whether the sub-block to the right (1)
	// and the one below (2) have coefficients, and from the fifth list on for the sub-block of the first coefficient
	// of all.
	Sig [8][16]uint8
	// The first ones of last_sig_coeff_x_prefix and y_prefix, of coded_sub_block_flag, coeff_abs_level_greater1_flag
	// and greater2_flag.
	LastX, LastY, Coded, Greater1, Greater2 uint16
	LastShift                               uint8 // of bins of a prefix to their contexts
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

// NewScan returns the scan of blocks of luma or chroma of 1 << log2 samples a side, log2 = 2 to 5. Places are
// x | y<<4: subs are those of the sub-blocks, inner those in a sub-block. In a vertical scan the coordinates of the
// last coefficient are sent the other way round (7.4.9.11).
func NewScan(log2 int, subs, inner []uint8, contexts *ScanContexts, isLuma, vertical bool) *Scan {
	s := &Scan{ScanContexts: *contexts, longest: uint8(2*log2 - 1), last: 1<<(2*log2) - 1}
	if isLuma {
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
		if vertical {
			x, y = y, x
		}
		s.subAt[y<<3|x] = uint8(i)
	}
	for i, p := range inner {
		x, y := p&15, p>>4
		s.inner[i] = uint16(y)<<log2 | uint16(x)
		if vertical {
			x, y = y, x
		}
		s.coefAt[y<<2|x] = uint8(i)
	}
	return s
}

// Residual is a block whose coefficients are parsed (7.3.8.11), from the place of the last one on.
type Residual struct {
	Scan *Scan
	Out  []int16 // all coefficients in raster order, 0 before
	// Each level is stored as (level*Factor + 1<<Shift>>1) >> Shift, clipped to 16 bits.
	Factor int64
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
	lastSub, lastCoef := c.last(s)
	for i := lastSub; i >= 0; i-- {
		sub := s.subs[i&63]
		neighbours := r.Coded>>sub.right&1 | r.Coded>>sub.below&1<<1
		inferred := i < lastSub && i > 0 // a sub-block that is coded has a level
		if inferred && c.Decision(int(s.Coded)+int(min(neighbours, 1))) == 0 {
			continue
		}
		r.Coded |= 1 << sub.place
		contexts, further := &s.Sig[neighbours&3], int(s.further)
		if i == 0 {
			contexts, further = &s.Sig[4+neighbours&3], 0
		}
		first, set := 15, uint(0)
		if i == lastSub {
			first, set = lastCoef-1, 1<<lastCoef
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

// last parses which sub-block has the last coefficient, and which one of it that is, in scan order.
func (c *Decoder) last(s *Scan) (sub, coef int) {
	px := c.prefix(s, s.LastX)
	py := c.prefix(s, s.LastY)
	x := c.coordinate(px)
	y := c.coordinate(py)
	return int(s.subAt[y>>2<<3|x>>2]), int(s.coefAt[y&3<<2|x&3])
}

// prefix reads the prefix of a coordinate (9.3.3.2).
func (c *Decoder) prefix(s *Scan, ctx uint16) (n int) {
	for n < int(s.longest) && c.Decision(int(ctx)+n>>s.LastShift) != 0 {
		n++
	}
	return n
}

// coordinate reads what follows a prefix (7.4.9.11).
func (c *Decoder) coordinate(prefix int) int {
	if prefix <= 3 {
		return prefix
	}
	n := prefix>>1 - 1
	return (2+prefix&1)<<n + int(c.Bypasses(n))
}

// levels parses the levels of the coefficients of a sub-block that are in set, from the last one to the first.
// further and greater determine ctxSet (9.3.4.2.6); greater is greater1Ctx after the sub-block before, or 1. It
// returns greater1Ctx after this one.
func (c *Decoder) levels(r *Residual, set uint, further, greater int, out []int16) int {
	s, n := r.Scan, bits.OnesCount(set)
	if greater == 0 {
		further++
	}
	base := int(s.Greater1) + 4*further
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
	if larger != 0 && c.Decision(int(s.Greater2)+further) != 0 {
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
		out[s.inner[place&15]] = int16(max(-1<<15, min((int64(level)*r.Factor+1<<r.Shift>>1)>>r.Shift, 1<<15-1)))
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
