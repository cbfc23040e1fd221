package text

import (
	"fmt"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/inspect"
	"vividstrain/report/model"
)

// Inspect draws the properties of files: of one in full, of several as a table.
func (s Style) Inspect(reports []inspect.Report) string {
	reports = model.Clean(reports)
	if len(reports) == 1 {
		return s.inspectOne(&reports[0])
	}
	t := model.Table{Head: []string{"file", "in", "codec", "picture", "bitrate", "busiest", "length", "frames", "GOP", "audio"},
		Right: []int{4, 5, 6, 7, 8}, Optional: []int{8, 7, 9, 5, 1, 6}}
	for i := range reports {
		r := &reports[i]
		t.Rows = append(t.Rows, model.Cells(r.File, r.Container, codecOf(r), pictureOf(r), media.BitrateText(r.BitrateBPS), media.BitrateText(r.BusiestBPS),
			fmt.Sprintf("%.2f s", r.DurationS), fmt.Sprint(r.Frames), fmt.Sprint(r.KeyMax), audioShort(r)))
	}
	return s.Draw(t)
}

// codecOf returns the codec with its profile and level.
func codecOf(r *inspect.Report) string {
	t := strings.TrimSpace(r.Codec + " " + r.Profile)
	if r.Level != "" {
		t += " @ " + r.Level
	}
	return t
}

// levelPassed returns the level that the video needs, if it is higher than the stated one.
func levelPassed(r *inspect.Report) string {
	if r.LevelNeeded == "" {
		return ""
	}
	return fmt.Sprintf(" (its size, rate and bitrate need %s: a device that goes by the level may fail)", r.LevelNeeded)
}

// pictureOf returns size, rate and sample format as in a load line.
func pictureOf(r *inspect.Report) string {
	f := r.Format()
	t := f.Size()
	if f.Rate.Num > 0 {
		t = f.SizeRate()
	}
	if r.Depth > 8 {
		t += fmt.Sprintf(" %dbit", r.Depth)
	}
	if r.Chroma != "4:2:0" && r.Chroma != "" {
		t += " " + r.Chroma
	}
	if f.Transfer != media.SDR {
		t += " " + strings.ToUpper(string(f.Transfer))
	}
	return t
}

func audioShort(r *inspect.Report) string {
	if len(r.Audio) == 0 {
		return "-"
	}
	var words []string
	for _, t := range r.Audio {
		words = append(words, t.Codec)
	}
	return strings.Join(words, ", ")
}

// inspectOne draws one file line by line.
func (s Style) inspectOne(r *inspect.Report) string {
	rows := [][]string{
		{"file", fmt.Sprintf("%s, %s, %s", r.File, r.Container, model.Bytes(float64(r.SizeBytes)))},
		{"codec", codecOf(r) + levelPassed(r)},
		{"picture", pictureLine(r)},
		{"rate", rateLine(r)},
		{"length", fmt.Sprintf("%.2f s, %s", r.DurationS, model.Plural(r.Frames, "frame"))},
		{"bitrate", fmt.Sprintf("%s on average, %s in the busiest second", media.BitrateText(r.BitrateBPS), media.BitrateText(r.BusiestBPS))},
		{"key frames", keyLine(r)},
	}
	if r.Entropy != "" {
		rows = append(rows, []string{"B frames", bLine(r)},
			[]string{"coding", fmt.Sprintf("%s, %s a picture, %s", r.Entropy, model.Plural(r.Slices, "slice"), model.Plural(r.References, "reference frame"))})
	}
	if c := r.Colour; c != nil {
		rows = append(rows, []string{"colour", colourLine(c)})
	}
	if h := r.HDR; h != nil {
		rows = append(rows, []string{"light", fmt.Sprintf("mastered for %g to %g cd/m2; brightest sample %d, brightest frame %d cd/m2",
			h.MasterMinCDM2, h.MasterMaxCDM2, h.MaxCLL, h.MaxFALL)})
	}
	for _, t := range r.Audio {
		rows = append(rows, []string{"audio", audioLine(t)})
	}
	if len(r.Audio) == 0 {
		rows = append(rows, []string{"audio", "none"})
	}
	if r.Load != "" {
		rows = append(rows, []string{"load line", r.Load})
	}
	for i := range rows {
		rows[i][0] = s.Faint(rows[i][0])
	}
	return s.Table(nil, rows)
}

func pictureLine(r *inspect.Report) string {
	t := fmt.Sprintf("%dx%d, %s", r.Width, r.Height, r.Scan)
	if r.Depth > 0 {
		t += fmt.Sprintf(", %d bit %s", r.Depth, r.Chroma)
	}
	switch r.Format().Transfer {
	case media.PQ:
		t += ", HDR (PQ)"
	case media.HLG:
		t += ", HDR (HLG)"
	}
	return t
}

func rateLine(r *inspect.Report) string {
	rate, _ := media.RateOf(r.FrameRate)
	switch {
	case r.RateAssumed:
		return fmt.Sprintf("%s frames/s, assumed: the file does not say", rate)
	case r.Constant:
		return fmt.Sprintf("%s frames/s, constant", rate)
	}
	return fmt.Sprintf("%s frames/s on average, not constant", rate)
}

func keyLine(r *inspect.Report) string {
	if r.KeyFrames == r.Frames {
		return "every frame"
	}
	t := fmt.Sprintf("%d, at most %s apart", r.KeyFrames, model.Plural(r.KeyMax, "frame"))
	if r.Entropy == "" {
		return t
	}
	if r.IDRs != r.KeyFrames {
		t += fmt.Sprintf(", %d of them IDR", r.IDRs)
	}
	if r.OpenGOP {
		return t + ", open GOPs"
	}
	return t + ", closed GOPs"
}

func bLine(r *inspect.Report) string {
	if r.BRun == 0 {
		return "none"
	}
	return fmt.Sprintf("up to %d in a row, in %s", r.BRun, model.Plural(r.BDepth, "level"))
}

func colourLine(c *inspect.Colour) string {
	t := fmt.Sprintf("primaries %s, transfer %s, matrix %s", c.Primaries, c.Transfer, c.Matrix)
	if c.Primaries == c.Transfer && c.Primaries == c.Matrix {
		t = c.Primaries
	}
	if c.FullRange {
		return t + ", full range"
	}
	return t + ", limited range"
}

func audioLine(t inspect.Audio) string {
	line := t.Codec
	if t.RateHz > 0 {
		line += fmt.Sprintf(", %g kHz", float64(t.RateHz)/1000)
	}
	if t.Channels > 0 {
		line += ", " + model.Plural(t.Channels, "channel")
	}
	return line
}
