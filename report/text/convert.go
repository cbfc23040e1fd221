package text

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
	"vividstrain/report/model"
)

// Conversion draws the result of a conversion and its cost.
func (s Style) Conversion(job transcode.Job, r *transcode.Report) string {
	var b strings.Builder
	in := load.Load{Format: r.In.Format, Streams: 1}
	made := r.Media.Seconds()
	name := Printable(filepath.Base(job.File))
	if made > 0 && in.Bitrate == 0 {
		in.Bitrate = r.In.Format.Bitrate
	}
	fmt.Fprintf(&b, "%s: %s %s -> %s\n\n", s.Bold(name), in.Codec, formatWords(r.In), r.Goal.SizeRate())
	rows := [][]string{
		{"made", fmt.Sprintf("%.1f s at %s, %.1f s of work", made, media.BitrateText(8*float64(r.Bytes)/max(made, 1e-9)), r.Took.Seconds())},
		{"speed", fmt.Sprintf("%.2f x real time", r.Speed)},
		{"CPU", fmt.Sprintf("%.0f %% of a core", 100*r.CPU.Seconds()/r.Took.Seconds())},
		{"memory", model.Bytes(float64(r.MemPeak)/float64(job.Copies)) + " a copy"},
	}
	if job.Copies > 1 {
		rows[0][1] += fmt.Sprintf(", in each of %d copies", job.Copies)
		rows[1][1] += ", the slowest copy"
		rows[2][1] += fmt.Sprintf(", %.0f %% a copy", 100*r.CPU.Seconds()/r.Took.Seconds()/float64(job.Copies))
	}
	for _, v := range r.Buffers {
		rows = append(rows, []string{"viewer", viewerWords(v)})
	}
	if len(r.Left) > 0 {
		rows = append(rows, []string{"left out", "audio that this container cannot hold: " + strings.Join(r.Left, ", ")})
	}
	b.WriteString(s.Table(nil, rows) + "\n")
	b.WriteString(s.stages(r))
	if job.Out != "" {
		fmt.Fprintf(&b, "\nWritten to %s.\n", job.Out)
	}
	return b.String()
}

// formatWords returns a format without codec and bitrate.
func formatWords(t media.Track) string {
	f := t.Format
	if transfer := media.TransferOf(t.Colour.Transfer); transfer != media.SDR {
		f.Transfer = transfer
	}
	words := []string{f.SizeRate()}
	if f.Depth > 8 {
		words = append(words, fmt.Sprintf("%dbit", f.Depth))
	}
	if f.Transfer == media.PQ {
		words = append(words, "hdr")
	} else if f.Transfer == media.HLG {
		words = append(words, "hlg")
	}
	return strings.Join(words, " ")
}

// viewerWords describe how a viewer fared.
func viewerWords(b tally.Buffer) string {
	stalls := "no stall"
	if b.Stalls > 0 {
		stalls = fmt.Sprintf("%s (%.1f s)", model.Plural(b.Stalls, "stall"), b.StallS)
	}
	return fmt.Sprintf("began after %.1f s, %s, least lead %.1f s, build rate %s", b.StartDelayS, stalls, b.MinLeadS, model.BuildRate(b))
}

// stages draws the processor time of each stage.
func (s Style) stages(r *transcode.Report) string {
	total := r.CPU
	known := r.Stats.Decode + r.Stats.Scale + r.Stats.Tone + r.Stats.Encode
	total = max(total, known)
	var rows [][]string
	for _, stage := range []struct {
		name string
		took time.Duration
	}{{"decode", r.Stats.Decode}, {"scale", r.Stats.Scale}, {"map tones", r.Stats.Tone}, {"code", r.Stats.Encode}, {"the rest", total - known}} {
		if stage.took <= 0 {
			continue
		}
		rows = append(rows, []string{stage.name, fmt.Sprintf("%.2f s", stage.took.Seconds()),
			fmt.Sprintf("%.2f ms", stage.took.Seconds()*1000/float64(max(r.Stats.Frames, 1))), fmt.Sprintf("%.0f %%", 100*stage.took.Seconds()/total.Seconds())})
	}
	return s.Table([]string{"stage", "CPU time", "a frame", "share"}, rows, 1, 2, 3)
}
