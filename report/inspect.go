package report

import (
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/inspect"
)

// Inspect draws what files are: one on a line.
func (s Style) Inspect(reports []inspect.Report) string {
	rows := make([][]string, len(reports))
	for i, r := range reports {
		keys := fmt.Sprintf("%d frames", r.KeyMax)
		if r.KeyFrames == r.Frames {
			keys = "all"
		}
		rate, _ := media.RateOf(r.FrameRate)
		rows[i] = []string{r.File, r.Container, r.Codec, fmt.Sprintf("%dx%d", r.Width, r.Height), rate.String(),
			media.ShortBitrate(r.BitrateBPS), media.ShortBitrate(r.BusiestBPS), fmt.Sprintf("%.2f s", r.DurationS),
			fmt.Sprint(r.Frames), keys}
	}
	return s.Table([]string{"file", "in", "codec", "size", "rate", "bit/s", "busiest", "length", "frames", "keys"}, rows, 4, 5, 6, 7, 8)
}
