package hls

import (
	"bytes"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/stream"
)

var base, _ = url.Parse("http://pier.test/film/list.m3u8")

func parse(t *testing.T, text string) *stream.Playlist {
	list, variants, err := Parse([]byte(text), base)
	require.NoError(t, err)
	require.Nil(t, variants)
	return list
}

// What is written is read back as it was.
func TestPlaylistsAreReadAsWritten(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteMedia(&b, &stream.Media{Init: "/s/init.mp4", Segment: "/s/$Number$.m4s", Durations: []float64{4, 4.2, 1.5}}))
	list := parse(t, b.String())
	require.True(t, list.Ended)
	require.Len(t, list.Segments, 3)
	require.Equal(t, stream.Segment{URL: "http://pier.test/s/1.m4s", Duration: 4200 * time.Millisecond,
		Init: &stream.Reference{URL: "http://pier.test/s/init.mp4"}}, list.Segments[1])

	b.Reset()
	require.NoError(t, WriteVariants(&b, []stream.Variant{
		{URL: "/a.m3u8", Bitrate: 4_000_000, Format: media.Format{Width: 1280, Height: 720, Rate: media.Rate{Num: 30000, Den: 1001}}},
		{URL: "b.m3u8", Bitrate: 500_000, Format: media.Format{Width: 426, Height: 240, Rate: media.Rate{Num: 25, Den: 1}}}}))
	list, variants, err := Parse(b.Bytes(), base)
	require.NoError(t, err)
	require.Nil(t, list)
	require.Equal(t, []string{"http://pier.test/a.m3u8", "http://pier.test/film/b.m3u8"}, []string{variants[0].URL, variants[1].URL})
	require.Equal(t, media.Rate{Num: 30000, Den: 1001}, variants[0].Format.Rate)
	require.Equal(t, 426, variants[1].Format.Width)
	require.EqualValues(t, 500_000, variants[1].Bitrate)
}

// A live playlist goes on, and says from which number and how often to look.
func TestLivePlaylists(t *testing.T) {
	list := parse(t, "#EXTM3U\n#EXT-X-TARGETDURATION:6\n#EXT-X-MEDIA-SEQUENCE:41\n#EXTINF:5.9,\na.ts\n#EXT-X-DISCONTINUITY\n#EXTINF:6,\nb.ts\n")
	require.False(t, list.Ended)
	require.Equal(t, 41, list.First)
	require.Equal(t, 6*time.Second, list.Refresh)
	require.Equal(t, []bool{false, true}, []bool{list.Segments[0].Discontinuity, list.Segments[1].Discontinuity})
}

// Byte ranges without an offset go on where the last of the same address ended (4.3.2.2).
func TestByteRanges(t *testing.T) {
	list := parse(t, "#EXTM3U\n#EXT-X-MAP:URI=\"all.mp4\",BYTERANGE=\"800@0\"\n#EXTINF:2,\n#EXT-X-BYTERANGE:100@800\nall.mp4\n"+
		"#EXTINF:2,\n#EXT-X-BYTERANGE:50\nall.mp4\n#EXTINF:2,\n#EXT-X-BYTERANGE:7\nother.mp4\n#EXT-X-ENDLIST\n")
	var got []stream.Span
	for _, s := range list.Segments {
		require.Equal(t, stream.Span{Size: 800}, s.Init.Bytes)
		got = append(got, s.Bytes)
	}
	require.Equal(t, []stream.Span{{Offset: 800, Size: 100}, {Offset: 900, Size: 50}, {Size: 7}}, got)
}

// Without an initialisation vector the number of the segment is it (RFC 8216, 5.2).
func TestKeys(t *testing.T) {
	list := parse(t, "#EXTM3U\n#EXT-X-MEDIA-SEQUENCE:258\n#EXT-X-KEY:METHOD=AES-128,URI=\"key\"\n#EXTINF:2,\na.ts\n#EXTINF:2,\nb.ts\n"+
		"#EXT-X-KEY:METHOD=AES-128,URI=\"key\",IV=0x000102030405060708090a0b0c0d0e0f\n#EXTINF:2,\nc.ts\n#EXT-X-KEY:METHOD=NONE\n#EXTINF:2,\nd.ts\n")
	require.Equal(t, [16]byte{14: 1, 15: 3}, list.Segments[1].Key.IV)
	require.EqualValues(t, 15, list.Segments[2].Key.IV[15])
	require.Nil(t, list.Segments[3].Key)
}

// An error says in which line.
func TestDamagedPlaylists(t *testing.T) {
	for text, want := range map[string]string{
		"hello":                                                "bad playlist, line 1: it does not begin with #EXTM3U",
		"#EXTM3U\na.ts":                                        "bad playlist, line 2: a segment without #EXTINF",
		"#EXTM3U\n#EXTINF:-1,\n":                               `bad playlist, line 2: "-1" is not a duration of a segment`,
		"#EXTM3U\n#EXTINF:NaN,\n":                              `bad playlist, line 2: "NaN" is not a duration of a segment`,
		"#EXTM3U\n#EXTINF:2,\nftp://x/a":                       `bad playlist, line 3: "ftp://x/a" is not an address`,
		"#EXTM3U\n#EXT-X-BYTERANGE:0@3":                        `bad playlist, line 2: "0@3" is not a range of bytes`,
		"#EXTM3U\n#EXT-X-MEDIA-SEQUENCE:x":                     `bad playlist, line 2: "x" is not a number of a segment`,
		"#EXTM3U\n#EXT-X-STREAM-INF:X=1":                       "bad playlist, line 2: a variant without a bandwidth",
		"#EXTM3U\n#EXT-X-KEY:METHOD=SAMPLE-AES":                `bad playlist, line 2: segments encrypted with "SAMPLE-AES"; only AES-128 is supported`,
		"#EXTM3U\n#EXT-X-ENDLIST":                              "bad playlist: it lists nothing",
		"#EXTM3U\n#EXT-X-KEY:METHOD=AES-128,URI=\"k\",IV=0x12": `bad playlist, line 2: "0x12" is not an initialisation vector`,
	} {
		_, _, err := Parse([]byte(text), base)
		require.EqualError(t, err, want, text)
	}
}

// Addresses are bounded all together.
func TestAddressesTogetherAreBounded(t *testing.T) {
	_, _, err := Parse([]byte("#EXTM3U\n#EXT-X-TARGETDURATION:2\n"+strings.Repeat("#EXTINF:2,\n"+strings.Repeat("a", 4000)+"\n", 10_000)), base)
	require.ErrorContains(t, err, "its addresses are longer than 32 MB together")
}
