package registry

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/picture"
)

// copied puts a foreign stream into a folder.
func copied(t *testing.T, name, to string) string {
	data, err := os.ReadFile(streams + name)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o777))
	require.NoError(t, os.WriteFile(to, data, 0o666))
	return to
}

func TestFilmsOfAFolder(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.264", "a.MKV", "deck/c.ts", "deck/notes.txt", ".hidden.mp4", "d.mp4.part"} {
		copied(t, "baseline-ip.264", filepath.Join(dir, name))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "e.mp4"), 0o777))
	paths, err := Find(dir)
	require.NoError(t, err)
	for i, want := range []string{"a.MKV", "b.264", "deck/c.ts"} {
		require.Equal(t, filepath.Join(dir, want), paths[i], "by the ends of names, in their order")
	}
	require.Len(t, paths, 3)
	_, err = Find(filepath.Join(dir, "absent"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestWhatIsNoFileToRead(t *testing.T) {
	dir := t.TempDir()
	empty := filepath.Join(dir, "empty.mp4")
	require.NoError(t, os.WriteFile(empty, nil, 0o666))
	letter := filepath.Join(dir, "letter.mkv")
	require.NoError(t, os.WriteFile(letter, []byte("Dear purser, the boxes are here."), 0o666))
	for path, says := range map[string]string{empty: "the file is empty", dir: "it is a folder", letter: "no video file of a kind that is read here", "/dev/null": "not an ordinary file"} {
		_, err := Open(path)
		require.ErrorContains(t, err, says)
		require.ErrorContains(t, err, path, "the error says where")
	}
}

// broken is a file whose disk fails.
type broken struct{}

func (broken) ReadAt([]byte, int64) (int, error) { return 0, errors.New("the disk is gone") }

func TestDiskThatFails(t *testing.T) {
	_, err := Read(broken{}, 1000)
	require.ErrorContains(t, err, "the disk is gone")
}

// What a raw stream does not say itself is told by its headers; the rest is taken as usual.
func TestVideoIsDescribed(t *testing.T) {
	f, err := Open(copied(t, "high10-420.264", filepath.Join(t.TempDir(), "a.264")))
	require.NoError(t, err)
	defer f.Close()
	require.True(t, f.ByteStream())
	require.False(t, f.Timed())
	for range 2 {
		track, err := Describe(t.Context(), f)
		require.NoError(t, err)
		require.Equal(t, [3]int{208, 160, 10}, [3]int{track.Format.Width, track.Format.Height, track.Format.Depth})
		require.Positive(t, track.Format.Rate.Num)
		var p media.Packet
		require.NoError(t, f.ReadPacket(&p), "it was rewound")
		require.True(t, p.Key)
	}
}

// A film that was written packet by packet, as MP4 has them, comes back from a transport
// stream with the same pictures.
func TestPacketsBecomeAByteStream(t *testing.T) {
	dir := t.TempDir()
	mp4Path := filepath.Join(dir, "a.mp4")
	from, err := Open(copied(t, "main-cabac-b.264", filepath.Join(dir, "a.264")))
	require.NoError(t, err)
	defer from.Close()
	target, err := ContainerFor(mp4Path)
	require.NoError(t, err)
	out, err := os.Create(mp4Path)
	require.NoError(t, err)
	_, err = Rewrap(t.Context(), from, target, out, false)
	require.NoError(t, err)
	require.NoError(t, out.Close())

	film, err := Open(mp4Path)
	require.NoError(t, err)
	defer film.Close()
	require.False(t, film.ByteStream())
	require.True(t, film.Timed())
	stream, err := ContainerFor("a.ts")
	require.NoError(t, err)
	out, err = os.Create(filepath.Join(dir, "a.ts"))
	require.NoError(t, err)
	w, err := Write(stream, out, film.Tracks(), 0)
	require.NoError(t, err)
	for {
		var p media.Packet
		err := film.ReadPacket(&p)
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		require.NoError(t, w.WritePacket(&p))
	}
	require.NoError(t, w.Close())
	require.NoError(t, out.Close())
	sums, times := decoded(t, filepath.Join(dir, "a.ts"), 1)
	require.Equal(t, codectest.Checksums(t, streams+"main-cabac-b.264"), sums)
	require.IsIncreasing(t, times)
}

func TestKindsThatAreNotWritten(t *testing.T) {
	_, err := ContainerFor("film.avi")
	require.ErrorContains(t, err, "no files of this kind are written here (.mp4, .mkv, .ts are)")
	c, err := ContainerFor("FILM.MP4")
	require.NoError(t, err)
	require.Equal(t, "mp4", c.Name)
}

// A file of varying frame rate counts with the usual rate nearest to its mean; one whose frames
// come at the rate that is stated with that.
func TestMeanRates(t *testing.T) {
	write := func(steps []int64) string {
		path := filepath.Join(t.TempDir(), "vfr.mkv")
		out, err := os.Create(path)
		require.NoError(t, err)
		e, err := h264.NewEncoder(media.EncoderSettings{Format: media.Format{Codec: "h264", Width: 64, Height: 64, Depth: 8, Chroma: picture.C420, Transfer: media.SDR, Rate: media.Rate{Num: 60, Den: 1}}, QP: 30, KeyEvery: 30}, nil)
		require.NoError(t, err)
		track, err := e.Track()
		require.NoError(t, err)
		track.Timescale = 1000
		muxer, err := MKV.Create(out, []media.Track{track}, 0)
		require.NoError(t, err)
		at := int64(0)
		e, err = h264.NewEncoder(media.EncoderSettings{Format: track.Format, QP: 30, KeyEvery: 30}, func(p *media.Packet) error {
			step := steps[int(p.PTS)%len(steps)]
			q := *p
			q.PTS, q.DTS, q.Duration = at, at, step
			at += step
			return muxer.WritePacket(&q)
		})
		require.NoError(t, err)
		for i := range 120 {
			require.NoError(t, e.Encode(picture.New(64, 64, 8, picture.C420), int64(i)))
		}
		require.NoError(t, errors.Join(e.Flush(), muxer.Close(), out.Close()))
		return path
	}
	for want, steps := range map[media.Rate][]int64{{Num: 25, Den: 1}: {17, 33, 70, 41}, {Num: 60, Den: 1}: {17, 16, 17}, {Num: 10, Den: 1}: {99, 103}} {
		f, err := Open(write(steps))
		require.NoError(t, err)
		defer f.Close()
		track, err := DescribeRate(t.Context(), f)
		require.NoError(t, err)
		require.Equal(t, want, track.Format.Rate, "%v", steps)
		var p media.Packet
		require.NoError(t, f.ReadPacket(&p))
		require.Zero(t, p.PTS, "it is rewound")
	}
}
