package server

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"vividstrain/core/load"
	"vividstrain/core/media"
)

// Fill replaces the placeholders of an address with properties of a load: {clip} is the load
// line of the source as in the names of clips, {goal} the goal with dashes or "as-is"; {codec},
// {width}, {height}, {rate}, {depth} and {kbps} describe the requested format; {audio} and
// {subtitle} are the numbers of tracks, 0 where none is asked for; {sdr} is 1 where the goal is
// standard dynamic range, else 0.
func Fill(address string, l load.Load) string {
	if !strings.Contains(address, "{") {
		return address
	}
	f, _ := wanted(l)
	rate, clip, sdr := "", "", "0"
	var tracks media.Goal
	if l.Goal != nil {
		tracks = *l.Goal
		if tracks.ToSDR {
			sdr = "1"
		}
	}
	if f.Rate.Den > 0 {
		rate, clip = f.Rate.String(), l.Format.Word()
	}
	return strings.NewReplacer("{clip}", url.PathEscape(clip), "{goal}", l.Goal.Word(), "{codec}", f.Codec,
		"{width}", strconv.Itoa(f.Width), "{height}", strconv.Itoa(f.Height), "{rate}", rate,
		"{depth}", strconv.Itoa(f.Depth), "{kbps}", strconv.FormatInt(f.Bitrate/1000, 10),
		"{audio}", strconv.Itoa(tracks.Audio), "{subtitle}", strconv.Itoa(tracks.Subtitle), "{sdr}", sdr).Replace(address)
}

// maxEntries is the largest number of entries in a list of addresses.
const maxEntries = 10000

// ReadList parses a YAML list of load lines and addresses, whose items are like {load: h264
// 1080p30 12M, url: "http://box.local:8080/harbour.mp4"}.
func ReadList(path string) ([]Entry, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var list []Entry
	if len(data) > 4<<20 {
		return nil, fmt.Errorf("%s: it is larger than 4 MB", path)
	}
	if err := yaml.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("%s: it is not a list of load lines and addresses (- load: ... url: ...): %w", path, err)
	}
	switch {
	case len(list) == 0:
		return nil, fmt.Errorf("%s: the list is empty", path)
	case len(list) > maxEntries:
		return nil, fmt.Errorf("%s: it has more than %d entries", path, maxEntries)
	}
	for i, e := range list {
		if e.URL == "" || e.Load.Codec == "" {
			return nil, fmt.Errorf("%s: entry %d lacks its load or its url", path, i+1)
		}
	}
	return list, nil
}
