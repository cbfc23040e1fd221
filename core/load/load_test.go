package load

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

func TestPrintsInFixedOrder(t *testing.T) {
	for in, want := range map[string]string{
		"h264 1080p30 12M":                                  "",
		"hevc 2160p60 10bit hdr 80M":                        "",
		"h264 1080i25 20M x9":                               "",
		"hevc 2160p30 10bit 40M x2 -> 720p 4M":              "",
		"hevc 2160p30 10bit 4:2:2 hlg 40M":                  "",
		"h264 1920x800p23.976 0.5M":                         "h264 1920x800p23.976 500k",
		"H264 12M 1080P30 x1":                               "h264 1080p30 12M",
		"hevc x2 hdr 40M 10bit 2160p29.97 ->720p25 4M h264": "hevc 2160p29.97 10bit hdr 40M x2 -> 720p25 4M h264",
		"mjpeg 720x576i25 8bit 4:2:0 sdr 3.5M":              "mjpeg 576i25 3.5M",
		"mjpeg 720x576p25 1234567":                          "mjpeg 720x576p25 1.234567M",
		"vp9 576p12.5 1.5G":                                 "vp9 576p12.5 1500M",
	} {
		if want == "" {
			want = in
		}
		l, err := Parse(in)
		require.NoError(t, err, in)
		require.Equal(t, want, l.String())
		again, err := Parse(l.String())
		require.NoError(t, err)
		require.Equal(t, l, again)
	}
}

func TestParsesValues(t *testing.T) {
	l, err := Parse("hevc 2160p59.94 10bit 4:2:2 hdr 80M x3 -> 576i 2M")
	require.NoError(t, err)
	require.Equal(t, media.Format{
		Codec: "hevc", Width: 3840, Height: 2160, Rate: media.Rate{Num: 60000, Den: 1001},
		Depth: 10, Chroma: picture.C422, Transfer: media.PQ, Bitrate: 80e6,
	}, l.Format)
	require.Equal(t, 3, l.Streams)
	require.Equal(t, &media.Goal{Width: 720, Height: 576, Interlaced: true, Bitrate: 2e6}, l.Goal)
	require.InDelta(t, 3*3840*2160*59.94006, l.PixelRate(), 100)
}

func TestErrorsNameTheWord(t *testing.T) {
	for line, want := range map[string][2]string{
		"":                                   {"", "like \"mjpeg 1080p30 60M\""},
		"h999 1080p30 12M":                   {"h999", "known are mjpeg"},
		"h264 1081p30 12M":                   {"1081p30", "unknown size"},
		"h264 1080p 12M":                     {"1080p", "write 1080p25"},
		"h264 1080p30":                       {"", "no bitrate"},
		"h264 12M":                           {"", "no size"},
		"h264 1080p30 12Q":                   {"12Q", "bitrate (12M)"},
		"h264 1080p30 12M 14M":               {"14M", "given twice"},
		"h264 1080p30 9bit 12M":              {"9bit", "10bit"},
		"h264 1080p30 12M x0":                {"x0", "x1 to"},
		"h264 1080p3000 12M":                 {"1080p3000", "0.1 to 1000"},
		"h264 101x800p25 12M":                {"101x800p25", "even"},
		"h264 99999999999999999999x8p25 12M": {"99999999999999999999x8p25", "not a width"},
		"h264 1080p30 12M -> 4M":             {"->", "a size, a bitrate"},
		"h264 1080p30 12M -> huge 4M":        {"huge", "begins with a size"},
		"h264 1080p30 12M -> 720p 4M h999":   {"h999", "unknown codec"},
		strings.Repeat("h", 5000):            {"", "longer than"},
	} {
		_, err := Parse(line)
		var wrong *Error
		require.ErrorAs(t, err, &wrong, line)
		require.Equal(t, want[0], wrong.Word, line)
		require.Contains(t, wrong.What, want[1], line)
		require.NotContains(t, err.Error(), "\n")
		require.Less(t, len(err.Error()), 400)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"h264 1080p30 12M", "hevc 2160p59.94 10bit 4:2:2 hdr 80M x3 -> 576i 2M", "mjpeg 33x34p1 1k"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		l, err := Parse(line)
		if err != nil {
			return
		}
		again, err := Parse(l.String())
		require.NoError(t, err, l.String())
		require.Equal(t, l, again)
	})
}

