package load_test

import (
	"fmt"

	"vividstrain/core/load"
)

func ExampleParse() {
	l, err := load.Parse("h264 1080p30 10bit 12M x4 -> 720p 4M")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(l.Format.Width, l.Format.Height, l.Format.Depth, l.Format.Bitrate, l.Streams, l.Goal.Height)
	fmt.Println(l)
	// Output:
	// 1920 1080 10 12000000 4 720
	// h264 1080p30 10bit 12M x4 -> 720p 4M
}

func ExampleParse_wrong() {
	_, err := load.Parse("h264 1080x30 12M")
	fmt.Println(err)
	// Output:
	// load line "h264 1080x30 12M": at "1080x30": it is no size (1080p30), depth (10bit), chroma sampling (4:2:2), transfer (hdr, hlg), bitrate (12M) or number of streams (x4)
}

func ExampleParseLadder() {
	ladder, err := load.ParseLadder([]byte(`
name: galley
columns:
  - name: small
    rungs: ["h264 480p25 2M", "h264 720p25 5M"]
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, column := range ladder.Columns {
		fmt.Println(column.Name, column.Rungs)
	}
	// Output:
	// small [h264 480p25 2M h264 720p25 5M]
}
