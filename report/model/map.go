package model

import (
	"fmt"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
)

// mapView shows runs that found the highest smooth bitrate of each size and rate.
var mapView = view{
	what: func(d *logbook.Document) string { return d.Ladder }, rung: "load",
	answer: mapAnswer,
	table: func(d *logbook.Document, choice Choice) Table {
		if len(choice.Names) == 0 && !choice.All {
			return mapTable(d)
		}
		return loadTable(d, choice)
	},
}

// mapTable is the map: sizes by rates, the largest at the top, each with its highest smooth bitrate
// and what ran out above it.
func mapTable(d *logbook.Document) Table {
	var sizes, rates []string
	fields := map[string]logbook.MapField{}
	for _, f := range d.Map {
		if !slices.Contains(sizes, f.Size) {
			sizes = append(sizes, f.Size)
		}
		if !slices.Contains(rates, f.Rate) {
			rates = append(rates, f.Rate)
		}
		fields[f.Size+" "+f.Rate] = f
	}
	t := Table{Head: []string{"size"}}
	for _, r := range rates {
		t.Head = append(t.Head, "at "+r+"/s")
	}
	for _, size := range slices.Backward(sizes) {
		row := []Cell{{Text: size}}
		for _, rate := range rates {
			row = append(row, mapCell(fields[size+" "+rate]))
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

func mapCell(f logbook.MapField) Cell {
	switch {
	case f.Load == nil && f.Skipped:
		return Cell{Text: "× surely not", Faint: true}
	case f.Load == nil && f.Next != nil:
		return Cell{Text: "× none: " + string(f.Limiter)}
	case f.Load == nil:
		return Cell{Text: "not tried", Faint: true}
	case f.Next == nil:
		return Cell{Text: "● " + media.BitrateText(float64(f.Load.Bitrate)) + " or more"}
	}
	return Cell{Text: "● " + media.BitrateText(float64(f.Load.Bitrate)) + "  " + string(f.Limiter)}
}

// mapAnswer says what the hardest field is in which anything was smooth.
func mapAnswer(d *logbook.Document) (lines []Line) {
	if len(d.Map) == 0 {
		return nil
	}
	var best *logbook.MapField
	for i := range d.Map {
		if f := &d.Map[i]; f.Load != nil && (best == nil || f.Load.Format.PixelRate() >= best.Load.Format.PixelRate()) {
			best = f
		}
	}
	if best == nil {
		return []Line{{"", subject(d) + " plays nothing of the map smoothly."}}
	}
	lines = append(lines, Line{"", fmt.Sprintf("%s plays up to %s%s, at %s or less.", subject(d), best.Size, frameRate(best), media.BitrateText(float64(best.Load.Bitrate)))})
	lines = append(lines, Line{"within", fmt.Sprintf("%s %% of the bitrate, from %s", Figures(d.Plan.RefinePct), Plural(d.Counted(), "single attempt"))})
	if best.Limiter != "" {
		lines = append(lines, Line{"why", best.Evidence})
	}
	return lines
}

func frameRate(f *logbook.MapField) string {
	if f.Load.Interlaced {
		return "i" + f.Rate
	}
	return fmt.Sprintf(" at %s frames a second", f.Rate)
}
