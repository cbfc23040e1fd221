package dash

import (
	"bytes"
	"fmt"
	"net/url"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/stream"
)

var (
	base, _ = url.Parse("http://pier.test/film/main.mpd")
	now     = time.Date(2026, 8, 3, 10, 0, 0, 0, time.UTC)
)

// manifest is one of a single representation; inside says where its segments are.
func manifest(attributes, inside string) []byte {
	return fmt.Appendf(nil, `<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" %s><Period><AdaptationSet contentType="video">
<Representation id="v" bandwidth="2000000" width="1280" height="720" frameRate="25" codecs="avc1.6e0029">%s</Representation></AdaptationSet></Period></MPD>`, attributes, inside)
}

// only is the playlist of the one representation of a manifest.
func only(t *testing.T, attributes, inside string) *stream.Playlist {
	variants, err := Parse(manifest(attributes, inside), base, now)
	require.NoError(t, err)
	require.Len(t, variants, 1)
	return variants[0].List
}

func addresses(list *stream.Playlist) (all []string) {
	for _, s := range list.Segments {
		all = append(all, s.URL[len("http://pier.test/film/"):])
	}
	return all
}

// What is written is read back as it was.
func TestManifestsAreReadAsWritten(t *testing.T) {
	var b bytes.Buffer
	f := media.Format{Codec: "h264", Depth: 10, Width: 1920, Height: 1080, Rate: media.Rate{Num: 60000, Den: 1001}, Bitrate: 8_000_000}
	require.NoError(t, Write(&b, &stream.Media{Init: "/s/init.mp4", Segment: "/s/$Number$.m4s", Durations: []float64{4, 4.2, 1.5}, Format: f, Codecs: "avc1.6e002a"}))
	variants, err := Parse(b.Bytes(), base, now)
	require.NoError(t, err)
	require.Equal(t, f, variants[0].Format)
	list := variants[0].List
	require.True(t, list.Ended)
	require.Len(t, list.Segments, 3)
	require.Equal(t, stream.Segment{URL: "http://pier.test/s/1.m4s", Duration: 4200 * time.Millisecond,
		Init: &stream.Reference{URL: "http://pier.test/s/init.mp4"}}, list.Segments[1])
}

// Live with a timeline: numbers go on from startNumber; without it, segments are known by address.
func TestLiveTimelines(t *testing.T) {
	const live = `type="dynamic" availabilityStartTime="2026-08-03T09:00:00Z" minimumUpdatePeriod="PT3S"`
	list := only(t, live, `<SegmentTemplate timescale="10" startNumber="7" media="$Number%03d$-$Time$.m4s"><SegmentTimeline><S t="100" d="20" r="1"/><S d="35"/><S t="200" d="20"/></SegmentTimeline></SegmentTemplate>`)
	require.False(t, list.Ended)
	require.False(t, list.ByURL)
	require.Equal(t, 7, list.First)
	require.Equal(t, 3*time.Second, list.Refresh)
	require.Equal(t, []string{"007-100.m4s", "008-120.m4s", "009-140.m4s", "010-200.m4s"}, addresses(list))
	require.Equal(t, 3500*time.Millisecond, list.Segments[2].Duration)

	template := `<SegmentTemplate timescale="10" media="$Time$.m4s"><SegmentTimeline><S t="%d" d="20" r="3"/></SegmentTimeline></SegmentTemplate>`
	before, after := only(t, live, fmt.Sprintf(template, 100)), only(t, live, fmt.Sprintf(template, 140))
	require.True(t, after.ByURL)
	before.First = 30
	after.Follow(before)
	require.Equal(t, 32, after.First)
	elsewhere := only(t, live, fmt.Sprintf(template, 1000))
	elsewhere.Follow(before)
	require.Equal(t, 34, elsewhere.First, "none of the old ones is left")
}

// Live without a timeline: what there is follows from the clock.
func TestLiveNumbers(t *testing.T) {
	list := only(t, `type="dynamic" availabilityStartTime="2026-08-03T09:59:00Z" timeShiftBufferDepth="PT10S"`,
		`<SegmentTemplate duration="2" startNumber="100" media="$Number$.m4s"/>`)
	require.Equal(t, 125, list.First)
	require.Equal(t, []string{"125.m4s", "126.m4s", "127.m4s", "128.m4s", "129.m4s"}, addresses(list))
}

