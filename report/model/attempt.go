package model

import (
	"fmt"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// bufferCell makes a cell of the account of media that arrived, "" where there is none.
func bufferCell(text func(b tally.Buffer) string) func(*logbook.Document, *logbook.Attempt) string {
	return func(_ *logbook.Document, a *logbook.Attempt) string {
		if a.Buffer == nil || len(a.Windows) == 0 {
			return ""
		}
		return text(*a.Buffer)
	}
}

func startText(b tally.Buffer) string { return fmt.Sprintf("%.1f s", b.StartDelayS) }
func leadText(b tally.Buffer) string  { return fmt.Sprintf("%.1f s", b.MinLeadS) }

func stallsText(b tally.Buffer) string {
	if b.Stalls == 0 {
		return "none"
	}
	return fmt.Sprintf("%d, %s", b.Stalls, verdict.Brief(b.StallS))
}

// AttemptShort describes an attempt in two or three words.
func AttemptShort(a *logbook.Attempt) string {
	switch {
	case a.Buffer != nil && len(a.Windows) > 0 && !a.Displayed():
		return "build " + BuildRate(*a.Buffer)
	case a.FramesDue() > 0:
		return fmt.Sprintf("%d of %d", a.Frames.Dropped, a.Frames.Due)
	}
	return ""
}

// AttemptLine describes an attempt in a few words after its verdict, for progress.
func AttemptLine(a *logbook.Attempt) string {
	line := ""
	switch {
	case a.Verdict == verdict.Failed && len(a.Reasons) > 0:
		line = "  " + a.Reasons[0]
	case a.Buffer != nil && len(a.Windows) > 0 && !a.Displayed():
		line = fmt.Sprintf("  stalls %s, least lead %s, build rate %s", stallsText(*a.Buffer), leadText(*a.Buffer), BuildRate(*a.Buffer))
	case a.FramesDue() > 0:
		line = fmt.Sprintf("  %d of %d dropped", a.Frames.Dropped, a.Frames.Due)
		if a.Buffer != nil && a.Buffer.Stalls > 0 {
			line += ", stalls " + stallsText(*a.Buffer)
		}
	}
	if cpu, known := a.Use[sense.CPU]; known && line != "" {
		line += fmt.Sprintf(", all cores %.0f %%", cpu.Mean)
	}
	if a.Verdict != verdict.Smooth && a.Verdict != verdict.Failed && len(a.Reasons) > 0 && (a.FramesDue() == 0 || a.Verdict == verdict.Void) {
		line += "  " + a.Reasons[0]
	}
	return line
}

// arrived describes what a server sent.
func arrived(d *tally.Delivered) string {
	if d == nil || d.Treatment == "" {
		return ""
	}
	return d.Treatment + " " + media.BitrateText(d.Bitrate)
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
