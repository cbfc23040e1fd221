package clip

import (
	"os"
	"path/filepath"
	"testing"

	"vividstrain/core/media"

	"github.com/stretchr/testify/require"
)

// A clip's name says all in which it differs from the usual.
func TestNamesTellOrdersApart(t *testing.T) {
	f := format(t, "h264 1080p25 10bit hdr 12M")
	for want, o := range map[string]Order{
		"h264-1080p25-10bit-hdr-12M-5s.mp4":                     {},
		"h264-1080p25-10bit-hdr-12M-5s-kelp-seed7.mkv":          {Scene: "kelp", Seed: 7, Container: "mkv"},
		"h264-1080p25-10bit-hdr-12M-5s-good-intra-slices4.ts":   {Container: "ts", Coding: Coding{Preset: media.Good, KeyEvery: 1, Slices: 4}},
		"h264-1080p25-10bit-hdr-12M-5s-key12-b3-ref2-cavlc.mp4": {Scene: "harbour", Coding: Coding{KeyEvery: 12, BFrames: 3, References: 2, CAVLC: true}},
		"h264-1080p25-10bit-hdr-12M-0.5s.mp4":                   {Seconds: 0.5, Coding: Coding{Slices: 1}},
	} {
		o.Format = f
		if o.Seconds == 0 {
			o.Seconds = 5
		}
		require.Equal(t, want, o.Name())
	}
}

func TestCodingInWords(t *testing.T) {
	for want, c := range map[string]Coding{
		"fast, key frame every 25, CABAC":                           {KeyEvery: 25},
		"good, key frames only, 4 slices, CAVLC":                    {Preset: media.Good, KeyEvery: 1, Slices: 4, CAVLC: true},
		"fast, key frame every 50, 3 B frames, 2 references, CABAC": {KeyEvery: 50, BFrames: 3, References: 2},
	} {
		require.Equal(t, want, c.String())
	}
}

// Entries are in the order of their names, and one that comes again takes the
// place of the old one.
func TestManifestKeepsOneEntryAFile(t *testing.T) {
	dir := t.TempDir()
	for i, file := range []string{"b.mp4", "a.mp4", "c.mp4", "a.mp4"} {
		require.NoError(t, note(dir, Entry{File: file, Frames: i}))
	}
	m, err := ReadManifest(dir)
	require.NoError(t, err)
	require.Len(t, m.Clips, 3)
	require.Equal(t, 3, m.Find("a.mp4").Frames)
	require.Equal(t, "c.mp4", m.Clips[2].File)
	require.Nil(t, m.Find("d.mp4"))
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, files, 1, "nothing is left behind")
}

// Whatever is in a manifest: it is read, or refused in a sentence, and names
// no file outside its folder.
func FuzzManifest(f *testing.F) {
	f.Add([]byte(`{"schema":"vividstrain.clips/1","clips":[{"file":"a.mp4","frames":5}]}`))
	f.Add([]byte(`{"schema":"vividstrain.clips/1","clips":[{"file":"../a.mp4"}]}`))
	f.Add([]byte(`{"clips":null}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, ManifestName), data, 0o666))
		m, err := ReadManifest(dir)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		for _, e := range m.Clips {
			require.Equal(t, filepath.Base(e.File), e.File)
		}
	})
}
