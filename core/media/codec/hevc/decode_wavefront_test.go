package hevc

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/threads"
)

// Rows that are decoded beside each other come out as those that are decoded one after another, also
// where data are damaged.
func TestWavefronts(t *testing.T) {
	data, err := os.ReadFile("testdata/main-wpp.265")
	require.NoError(t, err)
	require.Equal(t, codectest.Checksums(t, "testdata/main-wpp.265")[0], waved(t, data, 4, nil))
	for at := 40; at < 4000; at += 97 {
		damage := func(rbsp []byte) {
			if at < len(rbsp) {
				rbsp[at] ^= 0x5A
			}
		}
		require.Equal(t, waved(t, data, 1, damage), waved(t, data, 4, damage), "byte %d", at)
	}
}

// waved decodes the first picture of a stream on one thread and others that help, and returns its MD5.
func waved(t *testing.T, data []byte, threadCount int, damage func(rbsp []byte)) string {
	var s stream
	done := ""
	w := &worker[byte]{k: fastKernels(), team: threads.NewTeam(threadCount)}
	w.team.Add(1)
	s.decode = func(f *frame) {
		if done != "" {
			return
		}
		for _, sl := range s.slices {
			if pos := sl.data.Pos(); damage != nil {
				sl.rbsp = bytes.Clone(sl.rbsp)
				damage(sl.rbsp[pos>>3:])
				sl.data = bits.NewReader(sl.rbsp)
				sl.data.Skip(pos)
			}
		}
		st := &state{}
		st.begin(f, s.layout)
		st.headers = s.headers
		decodePicture(w, st, &pictureTask{f: f, slices: s.slices})
		f.Advance(wholeFrame, 1<<30)
		require.Equal(t, threadCount > 1, len(w.helpers) > 1, "whether others helped")
		done = f.Picture.MD5()
	}
	for unit := range nal.ByteStream(data) {
		require.NoError(t, s.unit(unit, 0))
		if done != "" {
			break
		}
	}
	return done
}
