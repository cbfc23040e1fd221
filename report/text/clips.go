package text

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/report/model"
)

// Clips lists the clips of a folder's manifest.
func (s Style) Clips(dir string, m *clip.Manifest) string {
	m = model.Clean(m)
	t := model.Table{Head: []string{"file", "load line", "scene", "frames", "MB", "video rate", "file rate", "sha256"},
		Right: []int{3, 4, 5, 6}, Optional: []int{7, 2, 3, 6, 5}}
	var bytes float64
	for _, e := range m.Clips {
		video := "-" // made by a version that did not record it
		if e.VideoBps > 0 {
			video = media.BitrateText(float64(e.VideoBps))
		}
		bytes += float64(e.Bytes)
		t.Rows = append(t.Rows, model.Cells(e.File, e.Load, e.Scene, fmt.Sprint(e.Frames), fmt.Sprintf("%.1f", float64(e.Bytes)/1e6),
			video, media.BitrateText(float64(e.BitrateBps)), e.SHA256[:min(8, len(e.SHA256))]))
	}
	return s.Draw(t) +
		fmt.Sprintf("\n%s of %s in %s.\n", model.Plural(len(m.Clips), "clip"), model.Bytes(bytes), model.Printable(dir))
}

// Verified draws what was found wrong with each clip of a manifest.
func (s Style) Verified(m *clip.Manifest, found map[string]error) string {
	var rows [][]string
	for _, e := range m.Clips {
		state := s.paint(text.FgGreen, "● as made")
		if err := found[e.File]; err != nil {
			state = s.paint(text.FgRed, "× "+model.Printable(err.Error()))
		}
		rows = append(rows, []string{e.File, fmt.Sprint(e.Frames), state})
	}
	return s.Table([]string{"file", "frames", "found"}, rows, 1)
}
