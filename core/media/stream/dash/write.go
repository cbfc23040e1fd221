package dash

import (
	"fmt"
	"io"
	"strings"

	"vividstrain/core/media/stream"
)

// Write writes the manifest of a complete film (ISO/IEC 23009-1, 5.2) with a timeline.
func Write(w io.Writer, m *stream.Media) error {
	const timescale = 90000
	total := 0.0
	var line strings.Builder
	for _, d := range m.Durations {
		total += d
		fmt.Fprintf(&line, "<S d=\"%d\"/>", int64(d*timescale+0.5))
	}
	codecs := ""
	if m.Codecs != "" {
		codecs = fmt.Sprintf(` codecs="%s"`, m.Codecs)
	}
	f := m.Format
	_, err := fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?>
<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="static" profiles="urn:mpeg:dash:profile:isoff-live:2011" minBufferTime="PT2S" mediaPresentationDuration="PT%.3fS">
<Period id="film"><AdaptationSet contentType="video" mimeType="video/mp4" segmentAlignment="true" startWithSAP="1">
<SegmentTemplate timescale="%d" startNumber="0" initialization="%s" media="%s"><SegmentTimeline>%s</SegmentTimeline></SegmentTemplate>
<Representation id="video" bandwidth="%d" width="%d" height="%d" frameRate="%d/%d"%s/>
</AdaptationSet></Period></MPD>
`, total, timescale, m.Init, m.Segment, line.String(), f.Bitrate, f.Width, f.Height, f.Rate.Num, f.Rate.Den, codecs)
	return err
}
