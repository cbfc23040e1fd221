package hevc

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/nal"
)

// packets splits a byte stream into packets, one for each frame, and says what its parser finds.
func packets(t *testing.T, file string) (list [][]byte, info media.StreamInfo) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	p := NewParser()
	var pending []byte
	for unit := range nal.ByteStream(data) {
		u, err := p.Unit(unit)
		require.NoError(t, err)
		pending = nal.AppendStartCode(pending, unit)
		if u.Begins {
			list = append(list, nil)
		}
		if u.Picture {
			last := len(list) - 1
			list[last], pending = append(list[last], pending...), nil
		}
	}
	p.End()
	require.Equal(t, len(list), p.Frames())
	return list, p.Info()
}

// Every stream shows the same pictures as packets of a file, and as a byte stream made of these.
func TestBothForms(t *testing.T) {
	for _, file := range corpus(t) {
		t.Run(filepath.Base(file), func(t *testing.T) {
			stream, info := packets(t, file)
			want := codectest.Checksums(t, file)
			require.Len(t, stream, len(want))
			track, pack, err := toPackets(media.Track{Codec: Name}, stream[0])
			require.NoError(t, err)
			require.Regexp(t, `^hvc1\.[1-4]\.[0-9A-F]+\.L\d+`, codecString(track))
			unpack, err := toByteStream(track)
			require.NoError(t, err)
			var packed, again [][]byte
			for i, data := range stream {
				p, err := pack(&media.Packet{Data: data, Key: i == 0})
				require.NoError(t, err)
				packed = append(packed, append([]byte(nil), p[0].Data...))
				b, err := unpack(&media.Packet{Data: packed[i], Key: i == 0})
				require.NoError(t, err)
				again = append(again, append([]byte(nil), b[0].Data...))
			}
			for _, form := range []struct {
				track   media.Track
				packets [][]byte
			}{{track, packed}, {media.Track{}, again}} {
				d, err := NewDecoder(form.track, 2)
				require.NoError(t, err)
				var got []string
				require.NoError(t, codectest.Decode(t, d, form.packets, func(f media.Frame) {
					got = append(got, f.MD5())
					require.Equal(t, []int{info.Format.Width, info.Format.Height}, []int{f.Width, f.Height})
				}))
				require.Equal(t, want, got)
			}
		})
	}
}

// Pictures without those to which no other refers are the same.
func TestDisposable(t *testing.T) {
	stream, _ := packets(t, "testdata/main-gops.265")
	drop := disposable(media.Track{})
	var kept [][]byte
	for _, data := range stream {
		if !drop(data) {
			kept = append(kept, data)
		}
	}
	require.Less(t, len(kept), len(stream))
	d, err := NewDecoder(media.Track{}, 1)
	require.NoError(t, err)
	whole, n := codectest.Checksums(t, "testdata/main-gops.265"), 0
	require.NoError(t, codectest.Decode(t, d, kept, func(f media.Frame) {
		require.Contains(t, whole, f.MD5())
		require.False(t, f.Damaged)
		n++
	}))
	require.Equal(t, len(kept), n)
}

// Records that are cut off, or not what they say, are errors.
func TestBrokenRecords(t *testing.T) {
	stream, _ := packets(t, "testdata/main-b.265")
	track, _, err := toPackets(media.Track{Codec: Name}, stream[0])
	require.NoError(t, err)
	for n := 1; n < len(track.Config); n += 7 {
		_, err := NewDecoder(media.Track{Config: track.Config[:n]}, 1)
		var format *media.FormatError
		require.ErrorAs(t, err, &format, n)
	}
	_, _, err = toPackets(media.Track{Codec: Name}, stream[1])
	require.ErrorContains(t, err, "does not begin with its parameter sets")
	require.Empty(t, codecString(media.Track{Config: track.Config[:5]}))
}

// What a playlist or a file's first bytes say is understood.
func TestRecognised(t *testing.T) {
	f, ok := parseCodecString("hvc1.2.4.L153.B0")
	require.True(t, ok)
	require.Equal(t, 10, f.Depth)
	f, ok = parseCodecString("hev1.1.6.L93")
	require.True(t, ok)
	require.Equal(t, 8, f.Depth)
	_, ok = parseCodecString("avc1.640028")
	require.False(t, ok)
	for _, file := range corpus(t) {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.True(t, match(data[:64]), file)
		require.False(t, match(data[40:64]), file)
	}
}