// A whole film: the last segment is shorter, a repetition of -1 goes on to the end.
func TestWholeFilms(t *testing.T) {
	const static = `type="static" mediaPresentationDuration="PT9S"`
	list := only(t, static, `<SegmentTemplate duration="4" media="$RepresentationID$$Bandwidth$-$Number$$$.m4s"/>`)
	require.Equal(t, []string{"v2000000-1$.m4s", "v2000000-2$.m4s", "v2000000-3$.m4s"}, addresses(list))
	require.Equal(t, time.Second, list.Segments[2].Duration)
	list = only(t, static, `<SegmentTemplate media="$Time$"><SegmentTimeline><S t="0" d="2" r="-1"/></SegmentTimeline></SegmentTemplate>`)
	require.Equal(t, []string{"0", "2", "4", "6", "8"}, addresses(list))
	list = only(t, static, `<SegmentList timescale="10" duration="45"><SegmentURL media="a" mediaRange="10-19"/><SegmentURL media="b"/></SegmentList>`)
	require.Equal(t, []string{"a", "b"}, addresses(list))
	require.Equal(t, stream.Span{Offset: 10, Size: 10}, list.Segments[0].Bytes)
}

// The segments of periods are one list, with a cut between them.
func TestPeriodsAreJoined(t *testing.T) {
	text := `<MPD type="static" mediaPresentationDuration="PT8S">`
	for i := range 2 {
		text += fmt.Sprintf(`<Period start="PT%dS"><BaseURL>p%d/</BaseURL><AdaptationSet contentType="video"><SegmentTemplate duration="2" media="$Number$"/><Representation bandwidth="2000000" width="1280" height="720"/></AdaptationSet></Period>`, 4*i, i)
	}
	variants, err := Parse([]byte(text+`</MPD>`), base, now)
	require.NoError(t, err)
	require.Len(t, variants, 1)
	require.Equal(t, []string{"p0/1", "p0/2", "p1/1", "p1/2"}, addresses(variants[0].List))
	require.True(t, variants[0].List.Segments[2].Discontinuity)
}

func TestDamagedManifests(t *testing.T) {
	for inside, want := range map[string]string{
		`<SegmentTemplate duration="2"/>`:                                                                        "a SegmentTemplate without media",
		`<SegmentTemplate media="x"/>`:                                                                           "neither a duration nor a timeline",
		`<SegmentTemplate media="x" duration="2" timescale="-1"/>`:                                               "numbers make no sense",
		`<SegmentTemplate media="ftp://x" duration="2"/>`:                                                        "is not an address",
		`<SegmentTemplate media="x"><SegmentTimeline><S d="0"/></SegmentTimeline></SegmentTemplate>`:             "times make no sense",
		`<SegmentTemplate media="x"><SegmentTimeline><S d="1" r="9999999"/></SegmentTimeline></SegmentTemplate>`: "more than 262144 segments",
		`<SegmentList><SegmentURL media="x"/></SegmentList>`:                                                     "a SegmentList without durations",
		`<SegmentBase indexRange="9-3"/>`:                                                                        "is not a range of bytes",
	} {
		_, err := Parse(manifest(`type="static" mediaPresentationDuration="PT9S"`, inside), base, now)
		require.ErrorContains(t, err, want, inside)
		var wrong *stream.PlaylistError
		require.ErrorAs(t, err, &wrong)
	}
	for _, text := range []string{"", "<MPD>", `<MPD></MPD>`, `<MPD mediaPresentationDuration="soon"></MPD>`} {
		_, err := Parse([]byte(text), base, now)
		require.Error(t, err, text)
	}
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "PT1H2M3.5S": 3723500 * time.Millisecond, "P1DT1S": 86401 * time.Second} {
		got, err := isoDuration(text)
		require.NoError(t, err)
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{"1", "P1Y", "PT-1S", "P9999999D"} {
		_, err := isoDuration(text)
		require.Error(t, err, text)
	}
}

// A short text may mean very long addresses: all of them together are bounded.
func TestAddressesTogetherAreBounded(t *testing.T) {
	long := strings.Repeat("a", 500_000)
	for name, template := range map[string]string{
		"numbers":    `<SegmentTemplate duration="2" media="` + long + `$Number$"/>`,
		"a timeline": `<SegmentTemplate media="` + long + `$Time$"><SegmentTimeline><S t="0" d="2" r="100000"/></SegmentTimeline></SegmentTemplate>`,
		"a list":     `<SegmentList duration="2">` + strings.Repeat(`<SegmentURL media="x"/>`, 1000) + `</SegmentList>`,
	} {
		text := manifest(`type="static" mediaPresentationDuration="PT50H"`, template)
		if name == "a list" {
			text = []byte(strings.Replace(string(text), "<Period", "<BaseURL>"+long+"/</BaseURL><Period", 1))
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Parse(text, base, now)
		runtime.ReadMemStats(&after)
		require.ErrorContains(t, err, "its addresses are longer than 32 MB together", name)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(500<<20), name)
	}
}
