package browser

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/registry"
)

func browser(t testing.TB, folder string) *Browser {
	b, err := Start(context.Background(), folder)
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return b
}

// decodeOurs returns the SHA-1 of every picture.
func decodeOurs(t testing.TB, packets [][]byte, threads int, sum bool) (sums []string) {
	d, err := h264.NewDecoder(media.Track{}, threads)
	require.NoError(t, err)
	go func() {
		defer d.Drain()
		for _, p := range packets {
			if d.Send(context.Background(), &media.Packet{Data: p, PTS: media.NoTime}) != nil {
				return
			}
		}
	}()
	for {
		f, err := d.Receive(context.Background())
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		require.False(t, f.Damaged)
		text := ""
		if sum {
			text = Sum(f.Picture)
		}
		sums = append(sums, text)
		f.Release()
	}
	d.Close()
	return sums
}

// films are what the browser's encoder makes for the comparison.
var films = []Film{
	{Codec: "avc1.42001e", Width: 320, Height: 180, Rate: 25, Bitrate: 300_000, Frames: 250, Mode: "quality"},
	{Codec: "avc1.42001e", Width: 176, Height: 144, Rate: 50, Bitrate: 1_500_000, Frames: 250, Mode: "realtime", Noise: 0.3},
	{Codec: "avc1.4d001f", Width: 640, Height: 360, Rate: 30, Bitrate: 1_000_000, Frames: 250, Mode: "quality"},
	{Codec: "avc1.64001f", Width: 426, Height: 240, Rate: 30, Bitrate: 200_000, Frames: 300, Mode: "quality"},
	{Codec: "avc1.64001f", Width: 854, Height: 480, Rate: 60, Bitrate: 6_000_000, Frames: 250, Mode: "quality"},
	{Codec: "avc1.64001f", Width: 1280, Height: 720, Rate: 30, Bitrate: 4_000_000, Frames: 200, Mode: "realtime"},
	{Codec: "avc1.640028", Width: 1920, Height: 1080, Rate: 30, Bitrate: 12_000_000, Frames: 90, Mode: "quality"},
	{Codec: "avc1.64001f", Width: 332, Height: 214, Rate: 24, Bitrate: 800_000, Frames: 500, Mode: "quality"},
}

// Streams of the browser's own encoder decode to the same pictures there and
// here, bit by bit.
func TestBrowserDecodesTheSame(t *testing.T) {
	b := browser(t, t.TempDir())
	total := 0
	for _, film := range films {
		t.Run(fmt.Sprintf("%s %dx%d", film.Codec, film.Width, film.Height), func(t *testing.T) {
			made, err := b.Encode(film)
			require.NoError(t, err)
			packets := made.Packets
			require.Len(t, packets, film.Frames)
			theirs, err := b.Decode(film.Codec, packets, true)
			require.NoError(t, err)
			require.Len(t, theirs.Sums, film.Frames)
			require.Equal(t, theirs.Sums, decodeOurs(t, packets, 3, true))
			total += film.Frames
		})
	}
	require.GreaterOrEqual(t, total, 2000)
}

// The corpus' 8-bit 4:2:0 streams decode the same in the browser: the judge
// itself is sound.
func TestBrowserDecodesTheCorpus(t *testing.T) {
	b := browser(t, t.TempDir())
	for _, name := range []string{"high-640", "main-cabac-temporal", "high-8x8-cabac", "main-weighted", "high-mbaff-cabac"} {
		packets := split(t, "../../codec/h264/testdata/"+name+".264")
		theirs, err := b.Decode("avc1.640028", packets, true)
		require.NoError(t, err, name)
		require.Equal(t, theirs.Sums, decodeOurs(t, packets, 2, true), name)
	}
}

// split returns the packets of a raw stream.
func split(t testing.TB, path string) (packets [][]byte) {
	f, err := registry.Open(path)
	require.NoError(t, err)
	defer f.Close()
	for {
		var p media.Packet
		if err := f.ReadPacket(&p); err == io.EOF {
			return packets
		} else {
			require.NoError(t, err)
		}
		packets = append(packets, p.Data)
	}
}

// Files that our muxers write play to the end in the browser.
func TestBrowserPlaysOurFiles(t *testing.T) {
	dir := t.TempDir()
	b := browser(t, dir)
	for _, name := range []string{"high-640", "main-weighted", "high-opengop"} {
		for _, end := range []string{".mp4", ".mkv", "-fragments.mp4"} {
			f, err := registry.Open("../../codec/h264/testdata/" + name + ".264")
			require.NoError(t, err)
			out, err := os.Create(filepath.Join(dir, name+end))
			require.NoError(t, err)
			c, err := registry.ContainerFor(out.Name())
			require.NoError(t, err)
			fragmented := false
			if end == "-fragments.mp4" {
				fragmented = true
			}
			_, err = registry.Rewrap(t.Context(), f, c, out, fragmented)
			require.NoError(t, err)
			require.NoError(t, out.Close())
			require.NoError(t, f.Close())
			played, err := b.Play(name + end)
			require.NoError(t, err)
			require.True(t, played.Ended, "%s%s: %+v", name, end, played)
			require.Empty(t, played.Error, "%s%s", name, end)
			require.Positive(t, played.Frames, "%s%s", name, end)
		}
	}
}
