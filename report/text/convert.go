package text

import (
	"fmt"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

// Conversion draws what the last try of a conversion took, stage by stage.
func (s Style) Conversion(job transcode.Job, r *transcode.Report) string {
	var rows [][]string
	for _, v := range r.Buffers {
		rows = append(rows, []string{"viewer", viewerWords(v)})
	}
	if len(r.Left) > 0 {
		rows = append(rows, []string{"left out", "audio that this container cannot hold: " + strings.Join(r.Left, ", ")})
	}
	out := ""
	if len(rows) > 0 {
		out = s.Table(nil, rows) + "\n"
	}
	out += s.stages(r)
	if job.Out != "" {
		out += fmt.Sprintf("\nWritten to %s.\n", model.Printable(job.Out))
	}
	return out
}

// SourceWords returns the codec and the format of a video without its bitrate: "h264 1080p30".
func SourceWords(t media.Track) string { return t.Codec + " " + formatWords(t) }

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
		stalls = fmt.Sprintf("%s (%s)", model.Plural(b.Stalls, "stall"), verdict.Brief(b.StallS))
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
