package model

import (
	"fmt"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// attemptCells returns the cells of an attempt after its load: verdict, dropped, freeze, CPU,
// memory.
func attemptCells(a *logbook.Attempt) []Cell {
	cells := append([]Cell{{Grade: a.Verdict}}, Cells("-", "-", "-", "-")...)
	if a.FramesDue() > 0 {
		cells[1].Text = fmt.Sprintf("%d of %d", a.Frames.Dropped, a.Frames.Due)
		cells[2].Text = "none"
		if a.Frames.Freezes > 0 {
			cells[2].Text = fmt.Sprintf("%.0f ms", a.Frames.LongestFreezeMS)
		}
	} else if a.Frames == nil && a.Verdict != verdict.Void && a.Verdict != verdict.Failed {
		cells[1].Text = "not counted"
	}
	if cpu, known := a.Use[sense.CPU]; known {
		cells[3].Text = fmt.Sprintf("%.0f/%.0f %%", cpu.Mean, cpu.P95)
	}
	if m, known := a.Use.Memory(); known {
		cells[4].Text = Bytes(m.Max)
	}
	return cells
}

// bufferedCells returns the cells of an attempt to which media arrive ahead of playing: verdict,
// start, stalls, least lead, build rate, CPU, memory.
func bufferedCells(a *logbook.Attempt) []Cell {
	plain := attemptCells(a)
	cells := []Cell{plain[0], {Text: "-"}, {Text: "-"}, {Text: "-"}, {Text: "-"}, {Text: meanCPU(a)}, plain[4]}
	if b := a.Buffer; b != nil && len(a.Windows) > 0 {
		cells[1].Text, cells[2].Text, cells[3].Text, cells[4].Text = fmt.Sprintf("%.1f s", b.StartDelayS), "none", fmt.Sprintf("%.1f s", b.MinLeadS), BuildRate(*b)
		if b.Stalls > 0 {
			cells[2].Text = fmt.Sprintf("%d, %.1f s", b.Stalls, b.StallS)
		}
	}
	return cells
}

// AttemptLine describes an attempt in a few words after its verdict, for progress.
func AttemptLine(a *logbook.Attempt) string {
	line := ""
	switch {
	case a.Buffer != nil && len(a.Windows) > 0:
		b := bufferedCells(a)
		line = fmt.Sprintf("  stalls %s, least lead %s, build rate %s, CPU %s", b[2].Text, b[3].Text, b[4].Text, b[5].Text)
	case a.FramesDue() > 0:
		cells := attemptCells(a)
		line = fmt.Sprintf("  %s dropped, CPU %s", cells[1].Text, cells[3].Text)
	}
	if a.Verdict != verdict.Smooth && len(a.Reasons) > 0 && (a.FramesDue() == 0 || a.Verdict == verdict.Void) {
		line += "  " + a.Reasons[0]
	}
	return line
}

// meanCPU returns the mean load of all cores.
func meanCPU(a *logbook.Attempt) string {
	cpu, known := a.Use[sense.CPU]
	if !known {
		return "-"
	}
	return fmt.Sprintf("%.0f %%", cpu.Mean)
}

// arrived describes what a server sent.
func arrived(d *tally.Delivered) string {
	if d == nil || d.Treatment == "" {
		return "-"
	}
	return d.Treatment + " " + media.ShortBitrate(d.Bitrate)
}

// BuildRate formats a build rate with its uncertainty; one that is too high to measure is just
// called high.
func BuildRate(b tally.Buffer) string {
	switch {
	case b.BuildRate == nil:
		return "-"
	case *b.BuildRate >= 100:
		return ">100"
	}
	return verdict.Uncertain(*b.BuildRate, b.BuildRateError)
}
