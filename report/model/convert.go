package model

import (
	"fmt"
	"path/filepath"
	"time"

	"vividstrain/core/logbook"
)

var convertView = view{
	what: conversionName, rung: "try", answer: convertAnswer,
	table: func(d *logbook.Document, _ Choice) Table {
		t := Table{Head: []string{"try", "took", "made", "speed", "bitrate", "CPU of a core", "memory"}, Right: []int{0, 1, 2, 3, 4, 5, 6}}
		if d.Conversion == nil {
			return t
		}
		for i, c := range d.Conversion.Tries {
			t.Rows = append(t.Rows, Cells(fmt.Sprint(i+1), fmt.Sprintf("%.1f s", c.TookS), fmt.Sprintf("%.1f s", c.MediaS), fmt.Sprintf("%.2f x", c.Speed),
				Value("_bps", c.BitrateBPS), fmt.Sprintf("%.0f %%", c.CPUPct), Bytes(float64(c.PeakBytes))))
		}
		return t
	},
}

// conversionName names what is converted to what.
func conversionName(d *logbook.Document) string {
	if d.Conversion == nil {
		return ""
	}
	return filepath.Base(d.Conversion.File) + " -> " + d.Conversion.Goal
}

// watchable is the speed from which a conversion keeps ahead of a viewer, as the build rate of a
// smooth verdict.
const watchable = 1.05

// convertAnswer says whether a conversion is fast enough to watch, and what films take.
func convertAnswer(d *logbook.Document) (lines []Line) {
	c := d.Conversion
	if c == nil || len(c.Tries) == 0 {
		return nil
	}
	least, most := c.Speed()
	each := ""
	if c.Copies > 1 {
		each = fmt.Sprintf(", each of %d at once", c.Copies)
	}
	speed := fmt.Sprintf("%.2f times real time%s", least, each)
	held := c.AheadS > 0 && c.AheadS < c.LengthS && least >= 1 // its speed is the viewer's then
	switch {
	case held:
		lines = append(lines, Line{"", fmt.Sprintf("%s converts %s -> %s%s, held to %s ahead of its viewer.", subject(d), c.Source, c.Goal, each, Span(c.AheadS))})
	case least >= watchable:
		lines = append(lines, Line{"", fmt.Sprintf("%s converts %s -> %s at %s: fast enough to watch.", subject(d), c.Source, c.Goal, speed)},
			Line{"to spare", fmt.Sprintf("%.0f %% of its speed", 100*(1-1/least))})
	default:
		lines = append(lines, Line{"", fmt.Sprintf("%s converts %s -> %s at %s: too slow to watch.", subject(d), c.Source, c.Goal, speed)},
			Line{"short by", fmt.Sprintf("a factor of %.2f", watchable/least)})
	}
	if len(c.Tries) > 1 {
		lines = append(lines, Line{"tries", fmt.Sprintf("%d, from %.2f to %.2f times real time", len(c.Tries), least, most)})
	}
	if held {
		return lines
	}
	lines = append(lines, Line{"film", fmt.Sprintf("a film of two hours takes %s", Span(2*time.Hour.Seconds()/least))})
	if c.Films > 0 {
		lines = append(lines, Line{"library", fmt.Sprintf("%s of %s together (%s) take %s", Plural(c.Films, "film"), Span(c.LibraryS), c.Library, Span(c.LibraryS/least))})
	}
	return lines
}

// Span formats a time in seconds for people: "45 s", "12 min", "3 h 20 min", "2 days 4 h".
func Span(seconds float64) string {
	s := int(seconds + 0.5)
	switch {
	case s >= 48*3600:
		return fmt.Sprintf("%d days %d h", s/86400, s/3600%24)
	case s >= 3600:
		return fmt.Sprintf("%d h %d min", s/3600, s/60%60)
	case s >= 600:
		return fmt.Sprintf("%d min", (s+30)/60)
	case s >= 60 && s/10%6 > 0:
		return fmt.Sprintf("%d min %d s", s/60, s/10%6*10)
	case s >= 60:
		return fmt.Sprintf("%d min", s/60)
	}
	return fmt.Sprintf("%d s", s)
}
