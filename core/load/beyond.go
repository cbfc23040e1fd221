package load

import "cmp"

// Beyond returns the built-in ladder that goes on after a load: of the ladders that have a harder
// load of the same family, the one whose next load is nearest, and that load.
func Beyond(l Load) (ladder string, next Load, found bool) {
	ladders, err := BuiltIn()
	if err != nil {
		return "", Load{}, false
	}
	for _, candidate := range ladders {
		for _, column := range candidate.Columns {
			for _, rung := range column.Rungs {
				if rung.family() != l.family() || rung.Goal != nil || rung.Streams != l.Streams || harder(rung, l) <= 0 {
					continue
				}
				if !found || harder(rung, next) < 0 {
					ladder, next, found = candidate.Name, rung, true
				}
			}
		}
	}
	return ladder, next, found
}

// harder compares loads first by samples per second, then by bitrate.
func harder(a, b Load) int {
	return cmp.Or(cmp.Compare(a.PixelRate(), b.PixelRate()), cmp.Compare(a.Bitrate, b.Bitrate))
}

// AsHard reports whether a load asks at least as much as another in every respect: the same codec,
// depth, chroma, scan and goal, and no fewer pixels, frames, bits and streams.
func (l Load) AsHard(than Load) bool {
	goal := func(l Load) string {
		if l.Goal == nil {
			return ""
		}
		return l.Goal.String()
	}
	a, b := l.Format, than.Format
	return a.Codec == b.Codec && max(a.Depth, 8) == max(b.Depth, 8) && a.Chroma == b.Chroma && a.Interlaced == b.Interlaced && a.Transfer == b.Transfer && goal(l) == goal(than) &&
		a.Width*a.Height >= b.Width*b.Height && a.Rate.Hz() >= b.Rate.Hz()*0.999 && a.Bitrate >= b.Bitrate && l.Streams >= than.Streams
}

// MoreOf reports whether a load is another one with more frames, bits or streams: what carries it
// carries the other. Of files that is not known.
func (l Load) MoreOf(other Load) bool {
	return l.File == "" && other.File == "" && l.Width == other.Width && l.Height == other.Height && l.Profile == other.Profile && l.AsHard(other)
}