func TestBuiltInLaddersRiseAndRoundTrip(t *testing.T) {
	ladders, err := BuiltIn()
	require.NoError(t, err)
	require.NotEmpty(t, ladders)
	for _, l := range ladders {
		text, err := l.YAML()
		require.NoError(t, err)
		again, err := ParseLadder(text)
		require.NoError(t, err, string(text))
		require.Equal(t, l, again)
		require.NotEmpty(t, l.About)
		for _, c := range l.Columns {
			for i := 1; i < len(c.Rungs); i++ {
				require.Greater(t, c.Rungs[i].Bitrate*int64(c.Rungs[i].Streams)+int64(c.Rungs[i].PixelRate()),
					c.Rungs[i-1].Bitrate*int64(c.Rungs[i-1].Streams)+int64(c.Rungs[i-1].PixelRate()),
					"%s: %s", l.Name, c.Rungs[i])
			}
		}
	}
	_, err = Named("starter")
	require.NoError(t, err)
	_, err = Named("stairway")
	require.ErrorContains(t, err, "lounge")
}

func TestLadderErrorsAreOneLineWithItsNumber(t *testing.T) {
	for text, want := range map[string]string{
		"":          "no name",
		"name: a\n": "1 to 1000 rungs",
		"name: a\ncolumns:\n  - name: b\n    rungs: [h264 1080p30 12M, h265 1080p30 12M]\n": "line 4: load line \"h265 1080p30 12M\": at \"h265\"",
		"name: a\nhold: soon\n":                          "line 2: \"soon\" is not a duration",
		"name: a\nsteps: 4\n":                            "line 2: unknown key steps",
		"name: [a\n":                                     "line 1",
		"name: a\ncolumns: [{name: b, rungs: []}]\n":     "no rungs",
		"name: a\ncolumns: [{rungs: [h264 1080p30 1M]}]": "column 1 has no name",
	} {
		_, err := ParseLadder([]byte(text))
		require.ErrorContains(t, err, want, text)
		require.NotContains(t, err.Error(), "\n")
	}
}

func FuzzParseLadder(f *testing.F) {
	f.Add([]byte("name: a\nhold: 20s\ncolumns:\n  - name: b\n    rungs: [h264 1080p30 12M]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		l, err := ParseLadder(text)
		if err != nil {
			require.NotContains(t, err.Error(), "\n")
			return
		}
		written, err := l.YAML()
		require.NoError(t, err)
		again, err := ParseLadder(written)
		require.NoError(t, err, string(written))
		require.Equal(t, l, again)
	})
}

// More of a load is the same in all but frames, bits and streams.
func TestMoreOf(t *testing.T) {
	for line, more := range map[string]bool{
		"h264 1080p25 10M": true, "h264 1080p50 20M": true, "h264 1080p25 12M": true, "h264 1080p25 10M x4": true,
		"h264 1080p24 10M": false, "h264 1080p25 8M": false, "h264 2160p25 40M": false, "hevc 1080p25 10M": false,
		"h264 1080p25 10bit 10M": false, "h264 1080i25 10M": false, "h264 1080p25 10M -> 720p 4M": false,
	} {
		l, err := Parse(line)
		require.NoError(t, err)
		other, err := Parse("h264 1080p25 10M")
		require.NoError(t, err)
		require.Equal(t, more, l.MoreOf(other), line)
		l.File = "a.mp4"
		require.False(t, l.MoreOf(other), "nothing is known of files")
	}
}
