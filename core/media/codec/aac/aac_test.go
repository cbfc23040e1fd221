package aac

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
)

func TestThereAndBack(t *testing.T) {
	track := media.Track{Kind: media.Audio, Codec: Name, Config: []byte{0x11, 0x90}} // AAC LC, 48 kHz, stereo
	wrap, err := ADTS(track)
	require.NoError(t, err)
	data := wrap(nil, &media.Packet{Data: []byte("first")})
	require.Len(t, data, 12)
	data = wrap(data, &media.Packet{Data: make([]byte, 5000)})
	got, units, err := Split(media.Track{}, data)
	require.NoError(t, err)
	require.Equal(t, track.Config, got.Config)
	require.Equal(t, [2]int{48000, 2}, [2]int{got.Rate, got.Channels})
	require.Equal(t, [][]byte{[]byte("first"), make([]byte, 5000)}, units)
}

func TestWhatIsNoFrame(t *testing.T) {
	wrap, err := ADTS(media.Track{Config: []byte{0x12, 0x10}})
	require.NoError(t, err)
	data := wrap(nil, &media.Packet{Data: []byte("sound")})
	for cut := 1; cut < len(data); cut++ {
		_, _, err := Split(media.Track{}, data[:cut])
		var broken *media.FormatError
		require.ErrorAs(t, err, &broken, cut)
	}
	for _, config := range [][]byte{nil, {0}, {0xF8, 0}, {0x17, 0x80}} {
		_, err := ADTS(media.Track{Config: config})
		require.Error(t, err)
	}
}
