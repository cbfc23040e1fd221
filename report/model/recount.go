package model

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/recount"
)

// Recount tells what a recording shows, line by line.
func Recount(r *recount.Report) (lines []Line) {
	for i, a := range r.Screens {
		if len(r.Screens) > 1 {
			lines = append(lines, Line{"", []string{"left screen", "right screen"}[i]})
		}
		lines = append(lines, recountScreen(a)...)
	}
	if d := r.DelayMS; d != nil {
		lines = append(lines, Line{"delay", fmt.Sprintf("frames show %.0f ms later on the right screen", *d)})
	}
	return lines
}

// recountScreen tells what one screen shows.
func recountScreen(a *recount.Account) (lines []Line) {
	add := func(about, format string, args ...any) {
		lines = append(lines, Line{about, fmt.Sprintf(format, args...)})
	}
	f := &a.Frames
	add("recording", "%d pictures of %dx%d in %.1f s, %s a second", a.Pictures, a.Width, a.Height, a.Seconds, Figures(a.Rate))
	film := fmt.Sprintf("%s frames a second", Figures(a.FilmRate))
	if a.Round > 0 {
		film += fmt.Sprintf(", its numbers begin again after %d", a.Round)
	}
	if a.Guessed {
		film += ", by the numbers that were read; --clip FILE makes it sure, and slow motion seen"
	}
	add("film", "%s", film)
	seen := ""
	if a.Angled {
		seen = ", seen at an angle"
	}
	add("picture", "%.0f %% of the recording's width and %.0f %% of its height, at %.0f %% and %.0f %%%s", a.W, a.H, a.X, a.Y, seen)
	add("shown", "%d of %d frames due, %s a second, the first after %.2f s", f.Shown, f.Due, Figures(f.ShownRate), a.FirstS)
	add("dropped", "%d (%s %%)", f.Dropped, Figures(f.DroppedPct()))
	if f.Unread > 0 {
		add("not known", "%d more were shown or dropped between two pictures of the recording", f.Unread)
	}
	if f.Wrong > 0 {
		add("back", "%d times an earlier frame followed", f.Wrong)
	}
	if f.Freezes > 0 {
		add("freezes", "%d, the longest %.0f ms", f.Freezes, f.LongestFreezeMS)
	} else {
		add("freezes", "none")
	}
	add("cadence", "%s; %d longer or shorter than even", held(a.Holds), f.Uneven)
	if a.Torn > 0 {
		add("torn", "%d pictures have two frames", a.Torn)
	} else {
		add("torn", "no picture")
	}
	switch d := a.Damage; {
	case d == nil:
	case d.Damaged == 0:
		add("damage", "none in %s", Plural(d.Checked, "frame"))
	default:
		add("damage", "in %d of %d frames, at worst %s %% of the picture, after %.2f s", d.Damaged, d.Checked, Figures(d.WorstPct), d.WorstS)
	}
	add("speed", "%.3f", f.Speed)
	if a.Blank > 0 {
		add("unread", "the marks of %d of %d pictures", a.Blank, a.Blank+a.Read)
	}
	return lines
}

// held says for how many pictures of a recording frames were seen.
func held(holds map[string]int) string {
	var keys []int
	for k := range holds {
		if n, err := strconv.Atoi(k); err == nil {
			keys = append(keys, n)
		}
	}
	slices.Sort(keys)
	var list []string
	for i, k := range keys {
		text := fmt.Sprintf("%d for %d", holds[strconv.Itoa(k)], k)
		if i == 0 {
			text = fmt.Sprintf("%s for %s", Plural(holds[strconv.Itoa(k)], "frame"), Plural(k, "picture"))
		}
		if k == 10 {
			text += " or more"
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}
