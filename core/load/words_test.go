package load

import (
	"testing"

	"vividstrain/core/media"

	"github.com/stretchr/testify/require"
)

// Words of formats and goals are for names and addresses: no blanks, and each its own.
func TestWordsForNames(t *testing.T) {
	seen := map[string]string{}
	for _, line := range []string{"h264 1080p30 12M", "h264 1080p30 12.5M", "h264 1080i25 12M", "hevc 2160p60 10bit hdr 80M", "h264 1080p25 4:2:2 40M", "h264 1920x800p23.976 8M"} {
		l, err := Parse(line)
		require.NoError(t, err)
		word := l.Format.Word()
		require.NotContains(t, word, " ")
		require.NotContains(t, word, ":")
		require.Empty(t, seen[word], word)
		seen[word] = line
	}
	l, err := Parse("h264 1080p30 12M x3")
	require.NoError(t, err)
	require.Equal(t, "h264-1080p30-12M", l.Format.Word(), "how many there are is no part of a format")
}

func TestGoals(t *testing.T) {
	for text, want := range map[string]string{"720p 4M": "720p-4M", "720P25 4m": "720p25-4M", "480p 1M h264": "480p-1M-h264", "480p 1M h264 subtitle=1 audio=2": "480p-1M-h264", "1280x544p24 2500k": "1280x544p24-2.5M"} {
		g, err := ParseGoal(text)
		require.NoError(t, err, text)
		require.Equal(t, want, g.Word(), text)
		again, err := ParseGoal(g.String())
		require.NoError(t, err)
		require.Equal(t, g, again)
	}
	require.Equal(t, media.AsIs, (*media.Goal)(nil).Word())
	for text, says := range map[string]string{"": "the goal is a size", "720p": "the goal is a size", "4M 720p": "begins with a size", "720p fast": "fast",
		"720p 4M tape": "unknown codec", "720p 4M h264 twice": "a goal is a size", "720p 4M audio=two": "audio", "721p 4M": "721p"} {
		_, err := ParseGoal(text)
		require.ErrorContains(t, err, says, text)
	}
}
