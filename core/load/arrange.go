package load

import (
	"cmp"
	"fmt"
	"slices"

	"vividstrain/core/media"
)

// Arrange makes a ladder of loads in any order: one column for each family of formats, its rungs
// sorted by samples per second, then by bitrate.
func Arrange(name string, loads []Load) (*Ladder, error) {
	ladder := &Ladder{Name: name}
	for _, l := range loads {
		family := l.family()
		i := slices.IndexFunc(ladder.Columns, func(c Column) bool { return c.Name == family })
		if i < 0 {
			i = len(ladder.Columns)
			ladder.Columns = append(ladder.Columns, Column{Name: family})
		}
		ladder.Columns[i].Rungs = append(ladder.Columns[i].Rungs, l)
	}
	for _, c := range ladder.Columns {
		slices.SortStableFunc(c.Rungs, func(a, b Load) int {
			return cmp.Or(cmp.Compare(a.PixelRate(), b.PixelRate()),
				cmp.Compare(a.Bitrate*int64(a.Streams), b.Bitrate*int64(b.Streams)), cmp.Compare(a.File, b.File))
		})
	}
	codecs := knownCodecs()
	slices.SortFunc(ladder.Columns, func(a, b Column) int {
		return cmp.Or(slices.Index(codecs, a.Rungs[0].Codec)-slices.Index(codecs, b.Rungs[0].Codec), cmp.Compare(a.Name, b.Name))
	})
	return ladder, ladder.check()
}

// family returns what the formats of one column have in common.
func (l Load) family() string {
	f := l.Codec
	if l.Interlaced {
		f += "-interlaced"
	}
	if l.Depth > 8 {
		f += fmt.Sprintf("-%dbit", l.Depth)
	}
	if l.Chroma.IsTall() {
		f += "-" + l.Chroma.String()
	}
	if l.Transfer != media.SDR {
		f += "-" + string(l.Transfer)
	}
	if l.Goal != nil {
		f += "-converted"
	}
	return f
}
