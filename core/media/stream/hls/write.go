package hls

import (
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"vividstrain/core/media/stream"
)

// WriteMedia writes the playlist of a complete film (RFC 8216, 4.3.3).
func WriteMedia(w io.Writer, m *stream.Media) error {
	longest := 0.0
	for _, d := range m.Durations {
		longest = max(longest, d)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:%d\n#EXT-X-PLAYLIST-TYPE:VOD\n#EXT-X-MAP:URI=\"%s\"\n",
		int(math.Round(longest)), m.Init)
	for i, d := range m.Durations {
		fmt.Fprintf(&b, "#EXTINF:%.5f,\n%s\n", d, strings.Replace(m.Segment, "$Number$", strconv.Itoa(i), 1))
	}
	b.WriteString("#EXT-X-ENDLIST\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// WriteVariants writes a multivariant playlist (RFC 8216, 4.3.4) of variants that have a URL.
func WriteVariants(w io.Writer, variants []stream.Variant) error {
	var b strings.Builder
	b.WriteString("#EXTM3U\n#EXT-X-VERSION:7\n")
	for _, v := range variants {
		fmt.Fprintf(&b, "#EXT-X-STREAM-INF:BANDWIDTH=%d,RESOLUTION=%dx%d,FRAME-RATE=%.3f\n%s\n",
			v.Bitrate, v.Format.Width, v.Format.Height, v.Format.Rate.Hz(), v.URL)
	}
	_, err := io.WriteString(w, b.String())
	return err
}
